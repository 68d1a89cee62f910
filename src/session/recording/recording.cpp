#include "session/recording/recording.h"

#include <algorithm>
#include <array>
#include <filesystem>
#include <set>

#include <fmt/format.h>

#include "kernel/archive.h"
#include "kernel/file_writer.h"
#include "session/recording/section_file.h"

namespace bramix::session {

using kernel::fail;

namespace {

constexpr std::string_view kFirstLine = "Bramix recording 3\n";

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

// A section: its name, the version of its contents, whether a file without it is none, which share of the work it is, and what is in it. Another version is another
// layout: whoever changes what a section holds counts its version up here and in docs/recording-format.md.
struct Section {
    std::string_view name;
    std::uint16_t version;
    bool needed;
    double share;
    void (*save)(kernel::SaveArchive&, Recording&);
    void (*load)(kernel::LoadArchive&, Recording&);
};

template <class Put>
constexpr Section section(std::string_view name, std::uint16_t version, bool needed, double share, Put)
{
    return {name, version, needed, share, [](kernel::SaveArchive& ar, Recording& r) { Put()(ar, r); }, [](kernel::LoadArchive& ar, Recording& r) { Put()(ar, r); }};
}

constexpr std::array kSections{
    section("run ", 1, true, 0.01,
            [](auto& ar, Recording& r) {
                ar(r.seed, r.latest);
                r.canRunAgain = passed(ar, r.canRunAgain);
            }),
    section("bnch", 1, true, 0.02, [](auto& ar, Recording& r) { ar(r.bench, r.files); }),
    section("inpt", 1, true, 0.02, [](auto& ar, Recording& r) { putAll(ar, r.inputs); }),
    section("find", 1, false, 0.02, [](auto& ar, Recording& r) { putAll(ar, r.findings); }),
    section("mark", 1, false, 0.01, [](auto& ar, Recording& r) { ar(r.marks); }),
    section("seri", 1, false, 0.1, [](auto& ar, Recording& r) { putAll(ar, r.bytes); }),
    section("wave", 1, false, 0.1, [](auto& ar, Recording& r) { putAll(ar, r.waveforms); }),
    section("func", 1, false, 0.02, [](auto& ar, Recording& r) { ar(r.functions); }),
    section("tape", 1, true, 0.7, [](auto& ar, Recording& r) { ar(r.tape); }),
};

// An enumeration that was read may hold any number.
bool isSound(const Recording& r)
{
    return std::all_of(r.inputs.begin(), r.inputs.end(), [](const Input& i) { return i.kind <= Input::Kind::coreRegister && i.space <= debug::Space::eeprom && (i.kind != Input::Kind::poke || !i.text.empty()); })
        && std::all_of(r.findings.begin(), r.findings.end(), [](const Finding& f) { return f.severity <= bench::Severity::error; });
}

std::optional<std::string> refuse(std::string_view firstLine)
{
    if (firstLine == kFirstLine)
        return std::nullopt;
    return firstLine.starts_with("Bramix recording") ? "is a recording of another version of Bramix; this one reads version 3" : "is no recording of Bramix";
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
    auto out = kernel::FileWriter::create(file);
    if (!out)
        return tl::unexpected(out.error());
    SectionWriter writer(**out, kFirstLine);
    double done = 0;
    for (const Section& s : kSections) {
        kernel::SaveArchive ar;
        if (s.name == "tape")
            ar(tape_);  // it may be large, and is not copied
        else
            s.save(ar, r);
        const kernel::Snapshot bytes = ar.take();
        if (!writer.put(s.name, s.version, {reinterpret_cast<const char*>(bytes.data()), bytes.size()}, options_.progress, done, done + s.share))
            return fail(file, "was not saved: it was stopped");
        done += s.share;
    }
    writer.end();
    return (*out)->finish();
}

Result<Recording> readRecording(const std::string& file, kernel::Progress* progress)
{
    auto reader = SectionReader::open(file, refuse);
    if (!reader)
        return tl::unexpected(reader.error());
    Recording r;
    std::set<std::string_view> had;
    for (;;) {
        const auto head = reader->next();
        if (!head)
            return tl::unexpected(head.error());
        if (!*head)
            break;
        const auto known = std::find_if(kSections.begin(), kSections.end(), [&](const Section& s) { return s.name == (*head)->name; });
        if (known == kSections.end())
            continue;  // of a later version, which this one can do without
        if (!had.insert(known->name).second)
            return fail(file, fmt::format("has section \"{}\" twice", known->name));
        if ((*head)->version != known->version)
            return fail(file, fmt::format("has version {} of section \"{}\"; this version of Bramix reads version {}", (*head)->version, known->name, known->version));
        const auto bytes = reader->take(progress);
        if (!bytes)
            return tl::unexpected(bytes.error());
        try {
            kernel::LoadArchive ar(*bytes);
            known->load(ar, r);
            if (!ar.atEnd())
                return fail(file, fmt::format("has more in section \"{}\" than belongs there", known->name));
        } catch (const std::exception&) {
            return fail(file, fmt::format("has something in section \"{}\" that this version of Bramix does not know", known->name));
        }
    }
    for (const Section& s : kSections)
        if (s.needed && !had.contains(s.name))
            return fail(file, fmt::format("lacks section \"{}\"", s.name));
    if (!isSound(r))
        return fail(file, "has something in it that this version of Bramix does not know");
    return r;
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
