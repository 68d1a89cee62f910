#include "cli/decode_output.h"

#include <cerrno>
#include <cstring>

#include <fmt/format.h>

#include "session/lanes/read_lanes.h"

#include "kernel/files.h"

namespace bramix::cli {

using kernel::fail;

namespace {

// The time in seconds with all its picoseconds, whatever its size.
std::string exact(kernel::Time t)
{
    const std::int64_t picos = t.time_since_epoch().count();
    return fmt::format("{}.{:012}", picos / kernel::kPicosPerSecond, picos % kernel::kPicosPerSecond);
}

std::string quoted(const std::string& text)
{
    std::string out = "\"";
    for (const char c : text)
        out += c == '"' ? std::string("\"\"") : std::string(1, c);
    return out + "\"";
}

std::optional<bench::NetId> netOf(const session::Session& session, const std::string& line, bool bareChip)
{
    const bench::World& world = session.world();
    for (const std::string& name : {line, bareChip ? "mcu." + line : line})
        if (const auto ref = bench::parsePinRef(name))
            if (const auto pin = world.pin(*ref))
                return world.circuit().netOf(*pin);
    for (const bench::NetItem& net : session.document().nets)
        if (net.name == line && !net.pins.empty())
            if (const auto pin = world.pin(net.pins[0]))
                return world.circuit().netOf(*pin);
    return std::nullopt;
}

}  // namespace

DecodeOutput::~DecodeOutput()
{
    if (csv_ != nullptr && csv_ != stdout)
        std::fclose(csv_);
}

kernel::Result<void> DecodeOutput::open(session::Session& session, const std::vector<std::string>& specs, const std::string& file, bool bareChip)
{
    if (specs.empty())
        return file.empty() ? kernel::Result<void>{} : fail("--decoded", "says where to; expected --decode SPEC too");
    struct Wanted {
        std::string name;
        tape::DecoderSpec spec;
        std::unique_ptr<tape::Decoder> decoder;
        std::vector<std::optional<bench::NetId>> nets;
    };
    std::vector<Wanted> wanted;
    for (const std::string& text : specs) {
        const auto spec = tape::parseDecoderSpec(text);
        if (!spec)
            return fail("--decode", spec.error().text());
        Wanted w;
        w.name = text.substr(0, text.find(','));
        w.spec = *spec;
        w.decoder = std::move(*tape::makeDecoder(spec->kind, spec->options));
        for (const std::string& line : spec->lines) {
            w.nets.push_back(line.empty() ? std::nullopt : netOf(session, line, bareChip));
            if (!line.empty() && !w.nets.back())
                return fail("--decode", fmt::format("{}: \"{}\" is no pin or net of this bench", text, line));
        }
        wanted.push_back(std::move(w));
    }
    if (auto ok = openFile(file); !ok)
        return ok;
    for (Wanted& w : wanted) {
        session::PartLanguage* language = nullptr;
        if (auto devices = session::devicesOn(session, w.spec); !devices.empty()) {
            language = languages_.emplace_back(std::make_unique<session::PartLanguage>(std::move(devices))).get();
            language->out = [this, name = w.name](const tape::Decoded& item) { write(name, item); };
        }
        w.decoder->out = [this, language, name = w.name](const tape::Decoded& item) {
            write(name, item);
            if (language != nullptr)
                language->take(item);
        };
        session.decode(*w.decoder, w.nets);
        decoders_.push_back(std::move(w.decoder));
    }
    return {};
}

kernel::Result<void> DecodeOutput::openFile(const std::string& file)
{
    if (file.empty())
        return {};
    csv_ = file == "-" ? stdout : std::fopen(file.c_str(), "w");
    if (csv_ == nullptr)
        return fail(file, fmt::format("cannot be written: {}", std::strerror(errno)));
    kernel::putText(csv_, fmt::format("from_s,to_s,decoder,what,value,good,text\n"));
    return {};
}

kernel::Result<void> DecodeOutput::readTape(session::Session& session, const std::vector<std::string>& specs, const std::string& file)
{
    if (auto ok = openFile(file); !ok)
        return ok;
    for (const std::string& spec : specs) {
        const auto items = session::readAll(session, spec, kernel::Time{}, session.latest(), SIZE_MAX);
        if (!items)
            return fail("--decode", items.error().text());
        for (const tape::Decoded& item : *items)
            write(spec.substr(0, spec.find(',')), item);
    }
    return {};
}

void DecodeOutput::write(const std::string& name, const tape::Decoded& item)
{
    if (csv_ == nullptr)
        fmt::print(stderr, "{} s {}: {}{} {}\n", exact(item.from), name, item.good ? "" : "! ", item.what, item.text == item.what ? "" : item.text);
    else
        kernel::putText(csv_, fmt::format("{},{},{},{},{},{},{}\n", exact(item.from), exact(item.to), quoted(name), item.what, item.value, item.good ? 1 : 0, quoted(item.text)));
}

bool DecodeOutput::finish(kernel::Time now)
{
    for (const auto& decoder : decoders_)
        decoder->finish(now);
    return csv_ == nullptr || (std::fflush(csv_) == 0 && std::ferror(csv_) == 0);
}

}  // namespace bramix::cli
