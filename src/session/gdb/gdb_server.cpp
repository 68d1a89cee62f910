#include "session/gdb/gdb_server.h"

#include <algorithm>
#include <charconv>

#include <fmt/format.h>

#include "debug/arch/architecture.h"
#include "kernel/units.h"

namespace bramix::session {

namespace {

constexpr std::size_t kMostPoints = 1024;  // breakpoints and watches of one client
constexpr std::size_t kPacket = 4000;

std::string hexOf(std::string_view bytes)
{
    std::string out;
    for (const char c : bytes)
        out += fmt::format("{:02x}", static_cast<unsigned char>(c));
    return out;
}

std::string bytesOf(std::string_view hex)
{
    std::string out;
    for (std::size_t i = 0; i + 1 < hex.size(); i += 2) {
        unsigned value = 0;
        if (std::from_chars(hex.data() + i, hex.data() + i + 2, value, 16).ec != std::errc())
            return out;
        out += static_cast<char>(value);
    }
    return out;
}

// A hexadecimal number at the beginning of `text`, which it is cut off from, with one separator.
std::uint32_t number(std::string_view& text)
{
    std::uint32_t value = 0;
    const auto result = std::from_chars(text.data(), text.data() + text.size(), value, 16);
    text.remove_prefix(static_cast<std::size_t>(result.ptr - text.data()));
    if (!text.empty())
        text.remove_prefix(1);
    return value;
}

// A register's bytes as the chip has them in memory.
std::string bytesOfValue(std::uint64_t value, unsigned bits, bool bigEndian)
{
    std::string out;
    const unsigned bytes = (bits + 7) / 8;
    for (unsigned i = 0; i < bytes; ++i)
        out += fmt::format("{:02x}", (value >> (8 * (bigEndian ? bytes - 1 - i : i))) & 0xFFU);
    return out;
}

// What the target is, and its registers where a debugger cannot know them (GDB manual, appendix G).
std::string targetDescription(const chip::Device& device)
{
    std::string out = fmt::format("<?xml version=\"1.0\"?><!DOCTYPE target SYSTEM \"gdb-target.dtd\"><target version=\"1.0\"><architecture>{}</architecture>", device.debuggerArchitecture);
    std::string_view open;
    if (const auto feature = debug::architectureOf(device).debuggerFeature; feature != nullptr)
        for (const chip::CoreRegister& reg : device.coreRegisters) {
            if (reg.debuggerNumber < 0)
                continue;
            if (const std::string_view name = feature(reg); name != open) {
                out += fmt::format("{}<feature name=\"{}\">", open.empty() ? "" : "</feature>", name);
                open = name;
            }
            const char* type = reg.role == chip::CoreRole::programCounter ? "code_ptr" : reg.role == chip::CoreRole::stackPointer ? "data_ptr" : "int";
            out += fmt::format("<reg name=\"{}\" bitsize=\"{}\" regnum=\"{}\" type=\"{}\"/>", reg.name, reg.bits, reg.debuggerNumber, type);
        }
    return out + (open.empty() ? "" : "</feature>") + "</target>";
}

// Binary data: } escapes the byte after it.
std::string unescaped(std::string_view text)
{
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i)
        out += text[i] == '}' && i + 1 < text.size() ? static_cast<char>(text[++i] ^ 0x20) : text[i];
    return out;
}

}  // namespace

void GdbServer::begin()
{
    in_.clear();
    points_.clear();
    acknowledges_ = true;
    wants_ = Wants::stand;
    reason_ = "T05";
    sendStops();
}

void GdbServer::end()
{
    points_.clear();
    sendStops();
    wants_ = Wants::detach;
}

std::string GdbServer::packet(const std::string& text)
{
    unsigned sum = 0;
    for (const char c : text)
        sum += static_cast<unsigned char>(c);
    return last_ = fmt::format("${}#{:02x}", text, sum & 0xFFU);
}

std::string GdbServer::take(const std::string& bytes)
{
    in_ += bytes;
    std::string out;
    std::size_t at = 0;  // what lies before has been dealt with
    while (at < in_.size()) {
        const char c = in_[at];
        if (c == '\x03') {
            ++at;
            if (wants_ == Wants::run) {
                wants_ = Wants::stand;
                reason_ = "T02";
                out += packet(why());
            }
            continue;
        }
        if (c == '-')
            out += last_;
        if (c != '$') {
            ++at;
            continue;
        }
        const std::size_t end = in_.find('#', at);
        if (end == std::string::npos || end + 2 >= in_.size()) {
            // Longer than any packet that was offered: not this protocol.
            if (in_.size() - at > 4 * kPacket)
                at = in_.size();
            break;
        }
        const std::string body = in_.substr(at + 1, end - at - 1);
        unsigned sum = 0, told = 0;
        for (const char b : body)
            sum += static_cast<unsigned char>(b);
        (void)std::from_chars(in_.data() + end + 1, in_.data() + end + 3, told, 16);
        at = end + 3;
        if (acknowledges_) {
            if ((sum & 0xFFU) != told) {
                out += '-';
                continue;
            }
            out += '+';
        }
        out += answer(body);
        if (wants_ == Wants::detach || wants_ == Wants::kill)
            break;
    }
    in_.erase(0, at);
    return out;
}

std::string GdbServer::answer(const std::string& body)
{
    if (body == "QStartNoAckMode") {
        acknowledges_ = false;
        return packet("OK");
    }
    const std::string text = handle(body);
    // A run has no answer until it stops.
    return wants_ == Wants::run || (wants_ == Wants::kill && text.empty()) ? text : packet(text);
}

std::string GdbServer::handle(const std::string& body)
{
    if (body.empty())
        return {};
    std::string_view rest = std::string_view(body).substr(1);
    switch (body[0]) {
    case '?': return why();
    case '!': return "OK";
    case 'g': return registers();
    case 'G': {
        std::size_t at = 1;
        for (std::size_t r = 0; r < device().coreRegisters.size(); ++r) {
            const std::size_t digits = (device().coreRegisters[r].bits + 7) / 8 * 2;
            if (at + digits > body.size() || !setRegister(r, body.substr(at, digits)))
                return "E01";
            at += digits;
        }
        return "OK";
    }
    case 'p': {
        const auto r = device().registerNumbered(static_cast<int>(number(rest)));
        return r ? registerText(*r) : "E01";
    }
    case 'P': {
        const auto r = device().registerNumbered(static_cast<int>(number(rest)));
        return r && setRegister(*r, std::string(rest)) ? "OK" : "E01";
    }
    case 'm': {
        const std::uint32_t address = number(rest);
        return readMemory(address, std::min<std::uint32_t>(number(rest), kPacket / 2));
    }
    case 'M': {
        const std::uint32_t address = number(rest);
        (void)number(rest);
        return writeMemory(address, bytesOf(rest));
    }
    case 'X': {
        const std::uint32_t address = number(rest);
        const std::uint32_t length = number(rest);
        return length == 0 ? "OK" : writeMemory(address, unescaped(rest));
    }
    case 'c': case 'C': return resume(false);
    case 's': case 'S': return resume(true);
    case 'b': return body == "bs" ? back(true) : body == "bc" ? back(false) : std::string();
    case 'D': wants_ = Wants::detach; return "OK";
    case 'k': wants_ = Wants::kill; return {};
    case 'H': case 'T': return "OK";
    case 'Z': case 'z': {
        Point p;
        p.kind = static_cast<int>(number(rest));
        p.address = number(rest);
        p.length = std::max(1U, number(rest));
        if (p.kind > 4)
            return {};
        if (p.kind < 2)
            p.length = 1;  // an instruction, however long
        std::erase(points_, p);
        if (body[0] == 'Z' && points_.size() >= kMostPoints)
            return "E01";
        if (body[0] == 'Z')
            points_.push_back(p);
        sendStops();
        return "OK";
    }
    case 'q': return query(body);
    case 'v':
        if (body == "vCont?")
            return "vCont;c;C;s;S";
        if (body.starts_with("vCont;"))
            return resume(body[6] == 's' || body[6] == 'S');
        if (body.starts_with("vFlash"))
            return flash(body);
        if (body.starts_with("vKill")) {
            wants_ = Wants::kill;
            return "OK";
        }
        return {};
    default: return {};
    }
}

std::string GdbServer::query(const std::string& body)
{
    if (body.starts_with("qSupported"))
        return fmt::format("PacketSize={:x};QStartNoAckMode+;swbreak+;hwbreak+;ReverseStep+;ReverseContinue+;vContSupported+;qXfer:features:read+;qXfer:memory-map:read+", kPacket);
    if (body == "qAttached")
        return "1";
    if (body == "qC")
        return "QC1";
    if (body == "qfThreadInfo")
        return "m1";
    if (body == "qsThreadInfo")
        return "l";
    if (body.starts_with("qXfer:features:read:"))
        return transfer(targetDescription(device()), body);
    if (body.starts_with("qXfer:memory-map:read:"))
        return transfer(memoryMap(), body);
    if (body.starts_with("qRcmd,"))
        return monitor(bytesOf(std::string_view(body).substr(6)));
    return {};
}

std::string GdbServer::memoryMap() const
{
    std::string out = "<?xml version=\"1.0\"?><memory-map>";
    for (const chip::MemoryRegion& r : device().regions)
        out += r.kind == chip::RegionKind::flash ? fmt::format("<memory type=\"flash\" start=\"0x{:x}\" length=\"0x{:x}\"><property name=\"blocksize\">0x{:x}</property></memory>", r.debuggerBase, r.size, r.pageBytes)
                                                 : fmt::format("<memory type=\"ram\" start=\"0x{:x}\" length=\"0x{:x}\"/>", r.debuggerBase, r.size);
    return out + "</memory-map>";
}

// A part of a document, by the offset and length at the end of the request.
std::string GdbServer::transfer(const std::string& what, const std::string& body)
{
    std::string_view span = std::string_view(body).substr(body.rfind(':') + 1);
    const std::uint32_t from = number(span);
    const std::uint32_t length = number(span);
    if (from >= what.size())
        return "l";
    return (from + length >= what.size() ? "l" : "m") + what.substr(from, length);
}

// Registers.

std::string GdbServer::registerText(std::size_t index) const { return bytesOfValue(port().readRegister(index), device().coreRegisters[index].bits, device().bigEndian); }

std::string GdbServer::registers() const
{
    std::string out;
    for (std::size_t r = 0; r < device().coreRegisters.size(); ++r)
        out += registerText(r);
    return out;
}

bool GdbServer::setRegister(std::size_t index, const std::string& hex)
{
    const std::string bytes = bytesOf(hex);
    const std::size_t count = (device().coreRegisters[index].bits + 7) / 8;
    if (bytes.empty())
        return false;
    std::uint64_t value = 0;
    for (std::size_t i = 0; i < std::min(count, bytes.size()); ++i)
        value |= static_cast<std::uint64_t>(static_cast<unsigned char>(bytes[i])) << (8 * (device().bigEndian ? count - 1 - i : i));
    session_.setRegister(debugger_.chosen(), index, value);
    return true;
}

// Memory.

std::string GdbServer::readMemory(std::uint32_t address, std::uint32_t length) const
{
    std::string out;
    while (length > 0) {
        const chip::MemoryRegion* region = device().regionAt(address);
        if (region == nullptr)
            break;
        const std::uint64_t at = address - region->debuggerBase;
        std::vector<std::uint8_t> bytes(static_cast<std::size_t>(std::min<std::uint64_t>(length, region->size - at)));
        bytes.resize(port().read(region->space, region->begin + at, bytes));
        if (bytes.empty())
            break;
        for (const std::uint8_t b : bytes)
            out += fmt::format("{:02x}", b);
        address += static_cast<std::uint32_t>(bytes.size());
        length -= static_cast<std::uint32_t>(bytes.size());
    }
    return out.empty() && length > 0 ? "E14" : out;
}

std::string GdbServer::writeMemory(std::uint32_t address, const std::string& bytes)
{
    for (std::size_t i = 0; i < bytes.size(); ++i) {
        const std::uint64_t a = std::uint64_t{address} + i;
        const chip::MemoryRegion* region = device().regionAt(a);
        if (region == nullptr || region->kind == chip::RegionKind::flash)
            return "E14";
        session_.poke(debugger_.chosen(), static_cast<debug::Space>(region->space), static_cast<std::uint32_t>(region->begin + a - region->debuggerBase), static_cast<std::uint8_t>(bytes[i]));
    }
    return "OK";
}

// `load`: pages are erased, written, and then the chip has a new image.
std::string GdbServer::flash(const std::string& body)
{
    std::string_view rest = body;
    const chip::MemoryRegion* region = device().regionOf(chip::RegionKind::flash);
    if (region == nullptr)
        return "E.memtype";
    if (newFlash_.empty()) {
        newFlash_.resize(region->size);
        newFlash_.resize(port().read(region->space, region->begin, newFlash_));
    }
    const auto inside = [&](std::uint64_t address, std::size_t length) { return address <= newFlash_.size() && length <= newFlash_.size() - address; };
    if (body.starts_with("vFlashErase:")) {
        rest.remove_prefix(12);
        const std::uint64_t address = number(rest) - region->debuggerBase;
        const std::uint32_t length = number(rest);
        if (!inside(address, length))
            return "E.memtype";
        std::fill_n(newFlash_.begin() + static_cast<std::ptrdiff_t>(address), length, std::uint8_t{0xFF});
        return "OK";
    }
    if (body.starts_with("vFlashWrite:")) {
        rest.remove_prefix(12);
        const std::uint64_t address = number(rest) - region->debuggerBase;
        const std::string bytes = unescaped(rest);
        if (!inside(address, bytes.size()))
            return "E.memtype";
        std::copy(bytes.begin(), bytes.end(), newFlash_.begin() + static_cast<std::ptrdiff_t>(address));
        return "OK";
    }
    if (body == "vFlashDone") {
        session_.writeFlash(debugger_.chosen(), newFlash_);
        newFlash_.clear();
        return "OK";
    }
    return {};
}

// Running.

void GdbServer::sendStops()
{
    std::vector<bench::StopItem> items;
    for (const Point& p : points_) {
        bench::StopItem item;
        item.chip = session_.world().chips()[debugger_.chosen()].id;
        const chip::MemoryRegion* region = device().regionAt(p.address);
        const std::uint64_t at = region == nullptr ? p.address : region->begin + p.address - region->debuggerBase;
        if (p.kind < 2)
            item.at = fmt::format("0x{:04x}", at);
        else
            item.at = fmt::format("{} 0x{:04x}:{}", p.kind == 2 ? "write" : p.kind == 3 ? "read" : "access", at, p.length);
        items.push_back(std::move(item));
    }
    debugger_.setStops(items);
}

std::string GdbServer::resume(bool step)
{
    reason_ = "T05";
    if (session_.world().faulted())
        return reason_ = "T04";
    if (step) {
        if (!debugger_.begin(Step::instruction))
            return reason_ = "T05";
    } else {
        debugger_.begin();
    }
    wants_ = Wants::run;
    return {};
}

std::string GdbServer::back(bool step)
{
    const auto ok = step ? debugger_.back(Step::instruction) : debugger_.backToStop();
    if (ok)
        return reason_ = "T05";
    // The beginning of what is remembered.
    if (!step)
        (void)debugger_.goTo(session_.earliest());
    return reason_ = "T05replaylog:begin;";
}

std::string GdbServer::why() const { return reason_.starts_with("T") && reason_.size() == 3 ? reason_ + "thread:1;" : reason_; }

std::string GdbServer::stopped()
{
    wants_ = Wants::stand;
    const StopReport& report = debugger_.report();
    reason_ = "T05";
    if (session_.world().faulted()) {
        reason_ = "T04";
        return packet("O" + hexOf(session_.faultText() + "\n")) + packet(why());
    }
    if (report.stop < points_.size()) {
        const Point& p = points_[report.stop];
        if (p.kind >= 2)
            reason_ = fmt::format("T05{}:{:x};", p.kind == 2 ? "watch" : p.kind == 3 ? "rwatch" : "awatch", p.address);
        else
            reason_ = p.kind == 0 ? "T05swbreak:;" : "T05hwbreak:;";
    }
    return packet(why());
}

std::string GdbServer::finished(int code)
{
    wants_ = Wants::detach;
    return packet(fmt::format("W{:02x}", code & 0xFF));
}

std::string GdbServer::monitor(const std::string& line)
{
    const std::size_t space = line.find(' ');
    const std::string command = line.substr(0, space);
    const std::size_t first = line.find_first_not_of(' ', std::min(space, line.size()));
    const std::string rest = first == std::string::npos ? std::string() : line.substr(first);
    const auto say = [](const std::string& text) { return hexOf(text + "\n"); };
    if (command == "reset") {
        const auto ok = session_.setControl(session_.world().chips()[debugger_.chosen()].id, "RESET", 0);
        if (!ok)
            return say(ok.error().text());
        session_.advance(session_.world().now() + std::chrono::microseconds(10));
        (void)session_.setControl(session_.world().chips()[debugger_.chosen()].id, "RESET", 1);
        return say("reset; now: flushregs");
    }
    if (command == "time")
        return say(fmt::format("{}, cycle {}", kernel::formatClock(session_.world().now()), port().cycles()));
    if (command == "pin") {
        const auto ref = bench::parsePinRef(rest.find('.') == std::string::npos ? session_.world().chips()[debugger_.chosen()].id + "." + rest : rest);
        const auto pin = ref ? session_.world().pin(*ref) : std::nullopt;
        if (!pin)
            return say(fmt::format("{} is no pin of this bench", rest));
        static constexpr const char* kStates[] = {"low", "high", "floating", "between the thresholds", "driven against each other"};
        const circuit::Circuit& circuit = session_.world().circuit();
        const circuit::NetId net = circuit.netOf(*pin);
        return say(fmt::format("{} is {}, {}", ref->text(), kStates[static_cast<int>(circuit.stateOf(net))], kernel::formatQuantity(circuit.voltage(net).value, kernel::Unit::volt, 4)));
    }
    if (command == "set") {
        const std::size_t split = rest.rfind(' ');
        const auto ref = bench::parsePinRef(rest.substr(0, split));
        if (!ref || split == std::string::npos)
            return say("expected: monitor set PART.CONTROL VALUE");
        char* end = nullptr;
        const double value = std::strtod(rest.c_str() + split + 1, &end);
        if (end == rest.c_str() + split + 1)
            return say(fmt::format("\"{}\" is not a number", rest.substr(split + 1)));
        const auto ok = session_.setControl(ref->part, ref->pin, value);
        return say(ok ? fmt::format("{} is {:g}", ref->text(), value) : ok.error().text());
    }
    if (command == "changed") {
        const auto ok = debugger_.backToChange(rest);
        return say(ok ? fmt::format("at {}", kernel::formatClock(session_.world().now())) : ok.error().text());
    }
    return say("monitor reset                     reset the chip by its reset line\n"
               "monitor time                      simulated time and cycle\n"
               "monitor pin NAME                  level and voltage of a pin: PB3 or part.pin\n"
               "monitor set PART.CONTROL VALUE    move a live control\n"
               "monitor changed WHAT              back to the last change of a variable or pin (then: flushregs)");
}

}  // namespace bramix::session
