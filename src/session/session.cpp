#include "session/session.h"

#include <algorithm>

#include <fmt/format.h>

#include "debug/code_functions.h"
#include "session/profile/function_times.h"
#include "session/lanes/lane_logs.h"

namespace bramix::session {

using bench::World;

Session::Session(const bench::Catalogue& catalogue, const SessionOptions& options)
    : catalogue_(catalogue), options_(options), tape_(options.tapeBytes), history_(options.historyBytes), laneLogs_(std::make_unique<LaneLogs>()), functionTimes_(std::make_unique<FunctionTimes>()), tapeBytes_(options.tapeBytes)
{
    setTapeBytes(tapeBytes_);
}

Session::~Session() { (void)saveEeprom(); }

Result<std::unique_ptr<Session>> Session::open(bench::Document document, const bench::Catalogue& catalogue, const SessionOptions& options)
{
    std::unique_ptr<Session> session(new Session(catalogue, options));
    auto world = session->buildWorld(document, {}, options.keepGoing);
    if (!world)
        return tl::unexpected(world.error());
    session->document_ = std::move(document);
    if (options.record)
        session->beginnings_ = benchFiles(session->document_, {options.folder, options.confined, options.allowed});
    session->takeWorld(std::move(*world));
    session->remember();
    return session;
}

Result<std::unique_ptr<World>> Session::buildWorld(const bench::Document& document, Time from, bool keepGoing)
{
    building_ = true;
    auto world = World::build(document, catalogue_, {.seed = options_.seed, .folder = options_.folder, .confined = options_.confined, .allowed = options_.allowed, .from = from, .keepGoing = keepGoing}, this);
    building_ = false;
    return world;
}

// From here on the world's nets are the tape's channels.
void Session::takeWorld(std::unique_ptr<World> world)
{
    functionTimes_->stop();
    world_ = std::move(world);
    if (options_.interrupt != nullptr)
        world_->interruptBy(options_.interrupt);
    decodersOfNet_.clear();
    mapChannels(options_.record);
    readSymbols();
    listenToFunctions();
    attachProbes();
    if (listener_ != nullptr)
        listener_->worldChanged();
}

void Session::mapChannels(bool record)
{
    channelOfNet_.clear();
    interrupts_.clear();
    for (const World::ChipUnit& unit : world_->chips())
        interrupts_.push_back({tape_.channel(unit.id + " interrupts"), static_cast<std::uint16_t>(unit.chip->cause().actor)});
    reckonNesting();
    const circuit::Circuit& circuit = world_->circuit();
    for (std::uint32_t i = 0; i < circuit.netCount(); ++i) {
        const circuit::NetId net{i};
        const tape::ChannelId channel = tape_.channel(circuit.name(net));
        channelOfNet_.push_back(channel);
        const auto state = static_cast<tape::State>(circuit.stateOf(net));
        if (record && tape_.stateAt(channel, kernel::kNever) != state)
            tape_.record(channel, {world_->now(), UINT32_MAX, UINT16_MAX, state});
    }
    buses_ = busLanes(*this);
    chooseWatched();
    laneLogs_->clear();
}

void Session::readSymbols()
{
    for (const World::ChipUnit& unit : world_->chips()) {
        if (symbolFile_[unit.id] == unit.firmwareFile && !unit.firmwareFile.empty())
            continue;
        symbolFile_[unit.id] = unit.firmwareFile;
        Program& program = programs_[unit.id];
        program.symbols = unit.firmwareFile.empty() ? debug::Symbols() : debug::symbolsOfFirmware(unit.firmwareFile, unit.firmware.isElf, {unit.firmware.flash, unit.device->codeBegin, unit.device->codeUnitBytes}, *unit.device);
        program.frames = unit.firmware.isElf ? debug::FrameTable::fromElf(unit.firmwareFile) : debug::FrameTable();
    }
}

void Session::listenToFunctions()
{
    if (!options_.record)
        return;
    std::map<std::string, const debug::Symbols*> symbols;
    for (const auto& [chip, program] : programs_)
        symbols[chip] = &program.symbols;
    functionTimes_->listen(*world_, symbols);
}

// Running.

namespace {

// So much work lies between two remembered moments: what it takes to reach any moment from the one before.
constexpr auto kRememberEvery = std::chrono::milliseconds(10);
// And on the way through what is known already, which is gone less often; in pieces of about so much work.
constexpr auto kRememberOnTheWay = std::chrono::milliseconds(40);
constexpr auto kSlice = std::chrono::milliseconds(4);

}  // namespace

void Session::log(Input input)
{
    if (building_)
        return;  // given again
    inputs_.push_back(std::move(input));
    applied_ = inputs_.size();
}

void Session::branch()
{
    if (building_ || !behind_)
        return;
    const Time now = world_->now();
    ++course_;
    inputs_.resize(applied_);
    recorded_.clear();
    history_.dropAfter(now);
    tape_.dropAfter(now);
    laneLogs_->dropAfter(now);
    functionTimes_->dropAfter(now);
    reckonNesting();
    serialLog_.dropAfter(now);
    for (auto& [ref, waveform] : waveforms_)
        waveform.dropAfter(now);
    std::erase_if(misread_, [now](const Misread& m) { return m.known > now; });
    latest_ = now;
    behind_ = false;
}

void Session::giveDueInputs(World& world, std::size_t& applied) const
{
    while (applied < inputs_.size() && inputs_[applied].at <= world.now()) {
        const Input& input = inputs_[applied++];
        const std::size_t point = input.target.rfind('.');
        switch (input.kind) {
        case Input::Kind::control: (void)world.setControl(input.target.substr(0, point), input.target.substr(point + 1), input.value); break;
        case Input::Kind::replace: (void)world.replacePart(input.target); break;
        case Input::Kind::send:
            if (const auto uart = world.uartByName(input.target))
                world.send(*uart, input.text);
            break;
        case Input::Kind::poke:
            for (World::ChipUnit& unit : world.chips())
                if (unit.id == input.target)
                    (void)unit.chip->write(static_cast<chip::SpaceId>(input.space), static_cast<std::uint64_t>(input.value), static_cast<std::uint8_t>(input.text[0]));
            break;
        case Input::Kind::coreRegister:
            for (World::ChipUnit& unit : world.chips())
                if (unit.id == input.target)
                    for (std::size_t i = 0; i < unit.chip->device().coreRegisters.size(); ++i)
                        if (unit.chip->device().coreRegisters[i].name == input.text)
                            unit.chip->writeRegister(i, static_cast<std::uint64_t>(input.value));
            break;
        case Input::Kind::firmware: case Input::Kind::edit: break;  // history begins after them
        }
    }
}

void Session::applyDueInputs()
{
    const Replay given(*this);
    giveDueInputs(*world_, applied_);
}

void Session::rememberInTime(std::chrono::steady_clock::time_point began)
{
    if (options_.historyBytes == 0 || building_)
        return;
    unremembered_ += std::chrono::steady_clock::now() - began;
    latest_ = std::max(latest_, world_->now());
    behind_ = world_->now() < latest_;
    if (unremembered_ >= kRememberEvery && (history_.empty() || world_->now() > history_.moments().back().moment->at))
        remember();
}

void Session::remember()
{
    unremembered_ = {};
    if (options_.historyBytes == 0)
        return;
    world_->flushProbes();
    history_.add(present());
}

Remembered Session::present() { return {world_->remember(), applied_, functionTimes_->states()}; }

void Session::forgetPast()
{
    ++course_;
    ++worldNumber_;
    inputs_.resize(applied_);
    history_.clear();
    latest_ = world_->now();
    behind_ = false;
    remember();
}

void Session::beginAnew()
{
    if (std::exchange(onlyLooked_, false))
        branch();
}

namespace {

// Lends the tape's memory to the circuit, and takes it back however the run ends.
class LentTape {
public:
    LentTape(World& world, kernel::EdgeCursor* cursors, const std::uint32_t* channelOfNet) : world_(world) { world_.recordInto(cursors, channelOfNet); }
    ~LentTape() { world_.recordInto(nullptr, nullptr); }
    LentTape(const LentTape&) = delete;
    LentTape& operator=(const LentTape&) = delete;

private:
    World& world_;
};

}  // namespace

// The world goes on. Where edges are for the tape alone, the circuit writes them into it.
void Session::runUntil(Time t)
{
    std::optional<LentTape> lent;
    if (options_.record && !building_ && !behind_ && (listener_ == nullptr || !listener_->wantsEdges()) && vcd_ == nullptr && decodersOfNet_.empty())
        lent.emplace(*world_, tape_.cursors(), channelOfNet_.data());
    world_->runUntil(t);
}

void Session::advance(Time goal)
{
    beginAnew();
    const auto began = std::chrono::steady_clock::now();
    for (;;) {
        applyDueInputs();
        const Time next = applied_ < inputs_.size() ? inputs_[applied_].at : kernel::kNever;
        runUntil(std::min(goal, next));
        if (goal <= next || world_->now() < next)
            break;
    }
    rememberInTime(began);
    (void)watchLines();
}

void Session::advanceInstruction(std::size_t chip)
{
    beginAnew();
    const auto began = std::chrono::steady_clock::now();
    applyDueInputs();
    world_->stepInstruction(chip, applied_ < inputs_.size() ? inputs_[applied_].at : kernel::kNever);
    rememberInTime(began);
}

void Session::recall(const Remembered& from)
{
    world_->flushProbes();
    world_->recall(*from.moment);
    functionTimes_->setStates(from.codeTimes);
    applied_ = from.inputs;
}

void Session::poke(std::size_t chip, debug::Space space, std::uint32_t address, std::uint8_t value)
{
    branch();
    log({Input::Kind::poke, world_->now(), world_->chips()[chip].id, std::string(1, static_cast<char>(value)), static_cast<double>(address), space});
    (void)world_->chips()[chip].chip->write(static_cast<chip::SpaceId>(space), address, value);
}

void Session::setRegister(std::size_t chip, std::size_t index, std::uint64_t value)
{
    chip::DebugPort& port = *world_->chips()[chip].chip;
    branch();
    log({Input::Kind::coreRegister, world_->now(), world_->chips()[chip].id, port.device().coreRegisters[index].name, static_cast<double>(value)});
    port.writeRegister(index, value);
}

void Session::writeFlash(std::size_t chip, const std::vector<std::uint8_t>& bytes)
{
    World::ChipUnit& unit = world_->chips()[chip];
    chip::Firmware firmware = unit.firmware;
    firmware.flash = bytes;
    branch();
    world_->installFirmware(chip, firmware, unit.firmwareFile.empty() ? "written by the debugger" : unit.firmwareFile);
    unit.chip->powerOn();
    forgetPast();
}

Result<void> Session::goTo(Time t)
{
    if (auto ok = travel(std::min(t, latest())); !ok)
        return ok;
    if (options_.interrupt != nullptr && options_.interrupt->load(std::memory_order_relaxed))
        return kernel::fail(kernel::formatClock(t), "was not reached: stopped on the way, at " + kernel::formatClock(world_->now()));
    if (t > world_->now())
        advance(t);  // what lies beyond is recorded like any run
    return {};
}

Result<void> Session::travel(Time t)
{
    if (vcd_ != nullptr && t < world_->now())
        return kernel::fail("--vcd", "a dump is being written, and its time cannot go back", "leave the option out to go back");
    if (onlyLooked_)
        return kernel::fail("this recording", "was made across a change of wiring or firmware: it can be looked at, not run again");
    latest_ = std::max(latest_, world_->now());
    if (!behind_) {
        world_->flushProbes();  // what has been measured up to here counts
        functionTimes_->leave();
    }
    {
        const Replay replay(*this);
        // From here on forward, or from a remembered moment: whichever is nearer.
        const Remembered* from = history_.before(t);
        const bool here = world_->now() <= t && (from == nullptr || from->moment->at <= world_->now());
        if (!here) {
            if (from == nullptr)
                return kernel::fail(kernel::formatQuantity(kernel::seconds(t), kernel::Unit::second), "lies before what is remembered", fmt::format("the past reaches back to {}", kernel::formatQuantity(kernel::seconds(earliest()), kernel::Unit::second, 6)));
            recall(*from);
        }
        world_->resume(true);
        // A long way leaves moments behind, so that the next one near it is short.
        Duration slice = std::chrono::milliseconds(1);
        std::chrono::steady_clock::duration work{};
        const Time begin = world_->now();
        while (world_->now() < t) {
            if (options_.progress != nullptr)
                options_.progress->at(static_cast<double>((world_->now() - begin).count()) / static_cast<double>((t - begin).count()));
            applyDueInputs();
            const Time next = std::min({t, applied_ < inputs_.size() ? inputs_[applied_].at : t, world_->now() + slice});
            const auto began = std::chrono::steady_clock::now();
            runUntil(next);
            const auto took = std::chrono::steady_clock::now() - began;
            work += took;
            slice = took < kSlice / 2 ? slice * 2 : took > kSlice * 2 ? std::max(slice / 2, Duration(std::chrono::microseconds(1))) : slice;
            if (world_->debugStop())
                world_->resume(false);
            else if (world_->faulted() || world_->now() < next)
                break;
            if (work >= kRememberOnTheWay && options_.historyBytes != 0 && world_->now() < t) {
                world_->flushProbes();
                history_.add(present());
                work = {};
            }
        }
        applyDueInputs();
        world_->resume(true);
        world_->flushProbes();
    }
    behind_ = world_->now() < latest_;
    return {};
}

Result<void> Session::setControl(const std::string& part, const std::string& control, double value)
{
    if (auto known = world_->knowsControl(part, control); !known)
        return known;
    branch();
    auto done = world_->setControl(part, control, value);
    if (done)
        log({Input::Kind::control, world_->now(), part + "." + control, {}, value, debug::Space::data});
    return done;
}

Result<void> Session::replacePart(const std::string& part)
{
    if (world_->part(part) != nullptr)
        branch();
    auto done = world_->replacePart(part);
    if (done)
        log({Input::Kind::replace, world_->now(), part, {}, 0, debug::Space::data});
    return done;
}

void Session::send(std::size_t uart, const std::string& bytes)
{
    branch();
    log({Input::Kind::send, world_->now(), world_->uarts()[uart].name, bytes, 0, debug::Space::data});
    world_->send(uart, bytes);
}

Result<void> Session::loadFirmware(const std::string& chip, const std::string& file)
{
    for (std::size_t i = 0; i < world_->chips().size(); ++i) {
        if (world_->chips()[i].id != chip)
            continue;
        // Only what can be read makes another course; its reset belongs to that already.
        if (behind_) {
            if (auto read = chip::loadFirmware(file, *world_->chips()[i].device); !read)
                return tl::unexpected(read.error());
            branch();
        }
        auto done = world_->loadFirmware(i, file);
        if (done) {
            log({Input::Kind::firmware, world_->now(), chip, file, 0, debug::Space::data});
            symbolFile_.erase(chip);
            functionTimes_->stop();
            readSymbols();
            listenToFunctions();
            if (listener_ != nullptr)
                listener_->worldChanged();
            forgetPast();
        }
        return done;
    }
    return kernel::fail(chip, "is not a chip on this bench");
}

namespace {

// Whether two benches differ only in what no simulation can see: places on the sheet (unless something is plugged in by its place), names, bends.
bool sameCircuit(const bench::Document& a, const bench::Document& b, const bench::Catalogue& catalogue)
{
    if (a.parts.size() != b.parts.size() || a.wires.size() != b.wires.size() || a.nets != b.nets)
        return false;
    for (std::size_t i = 0; i < a.parts.size(); ++i) {
        const bench::PartItem &x = a.parts[i], &y = b.parts[i];
        const bench::PartKind* kind = catalogue.find(x.kind);
        if (x.id != y.id || x.kind != y.kind || x.firmware != y.firmware || x.registers != y.registers || x.set != y.set || x.mute != y.mute || x.follow != y.follow || x.order != y.order || kind == nullptr)
            return false;
        if (kind->plugs && !(x.at == y.at && x.turn == y.turn))
            return false;
    }
    const bool boards = std::any_of(a.parts.begin(), a.parts.end(), [&](const bench::PartItem& p) { return catalogue.find(p.kind)->plugs; });
    for (std::size_t i = 0; boards && i < a.parts.size(); ++i)
        if (!(a.parts[i].at == b.parts[i].at && a.parts[i].turn == b.parts[i].turn))
            return false;
    for (std::size_t i = 0; i < a.wires.size(); ++i)
        if (a.wires[i].from != b.wires[i].from || a.wires[i].to != b.wires[i].to)
            return false;
    return true;
}

}  // namespace

Result<void> Session::edit(bench::Document document, const std::string& folder)
{
    if (auto ok = bench::checkDocument(document, catalogue_, document.title); !ok)
        return ok;
    const std::string before = options_.folder;
    if (!folder.empty())
        options_.folder = folder;
    if (options_.folder == before && sameCircuit(document_, document, catalogue_)) {
        document_ = std::move(document);
        return {};
    }
    auto fresh = buildWorld(document, world_->now(), true);
    if (!fresh) {
        options_.folder = before;
        return tl::unexpected(fresh.error());
    }
    building_ = true;
    (*fresh)->adopt(*world_);
    building_ = false;
    document_ = std::move(document);
    branch();
    takeWorld(std::move(*fresh));
    log({Input::Kind::edit, world_->now(), {}, {}, 0, debug::Space::data});
    forgetPast();
    return {};
}

Result<void> Session::saveEeprom()
{
    for (std::size_t i = 0; world_ != nullptr && i < world_->chips().size(); ++i) {
        const World::ChipUnit& unit = world_->chips()[i];
        const std::string file = world_->eepromFile(i);
        const std::uint64_t revision = unit.chip->nonVolatileRevision();
        if (file.empty() || revision == eepromSaved_[unit.id])
            continue;
        if (auto ok = bench::saveText(file, chip::writeIntelHex({unit.chip->nonVolatile().begin(), unit.chip->nonVolatile().end()})); !ok)
            return ok;
        eepromSaved_[unit.id] = revision;
    }
    return world_ == nullptr ? Result<void>{} : world_->keepContents();
}

Result<void> Session::restart()
{
    if (auto ok = saveEeprom(); !ok)
        return ok;
    eepromSaved_.clear();
    auto fresh = buildWorld(document_, {}, options_.keepGoing);
    if (!fresh)
        return tl::unexpected(fresh.error());
    functionTimes_->stop();
    functionTimes_->clear();
    const std::unique_ptr<World> old = std::move(world_);
    tape_.clear();
    serialLog_.clear();
    behind_ = false;
    for (auto& [ref, waveform] : waveforms_)
        waveform.clear();
    inputs_.clear();
    applied_ = 0;
    recorded_.clear();
    misread_.clear();
    onlyLooked_ = false;
    if (options_.record)
        beginnings_ = benchFiles(document_, {options_.folder, options_.confined, options_.allowed});
    history_.clear();
    ++course_;
    ++worldNumber_;
    symbolFile_.clear();
    takeWorld(std::move(*fresh));
    latest_ = world_->now();
    for (const bench::PartItem& part : document_.parts)
        if (const bench::PartKind* kind = catalogue_.find(part.kind))
            for (const bench::ControlKind& control : kind->controls)
                if (control.type != "hold")
                    if (const double value = old->control(part.id, control.name); value != control.standard)
                        (void)setControl(part.id, control.name, value);
    remember();
    return {};
}

debug::Place Session::place(const std::string& chip, std::uint32_t code) const
{
    const auto found = programs_.find(chip);
    return found == programs_.end() ? debug::Place{} : found->second.symbols.at(code);
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

void Session::decode(tape::Decoder& decoder, const std::vector<std::optional<bench::NetId>>& nets)
{
    decodersOfNet_.resize(world_->circuit().netCount());
    for (std::size_t role = 0; role < nets.size(); ++role)
        if (nets[role]) {
            decodersOfNet_[static_cast<std::size_t>(*nets[role])].emplace_back(&decoder, role);
            if (const bench::NetState state = world_->circuit().stateOf(*nets[role]); state == bench::NetState::low || state == bench::NetState::high)
                decoder.edge(role, state == bench::NetState::high, world_->now());
        }
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
    if (building_ || knows(to))
        return;
    if (knows(from))
        from = latest_;
    for (tape::Waveform* w : waveformsOfNet_[static_cast<std::uint32_t>(net)])
        w->add(from, to, volts, constant);
}

void Session::edge(bench::NetId net, bench::NetState state, Time at, bench::Cause cause)
{
    if (building_)
        return;
    // As a rule there is the tape alone.
    if (listener_ != nullptr || vcd_ != nullptr || !decodersOfNet_.empty()) [[unlikely]]
        return edgeHeard(net, state, at, cause);
    if (options_.record && !knows(at)) [[likely]]
        tape_.record(channelOfNet_[static_cast<std::size_t>(net)], {at, cause.code, static_cast<std::uint16_t>(cause.actor), static_cast<tape::State>(state)});
}

void Session::edgeHeard(bench::NetId net, bench::NetState state, Time at, bench::Cause cause)
{
    const auto index = static_cast<std::size_t>(net);
    if (listener_ != nullptr)
        listener_->edgeSeen(net, state, at);
    if (options_.record && !knows(at))
        tape_.record(channelOfNet_[index], {at, cause.code, static_cast<std::uint16_t>(cause.actor), static_cast<tape::State>(state)});
    if (vcd_ != nullptr)
        for (const std::uint32_t signal : vcdOfNet_[index])
            vcd_->change(signal, at, static_cast<tape::State>(state));
    // A line that nobody drives reads as it read last.
    if (!decodersOfNet_.empty() && !knows(at) && (state == bench::NetState::low || state == bench::NetState::high))
        for (const auto& [decoder, role] : decodersOfNet_[index])
            decoder->edge(role, state == bench::NetState::high, at);
}

void Session::serialByte(std::size_t uart, std::uint8_t byte, bool good, bool fromChip, Time at)
{
    if (building_)
        return;
    const bench::World::Uart& line = world_->uarts()[uart];
    const SerialByte seen{at, static_cast<std::uint16_t>(uart), byte, good, fromChip, fromChip ? world_->chips()[line.chip].chip->sentBy(line.index) : UINT32_MAX};
    if (listener_ != nullptr)
        listener_->byteSeen(seen);
    if (knows(at))
        return;
    serialLog_.add(seen);
    if (onSerial)
        onSerial(seen);
}

void Session::interrupt(std::size_t chip, std::uint8_t vector, Time at)
{
    if (building_ || !options_.record || chip >= interrupts_.size() || knows(at))
        return;
    Interrupts& i = interrupts_[chip];
    if (vector == 0 && i.runs == 0)
        return;  // a RETI that no interrupt asked for
    if ((vector != 0) == (i.runs != 0) || !i.outer.empty()) [[unlikely]]
        return interruptInAnother(i, vector, at);
    i.runs = vector;
    tape_.record(i.channel, {at, UINT32_MAX, i.actor, vector});
}

// It begins in another one, or ends there.
void Session::interruptInAnother(Interrupts& i, std::uint8_t vector, Time at)
{
    if (vector != 0 && i.runs != 0)
        i.outer.push_back(i.runs);
    i.runs = vector;
    if (vector == 0 && !i.outer.empty()) {
        i.runs = i.outer.back();
        i.outer.pop_back();
    }
    tape_.record(i.channel, {at, UINT32_MAX, i.actor, i.runs});
}

void Session::reset(std::size_t chip, unsigned, Time at)
{
    if (building_ || !options_.record || chip >= interrupts_.size() || knows(at))
        return;
    Interrupts& i = interrupts_[chip];
    i.runs = 0;
    i.outer.clear();
    tape_.record(i.channel, {at, UINT32_MAX, i.actor, kResetMark});
    tape_.record(i.channel, {at, UINT32_MAX, i.actor, 0});
}

// Which interrupts run now, from what the tape has of them.
void Session::reckonNesting()
{
    constexpr std::size_t kLookedAt = 64;
    for (auto& [channel, actor, runs, outer] : interrupts_) {
        std::vector<std::uint8_t> running;
        const std::size_t end = tape_.count(channel);
        std::size_t from = end;
        while (from > 0 && end - from < kLookedAt && tape_.edge(channel, from - 1).state != 0)
            --from;
        for (std::size_t i = from; i < end; ++i) {
            const std::uint8_t state = tape_.edge(channel, i).state;
            if (running.size() > 1 && running[running.size() - 2] == state)
                running.pop_back();
            else
                running.push_back(state);
        }
        runs = running.empty() ? std::uint8_t{0} : running.back();
        running.resize(running.empty() ? 0 : running.size() - 1);
        outer = std::move(running);
    }
}

}  // namespace bramix::session
