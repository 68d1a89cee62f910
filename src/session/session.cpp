#include "session/session.h"

#include <algorithm>

#include <fmt/format.h>

namespace bramix::session {

using bench::World;

Session::~Session() { (void)saveEeprom(); }

Result<std::unique_ptr<Session>> Session::open(bench::Document document, const bench::Catalogue& catalogue, const SessionOptions& options)
{
    std::unique_ptr<Session> session(new Session(catalogue, options));
    auto world = session->buildWorld(document);
    if (!world)
        return tl::unexpected(world.error());
    session->document_ = std::move(document);
    session->takeWorld(std::move(*world));
    return session;
}

Result<std::unique_ptr<World>> Session::buildWorld(const bench::Document& document)
{
    building_ = true;
    auto world = World::build(document, catalogue_, {options_.seed, options_.folder}, this);
    building_ = false;
    return world;
}

// From here on the world's nets are the tape's channels.
void Session::takeWorld(std::unique_ptr<World> world)
{
    world_ = std::move(world);
    mapChannels();
    readSymbols();
    attachProbes();
}

void Session::mapChannels()
{
    channelOfNet_.clear();
    const circuit::Circuit& circuit = world_->circuit();
    for (std::uint32_t i = 0; i < circuit.netCount(); ++i) {
        const circuit::NetId net{i};
        const tape::ChannelId channel = tape_.channel(circuit.name(net));
        channelOfNet_.push_back(channel);
        const auto state = static_cast<tape::State>(circuit.stateOf(net));
        if (options_.record && tape_.stateAt(channel, kernel::kNever) != state)
            tape_.record(channel, {world_->now(), UINT32_MAX, UINT16_MAX, state});
    }
}

void Session::readSymbols()
{
    for (const World::ChipUnit& unit : world_->chips()) {
        if (symbolFile_[unit.id] == unit.firmwareFile && !unit.firmwareFile.empty())
            continue;
        symbolFile_[unit.id] = unit.firmwareFile;
        symbols_[unit.id] = unit.firmware.isElf ? debug::Symbols::fromElf(unit.firmwareFile) : debug::Symbols();
    }
}

Result<void> Session::setControl(const std::string& part, const std::string& control, double value)
{
    auto done = world_->setControl(part, control, value);
    if (done)
        inputs_.push_back({Input::Kind::control, world_->now(), part + "." + control, {}, value});
    return done;
}

Result<void> Session::replacePart(const std::string& part)
{
    auto done = world_->replacePart(part);
    if (done)
        inputs_.push_back({Input::Kind::replace, world_->now(), part, {}, 0});
    return done;
}

void Session::send(std::size_t uart, const std::string& bytes)
{
    inputs_.push_back({Input::Kind::send, world_->now(), world_->uarts()[uart].name, bytes, 0});
    world_->send(uart, bytes);
}

Result<void> Session::loadFirmware(const std::string& chip, const std::string& file)
{
    for (std::size_t i = 0; i < world_->chips().size(); ++i) {
        if (world_->chips()[i].id != chip)
            continue;
        auto done = world_->loadFirmware(i, file);
        if (done) {
            inputs_.push_back({Input::Kind::firmware, world_->now(), chip, file, 0});
            symbolFile_.erase(chip);
            readSymbols();
        }
        return done;
    }
    return kernel::fail(chip, "is not a chip on this bench");
}

Result<void> Session::edit(bench::Document document)
{
    auto fresh = buildWorld(document);
    if (!fresh)
        return tl::unexpected(fresh.error());
    building_ = true;
    (*fresh)->adopt(*world_);
    building_ = false;
    document_ = std::move(document);
    inputs_.push_back({Input::Kind::edit, world_->now(), {}, {}, 0});
    takeWorld(std::move(*fresh));
    return {};
}

Result<void> Session::saveEeprom()
{
    for (std::size_t i = 0; world_ != nullptr && i < world_->chips().size(); ++i) {
        const World::ChipUnit& unit = world_->chips()[i];
        const std::string file = world_->eepromFile(i);
        const std::uint64_t revision = unit.chip->eeprom().revision();
        if (file.empty() || revision == eepromSaved_[unit.id])
            continue;
        if (auto ok = bench::saveText(file, chip::writeIntelHex(unit.chip->eeprom().contents())); !ok)
            return ok;
        eepromSaved_[unit.id] = revision;
    }
    return {};
}

Result<void> Session::restart()
{
    if (auto ok = saveEeprom(); !ok)
        return ok;
    eepromSaved_.clear();
    auto fresh = buildWorld(document_);
    if (!fresh)
        return tl::unexpected(fresh.error());
    const std::unique_ptr<World> old = std::move(world_);
    tape_.clear();
    for (auto& [ref, waveform] : waveforms_)
        waveform.clear();
    inputs_.clear();
    symbolFile_.clear();
    takeWorld(std::move(*fresh));
    for (const bench::PartItem& part : document_.parts)
        if (const bench::PartKind* kind = catalogue_.find(part.kind))
            for (const bench::ControlKind& control : kind->controls)
                if (control.type != "hold")
                    if (const double value = old->control(part.id, control.name); value != control.standard)
                        (void)setControl(part.id, control.name, value);
    return {};
}

debug::Place Session::place(const std::string& chip, std::uint32_t code) const
{
    const auto found = symbols_.find(chip);
    return found == symbols_.end() ? debug::Place{} : found->second.at(code);
}

std::vector<Finding> Session::findings() const
{
    std::vector<Finding> out = world_->findings();
    for (Finding& f : out)
        if (f.code)
            f.source = place(f.chip, *f.code).brief();
    for (Finding& f : out)
        if (f.otherCode)
            f.otherSource = place(f.otherChip, *f.otherCode).brief();
    return out;
}

std::string Session::faultText() const
{
    for (const World::ChipUnit& unit : world_->chips()) {
        if (!unit.chip->faulted())
            continue;
        const chip::avr::Fault& fault = unit.chip->cpu().fault;
        std::string what;
        switch (fault.kind) {
        case chip::avr::FaultKind::none: break;
        case chip::avr::FaultKind::undefinedInstruction:
            what = fmt::format("undefined instruction 0x{:04x}", unit.chip->cpu().flash()[fault.pc]);
            break;
        case chip::avr::FaultKind::erasedFlash: what = "execution of erased flash"; break;
        case chip::avr::FaultKind::outsideFlash: what = fmt::format("execution outside flash, at 0x{:04x}", fault.address); break;
        case chip::avr::FaultKind::outsideData: what = fmt::format("access outside data memory, at 0x{:04x}", fault.address); break;
        }
        std::string text = fmt::format("{}: {}, by the instruction at 0x{:04x}, cycle {}", unit.id, what, fault.pc * 2, fault.cycle);
        const std::string where = place(unit.id, fault.pc * 2).full();
        return where.empty() ? text : text + ", in " + where;
    }
    return {};
}

tape::ChannelId Session::channelOf(const bench::PinRef& ref) const
{
    const auto pin = world_->pin(ref);
    return pin ? channelOfNet_[static_cast<std::size_t>(world_->circuit().netOf(*pin))] : UINT32_MAX;
}

Result<void> Session::startVcd(const std::string& file, const std::vector<bench::NetId>& nets, const std::vector<std::string>& names)
{
    std::vector<tape::State> initial;
    vcdOfNet_.assign(world_->circuit().netCount(), {});
    for (std::size_t i = 0; i < nets.size(); ++i) {
        initial.push_back(static_cast<tape::State>(world_->circuit().stateOf(nets[i])));
        vcdOfNet_[static_cast<std::size_t>(nets[i])].push_back(static_cast<std::uint32_t>(i));
    }
    auto writer = tape::VcdWriter::create(file, names, initial);
    if (!writer)
        return tl::unexpected(writer.error());
    vcd_ = std::move(*writer);
    return {};
}

bool Session::finishVcd()
{
    const bool good = vcd_ == nullptr || vcd_->finish(world_->now());
    vcd_.reset();
    return good;
}

void Session::setProbes(const std::vector<bench::PinRef>& pins)
{
    // What is under way goes to those who are still there to take it.
    world_->flushProbes();
    waveformsOfNet_.clear();
    std::erase_if(waveforms_, [&](const auto& w) { return std::find(pins.begin(), pins.end(), w.first) == pins.end(); });
    for (const bench::PinRef& pin : pins)
        waveforms_.try_emplace(pin);
    attachProbes();
}

void Session::attachProbes()
{
    world_->flushProbes();
    for (const auto& [ref, id] : world_->pins())
        world_->probe(id, nullptr);
    waveformsOfNet_.clear();
    for (auto& [ref, waveform] : waveforms_)
        if (const auto pin = world_->pin(ref)) {
            waveformsOfNet_[static_cast<std::uint32_t>(world_->circuit().netOf(*pin))].push_back(&waveform);
            world_->probe(*pin, this);
        }
}

const tape::Waveform* Session::waveform(const bench::PinRef& pin)
{
    world_->flushProbes();
    const auto found = waveforms_.find(pin);
    return found == waveforms_.end() ? nullptr : &found->second;
}

void Session::piece(bench::NetId net, Time from, Time to, const std::function<double(Time)>& volts, bool constant)
{
    if (building_)
        return;
    for (tape::Waveform* w : waveformsOfNet_[static_cast<std::uint32_t>(net)])
        w->add(from, to, volts, constant);
}

void Session::edge(bench::NetId net, bench::NetState state, Time at, bench::Cause cause)
{
    if (building_)
        return;
    const auto index = static_cast<std::size_t>(net);
    if (options_.record)
        tape_.record(channelOfNet_[index], {at, cause.code, static_cast<std::uint16_t>(cause.actor), static_cast<tape::State>(state)});
    if (vcd_ != nullptr)
        for (const std::uint32_t signal : vcdOfNet_[index])
            vcd_->change(signal, at, static_cast<tape::State>(state));
}

void Session::serialByte(std::size_t uart, std::uint8_t byte, bool good, bool fromChip, Time at)
{
    if (onSerial)
        onSerial({at, static_cast<std::uint32_t>(uart), byte, good, fromChip});
}

void Session::finding(const Finding& f)
{
    if (!onFinding)
        return;
    Finding full = f;
    if (f.code)
        full.source = place(f.chip, *f.code).brief();
    onFinding(full);
}

void Session::interrupt(std::size_t, std::uint8_t, Time) {}

}  // namespace bramix::session
