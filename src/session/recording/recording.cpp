#include "session/recording/recording.h"

#include <algorithm>
#include <array>
#include <filesystem>
#include <fstream>
#include <iterator>

#include <fmt/format.h>

#include "kernel/archive.h"

#include "kernel/file_writer.h"

namespace bramix::session {

using kernel::fail;

namespace {

constexpr std::string_view kMagic = "Bramix recording 2\n";

constexpr std::size_t kBlock = 4U << 20U;  // between two looks at whether to stop

// Block by block to take(block), from one share of the progress to another; false where it was stopped.
template <class Take>
bool inBlocks(std::string_view bytes, kernel::Progress* progress, double from, double to, Take&& take)
{
    for (std::size_t at = 0; at < bytes.size(); at += kBlock) {
        if (progress != nullptr && progress->stopped())
            return false;
        if (progress != nullptr)
            progress->at(from + (to - from) * static_cast<double>(at) / static_cast<double>(bytes.size()));
        take(bytes.substr(at, kBlock));
    }
    return true;
}

// ISO 3309, the polynomial 0xEDB88320; begun with 0xFFFFFFFF, and turned over at the end.
std::uint32_t checkSum(std::uint32_t c, std::string_view bytes)
{
    static const auto table = [] {
        std::array<std::uint32_t, 256> t{};
        for (std::uint32_t i = 0; i < 256; ++i) {
            std::uint32_t c = i;
            for (int k = 0; k < 8; ++k)
                c = (c & 1) != 0 ? 0xEDB88320U ^ (c >> 1) : c >> 1;
            t[i] = c;
        }
        return t;
    }();
    for (const char b : bytes)
        c = table[(c ^ static_cast<std::uint8_t>(b)) & 0xFFU] ^ (c >> 8);
    return c;
}

// A byte of a file may hold anything; a bool may not.
template <class Archive>
bool passed(Archive& ar, bool value)
{
    std::uint8_t byte = value ? 1 : 0;
    ar(byte);
    return byte != 0;
}

// Structures of other rooms that have no state of their own: their fields, both ways.
template <class Archive>
void put(Archive& ar, Input& i)
{
    ar(i.kind, i.at, i.target, i.text, i.value, i.space);
}
template <class Archive>
void put(Archive& ar, Finding& f)
{
    ar(f.severity, f.rule, f.where, f.message, f.time, f.code, f.chip, f.otherCode, f.otherChip, f.otherSource, f.source);
    f.wiring = passed(ar, f.wiring);
    ar(f.muted);
}
template <class Archive>
void put(Archive& ar, SerialByte& b)
{
    ar(b.at, b.uart, b.byte);
    b.good = passed(ar, b.good);
    b.fromChip = passed(ar, b.fromChip);
    ar(b.code);
}
template <class Archive>
void put(Archive& ar, std::pair<bench::PinRef, tape::Waveform>& w)
{
    ar(w.first.part, w.first.pin, w.second);
}
template <class Archive, class T>
void putAll(Archive& ar, std::vector<T>& list)
{
    std::uint64_t count = list.size();
    ar(count);
    if constexpr (Archive::kLoading) {
        list.clear();
        for (std::uint64_t i = 0; i < count; ++i)
            put(ar, list.emplace_back());
    } else {
        for (T& item : list)
            put(ar, item);
    }
}

// All of it but the tape, which may be large and is not copied.
template <class Archive>
void putHead(Archive& ar, Recording& r)
{
    ar(r.bench, r.files, r.seed, r.latest);
    r.canRunAgain = passed(ar, r.canRunAgain);
    ar(r.marks);
    putAll(ar, r.inputs);
    putAll(ar, r.findings);
    putAll(ar, r.bytes);
    putAll(ar, r.waveforms);
    ar(r.functions);
}

}  // namespace

Result<void> Session::saveRecording(const std::string& file, const std::vector<std::pair<Time, std::string>>& marks)
{
    if (!options_.record)
        return fail(file, "cannot be written: this run is not recorded");
    Recording r;
    r.bench = bench::writeDocument(document_);
    r.files = beginnings_;
    r.seed = options_.seed;
    r.latest = latest();
    r.inputs = inputs_;
    r.canRunAgain = !onlyLooked_ && std::none_of(inputs_.begin(), inputs_.end(), [](const Input& i) { return i.kind == Input::Kind::edit || i.kind == Input::Kind::firmware; });
    r.findings = findings();
    r.marks = marks;
    for (std::uint64_t i = serialLog_.first(); i < serialLog_.end(); ++i)
        r.bytes.push_back(serialLog_[i]);
    world_->flushProbes();
    for (const auto& [pin, waveform] : waveforms_)
        r.waveforms.emplace_back(pin, waveform);
    r.functions = functionTimes_->logs(behind_);
    kernel::SaveArchive ar;
    putHead(ar, r);
    ar(tape_);
    const kernel::Snapshot payload = ar.take();
    const std::string_view bytes(reinterpret_cast<const char*>(payload.data()), payload.size());
    const std::uint64_t size = bytes.size();
    const auto stopped = fail(file, "was not saved: it was stopped");
    std::uint32_t sum = 0xFFFFFFFFU;
    if (!inBlocks(bytes, options_.progress, 0.2, 0.5, [&](std::string_view block) { sum = checkSum(sum, block); }))
        return stopped;
    sum ^= 0xFFFFFFFFU;
    auto out = kernel::FileWriter::create(file);
    if (!out)
        return tl::unexpected(out.error());
    (*out)->put(kMagic);
    (*out)->put({reinterpret_cast<const char*>(&size), sizeof size});
    (*out)->put({reinterpret_cast<const char*>(&sum), sizeof sum});
    if (!inBlocks(bytes, options_.progress, 0.5, 1, [&](std::string_view block) { (*out)->put(block); }))
        return stopped;
    return (*out)->finish();
}

Result<Recording> readRecording(const std::string& file, kernel::Progress* progress)
{
    std::ifstream in(file, std::ios::binary);
    if (!in)
        return fail(file, "cannot be read");
    std::string magic(kMagic.size(), '\0');
    std::uint64_t size = 0;
    std::uint32_t sum = 0;
    in.read(magic.data(), static_cast<std::streamsize>(magic.size()));
    if (!in || magic != kMagic)
        return fail(file, magic.starts_with("Bramix recording") ? "is a recording of another version of Bramix; this one reads version 2" : "is no recording of Bramix");
    in.read(reinterpret_cast<char*>(&size), sizeof size);
    in.read(reinterpret_cast<char*>(&sum), sizeof sum);
    std::error_code none;
    const std::uint64_t there = std::filesystem::file_size(file, none);
    if (!in || none || there != kMagic.size() + sizeof size + sizeof sum + size)
        return fail(file, "is not whole: it was cut off, or something was added");
    kernel::Snapshot payload(size);
    std::uint32_t now = 0xFFFFFFFFU;
    const std::string_view bytes(reinterpret_cast<const char*>(payload.data()), payload.size());
    const bool whole = inBlocks(bytes, progress, 0, 0.6, [&](std::string_view block) {
        in.read(const_cast<char*>(block.data()), static_cast<std::streamsize>(block.size()));
        now = checkSum(now, block);
    });
    if (!whole)
        return fail(file, "was not opened: it was stopped");
    if (!in || (now ^ 0xFFFFFFFFU) != sum)
        return fail(file, "is damaged: its check sum is another");
    try {
        Recording r;
        kernel::LoadArchive ar(payload);
        putHead(ar, r);
        ar(r.tape);
        if (!ar.atEnd())
            return fail(file, "has more in it than this version of Bramix knows");
        const bool sound = std::all_of(r.inputs.begin(), r.inputs.end(), [](const Input& i) { return i.kind <= Input::Kind::pc && i.space <= debug::Space::eeprom && (i.kind != Input::Kind::poke || !i.text.empty()); })
            && std::all_of(r.findings.begin(), r.findings.end(), [](const Finding& f) { return f.severity <= bench::Severity::error; });
        if (!sound)
            return fail(file, "has something in it that this version of Bramix does not know");
        return r;
    } catch (const std::exception&) {
        return fail(file, "has something in it that this version of Bramix does not know");
    }
}

void Session::adopt(Recording recording)
{
    tape_.takeFrom(std::move(recording.tape));
    mapChannels(false);
    functionTimes_->stop();
    functionTimes_->setLogs(std::move(recording.functions));
    listenToFunctions();
    serialLog_.clear();
    for (const SerialByte& b : recording.bytes)
        if (b.uart < world_->uarts().size() || b.uart == kRewound)
            serialLog_.add(b);
    inputs_ = std::move(recording.inputs);
    applied_ = 0;
    recorded_ = std::move(recording.findings);
    for (auto& [pin, waveform] : recording.waveforms)
        waveforms_[pin] = std::move(waveform);
    latest_ = recording.latest;
    behind_ = world_->now() < latest_;
    onlyLooked_ = !recording.canRunAgain;
    beginnings_ = std::move(recording.files);
    ++course_;
}

Result<std::string> unpackBench(const Recording& recording, const std::string& folder)
{
    auto document = bench::parseDocument("recording", recording.bench);
    if (!document)
        return tl::unexpected(document.error());
    std::error_code trouble;
    std::filesystem::create_directories(folder, trouble);
    if (trouble)
        return fail(folder, "could not be made: " + trouble.message());
    // Beside the bench, whatever place they had.
    std::map<std::string, std::string> newName;
    for (std::size_t i = 0; i < recording.files.size(); ++i) {
        const BenchFile& f = recording.files[i];
        const std::string plain = std::filesystem::path(f.name).filename().string();
        const bool taken = std::any_of(newName.begin(), newName.end(), [&](const auto& n) { return n.second == plain; }) || plain == "bench.toml";
        newName[f.name] = taken ? fmt::format("{}-{}", i, plain) : plain;
        if (auto ok = bench::saveText(folder + "/" + newName[f.name], f.bytes); !ok)
            return tl::unexpected(ok.error());
    }
    const auto rename = [&](std::string& name) {
        if (const auto there = newName.find(name); there != newName.end())
            name = there->second;
    };
    for (bench::PartItem& part : document->parts) {
        rename(part.firmware);
        for (auto& [setting, value] : part.set)
            rename(value);
        for (auto& [control, follow] : part.follow)
            rename(follow.csv);
    }
    const std::string file = folder + "/bench.toml";
    if (auto ok = bench::saveText(file, bench::writeDocument(*document)); !ok)
        return tl::unexpected(ok.error());
    return file;
}

}  // namespace bramix::session
