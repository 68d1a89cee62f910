#include "chip/riscv/esp32c3/chip.h"

#include <algorithm>
#include <bit>
#include <cstring>

#include <fmt/format.h>

#include "chip/riscv/family.h"

namespace bramix::chip::riscv {

namespace {

// Data sheet tables 5-2 to 5-7: brownout aside, the core's reset; 20 mA at 80 MHz and 28 mA at 160 MHz with all else idle; 40 mA a pin at strongest drive.
constexpr SupplyFigures kSupply{2.8, 2.7, 12e-3, 0.1e-3, 0.6, 3.3};
constexpr PinElectrics kPins{30, 45e3, 45e3, 0.04, 0.5, 0.25, 0.75};
constexpr std::uint32_t kUnmapped = 0x100;

}  // namespace

Esp32c3::Esp32c3(const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer)
    : RunningChip(esp32c3(), options, queue, circuit, observer, cpu_, (options.clockHz != 0 ? options.clockHz : kCrystalHz) / 2, kSupply), sram_(map_, kSramBytes), rtcSram_(map_, kRtcSramBytes), cpu_(*this, map_),
      gpio_(*this, circuit, [&] {
          PinElectrics electrics = kPins;
          if (options.pullUpOhms != 0)
              electrics.pullUpOhms = options.pullUpOhms;
          return electrics;
      }(), [this] { return cause(); }),
      uarts_{std::make_unique<Uart>(static_cast<Soc&>(*this), gpio_, "UART0", 21, kUart0Signal), std::make_unique<Uart>(static_cast<Soc&>(*this), gpio_, "UART1", 22, kUart1Signal)}, systemTimer_(*this), group0_(*this, 0, 32), group1_(*this, 1, 34), rtc_(*this),
      ledPwm_(*this, gpio_), remote_(*this, gpio_), adc_(*this, gpio_), flash_(kFlashBytes, 0xFF)
{
    slots_ = {{0x60000000, 0x100, uarts_[0].get()}, {0x60010000, 0x100, uarts_[1].get()}, {0x60023000, 0x100, &systemTimer_}, {0x6001F000, 0x100, &group0_}, {0x60020000, 0x100, &group1_},
              {0x60008000, 0x200, &rtc_},           {0x60019000, 0x100, &ledPwm_},        {0x60016000, 0x800, &remote_},      {0x60040000, 0x100, &adc_}};
    sram_.codeWritten = [this](std::uint32_t address) { cpu_.forgetCode(address); };
    rtcSram_.codeWritten = sram_.codeWritten;
    sram_.place(kDataSram);
    sram_.place(kCodeSram);
    rtcSram_.place(kRtcSram);
    for (std::uint32_t page = 0; page < 128; ++page)
        firstMmu_[page] = page < kFlashBytes / kMmuPageBytes ? page : kUnmapped;
    gpio_.inputChanged = [this](unsigned signal, bool level) {
        for (const auto& uart : uarts_)
            if (uart && uart->signal() == signal)
                uart->inputChanged(level);
    };
    gpio_.doubtfulRead = [this](unsigned pad) { observer_.uncertainRead(gpio_.pins.idOf(pad), true, gpio_.pins.thresholds()); };
    refreshPins();
    powerOn();
}

std::optional<unsigned> Esp32c3::padNamed(std::string_view name)
{
    if (!name.starts_with("GPIO") || name.size() < 5 || name.size() > 6)
        return std::nullopt;
    unsigned pad = 0;
    for (const char c : name.substr(4)) {
        if (c < '0' || c > '9')
            return std::nullopt;
        pad = pad * 10 + static_cast<unsigned>(c - '0');
    }
    return pad < Gpio::kPads && pad != 11 ? std::optional(pad) : std::nullopt;
}

bool Esp32c3::attachPin(std::string_view name, circuit::PinId id)
{
    const auto pad = padNamed(name);
    if (!pad)
        return false;
    gpio_.pins.attach(*pad, id);
    return true;
}

std::optional<AnalogReading> Esp32c3::analogReading(circuit::PinId pin) const
{
    const auto pad = gpio_.pins.pinAt(pin);
    return pad ? adc_.reading(*pad) : std::nullopt;
}

std::vector<PinStatus> Esp32c3::pins() const
{
    std::vector<PinStatus> out;
    for (unsigned pad = 0; pad < Gpio::kPads; ++pad)
        if (pad != 11)
            out.push_back(gpio_.statusOf(pad));
    return out;
}

const std::vector<SerialPort>& Esp32c3::serialPorts() const
{
    serialPorts_.clear();
    for (std::size_t u = 0; u < uarts_.size(); ++u) {
        const auto to = gpio_.padOf(uarts_[u]->signal()), from = gpio_.padInto(uarts_[u]->signal());
        serialPorts_.push_back({fmt::format("uart{}", u), to ? gpio_.pins.idOf(*to) : circuit::kNoPin, from ? gpio_.pins.idOf(*from) : circuit::kNoPin});
    }
    return serialPorts_;
}

void Esp32c3::loadProgram(const Firmware& firmware)
{
    std::fill(flash_.begin(), flash_.end(), std::uint8_t{0xFF});
    std::copy_n(firmware.flash.begin(), std::min(firmware.flash.size(), flash_.size()), flash_.begin());
    chunks_ = firmware.memory;
    entry_ = firmware.isElf ? firmware.entry : 0;
    for (std::uint32_t page = 0; page < 128; ++page)
        firstMmu_[page] = page < kFlashBytes / kMmuPageBytes ? page : kUnmapped;
    if (!firmware.isElf)
        boot();
}

// What the first bytes of the flash say: direct boot, or an application image (its header: magic, segments, entry; TRM and the tools' documentation of the format).
void Esp32c3::boot()
{
    const auto word = [this](std::size_t at) {
        std::uint32_t out = 0;
        if (at + 4 <= flash_.size())
            std::memcpy(&out, &flash_[at], 4);
        return out;
    };
    noImage_.clear();
    if (word(0) == kDirectBootMagic && word(4) == kDirectBootMagic) {
        entry_ = kDirectBootEntry;
        return;
    }
    constexpr std::uint8_t kMagic = 0xE9;
    constexpr std::size_t kHeader = 24;
    if (flash_[0] != kMagic) {
        noImage_ = fmt::format("the flash begins with 0x{:08x}; expected 0x{:08x} twice (direct boot) or 0xe9 (application image)", word(0), kDirectBootMagic);
        return;
    }
    entry_ = word(4);
    firstMmu_.fill(kUnmapped);
    std::size_t at = kHeader;
    for (unsigned s = 0; s < flash_[1]; ++s) {
        const std::uint32_t to = word(at), size = word(at + 4);
        at += 8;
        if (size > flash_.size() - std::min(at, flash_.size())) {
            noImage_ = fmt::format("segment {} of the application image ({} bytes at 0x{:08x}) reaches past the end of the flash", s, size, to);
            return;
        }
        if ((to >= kCodeWindow && to < kCodeWindow + 2 * kFlashBytes) || (to >= kDataWindow && to < kDataWindow + 2 * kFlashBytes)) {
            // Pages of windows and flash lie alike within 64 KB.
            for (std::uint32_t a = to & ~(kMmuPageBytes - 1), from = static_cast<std::uint32_t>(at) & ~(kMmuPageBytes - 1); a < to + size; a += kMmuPageBytes, from += kMmuPageBytes)
                firstMmu_[(a >> 16) & 127U] = from >> 16;
        } else {
            chunks_.push_back({to, {flash_.begin() + static_cast<std::ptrdiff_t>(at), flash_.begin() + static_cast<std::ptrdiff_t>(at + size)}});
        }
        at += size;
    }
}

void Esp32c3::placeFlash()
{
    for (const std::uint32_t window : {kCodeWindow, kDataWindow})
        for (std::uint32_t page = 0; page < 128; ++page)
            for (std::uint32_t a = 0; a < kMmuPageBytes; a += PageMap::kPageBytes) {
                const std::size_t from = std::size_t{mmu_[page]} * kMmuPageBytes + a;
                const bool there = (mmu_[page] & kUnmapped) == 0 && from < flash_.size();
                const std::uint32_t address = window + page * kMmuPageBytes + a;
                const bool watched = std::any_of(watchpoints_.begin(), watchpoints_.end(), [&](const Watchpoint& w) { return w.address < std::uint64_t{address} + PageMap::kPageBytes && w.address + w.length > address; });
                map_.set(address, there && !watched ? &flash_[from] : nullptr, nullptr);
            }
    cpu_.forgetAllCode();
}

// A page of SRAM that holds code is written slowly, so that what has been decoded of it is forgotten; one that is written again and again between is left to the plain stepper.
void Esp32c3::codeSeen(std::uint32_t address)
{
    if (const std::size_t at = sram_.offsetOf(address); at != SIZE_MAX)
        sram_.holdCode(at / PageMap::kPageBytes);
    else if (const std::size_t rtc = rtcSram_.offsetOf(address); rtc != SIZE_MAX)
        rtcSram_.holdCode(rtc / PageMap::kPageBytes);
}

void Esp32c3::watchpointsChanged()
{
    const auto pagesOf = [this](std::size_t bytes, std::initializer_list<std::uint32_t> bases) {
        std::vector<bool> pages(bytes / PageMap::kPageBytes);
        for (const Watchpoint& w : watchpoints_)
            for (const std::uint32_t base : bases)
                for (std::size_t p = 0; p < pages.size(); ++p) {
                    const std::uint64_t begin = base + p * PageMap::kPageBytes;
                    pages[p] = pages[p] || (w.address < begin + PageMap::kPageBytes && w.address + w.length > begin);
                }
        return pages;
    };
    sram_.watch(pagesOf(kSramBytes, {kDataSram, kCodeSram}));
    rtcSram_.watch(pagesOf(kRtcSramBytes, {kRtcSram}));
    placeFlash();
}

void Esp32c3::fillMemories()
{
    // What RAM comes up with is a pattern of the chip's own.
    std::vector<std::uint8_t> noise(kSramBytes);
    fillWithNoise(noise);
    sram_.fill(noise);
    rtcSram_.fill({noise.begin(), noise.begin() + kRtcSramBytes});
    for (const Firmware::Chunk& chunk : chunks_)
        for (std::size_t i = 0; i < chunk.bytes.size(); ++i) {
            const auto a = static_cast<std::uint32_t>(chunk.address + i);
            if (const std::size_t at = sram_.offsetOf(a); at != SIZE_MAX)
                sram_.write(at, {&chunk.bytes[i], 1});
            else if (const std::size_t rtc = rtcSram_.offsetOf(a); rtc != SIZE_MAX)
                rtcSram_.write(rtc, {&chunk.bytes[i], 1});
        }
    rtc_.powerOn();
}

void Esp32c3::resetState(unsigned cause)
{
    resetWanted_ = 0;
    if (!options_.hasCrystal)
        remarkOnce(Weight::error, "no-clock", "ESP32-C3 waits for its crystal of 40 MHz, and none is wired to XTAL_P and XTAL_N");
    fault_ = noImage_;
    rtc_.setCause(cause == kPowerOnCause || cause == 1 ? 1 : cause);
    interruptEnable_ = interruptType_ = threshold_ = lines_ = latched_ = 0;
    sources_ = route_ = {};
    priority_ = {};
    fromCpu_ = {};
    kept_.clear();
    csrs_.clear();
    mmu_ = firstMmu_;
    placeFlash();
    cpuClock_ = 0xC;
    systemClock_ = 1;
    cpu_.reset(entry_);
    counterBase_ = cpu_.cycle;
    faultAt_ = cpu_.pc;
    faultCycle_ = cpu_.cycle;
    selectClock();
    gpio_.reset();
    for (const Slot& slot : slots_)
        slot.what->reset();
    uarts_[0]->setUpByRom();
    // The boot ROM has set up the stack at the end of what it leaves free.
    cpu_.x[2] = 0x3FCDE710;
}

// Clocks (TRM chapter 6).

void Esp32c3::selectClock()
{
    const std::uint32_t source = (systemClock_ >> 10) & 3U, divider = 1 + (systemClock_ & 0x3FFU);
    std::uint64_t hz = crystalHz() / divider;
    if (source == 1)
        hz = (cpuClock_ & 3U) == 1 ? 160'000'000 : (cpuClock_ & 3U) == 0 ? 80'000'000 : 160'000'000;
    else if (source == 2)
        hz = kFastRcHz / divider;
    setClock(std::max<std::uint64_t>(hz, 1));
}

std::uint64_t Esp32c3::busHz() const { return ((systemClock_ >> 10) & 3U) == 1 ? 80'000'000 : clock_.hz(); }

void Esp32c3::clockChanged()
{
    for (const Slot& slot : slots_)
        slot.what->clockChanged();
}

// Running.

void Esp32c3::step()
{
    cpu_.step();
    if (cpu_.entered != 0)
        lookAtTrap();
}

// What a trap just taken says of the program.
void Esp32c3::lookAtTrap()
{
    const std::uint32_t cause = cpu_.mcause;
    if (cause == kInstructionFault && cpu_.mepc == cpu_.pc) {
        fault_ = fmt::format("no handler: an {} at the handler's own address 0x{:08x}; mtvec points to no code", nameOfCause(cause), cpu_.pc);
        faultAt_ = cpu_.pc;
        faultCycle_ = cpu_.cycle;
        leaveSlice();
    } else if (cause == kIllegal || cause == kInstructionFault || cause == kLoadFault || cause == kStoreFault) {
        remark("trap-taken", fmt::format("{} (mtval 0x{:08x}) was taken by the instruction at 0x{:08x}", nameOfCause(cause), cpu_.mtval, cpu_.mepc));
    }
}

void Esp32c3::runCore()
{
    // What is told of an instruction is told only where it does something that is told.
    do {
        cpu_.run(sliceEnd());
        noteStack(cpu_.lowestSp);
        if (cpu_.entered != 0)
            lookAtTrap();
        if (cpu_.entered != 0 || cpu_.returned || cpu_.sleeping) [[unlikely]] {
            fellAsleep();
            after();
        }
    } while (!sliceEnds() && !cpu_.looped);
}

bool Esp32c3::enterDue()
{
    if (resetWanted_ != 0) {
        resetNow(resetWanted_);
        return false;
    }
    const unsigned n = due();
    if (n == 0 || !cpu_.interruptsOn())
        return false;
    cpu_.trap(kInterrupt | n, 0);
    return true;
}

void Esp32c3::wantReset(unsigned cause)
{
    if (resetWanted_ == 0)
        resetWanted_ = cause;
    yield();
    rouse();
}

bool Esp32c3::halted() const
{
    const bool mayCome = interruptEnable_ != 0 && std::any_of(route_.begin(), route_.end(), [this](std::uint8_t n) { return n != 0 && ((interruptEnable_ >> n) & 1U) != 0; });
    if (cpu_.sleeping)
        return !mayCome && due() == 0;
    const std::uint8_t* at = map_.readable(cpu_.pc);
    if (at == nullptr || !PageMap::within(cpu_.pc, 4))
        return false;
    std::uint32_t word = 0;
    std::memcpy(&word, at, 4);
    const Instruction i = decode(word);
    return i.op == Op::jal && i.d == 0 && i.imm == 0 && (!cpu_.interruptsOn() || !mayCome);
}

void Esp32c3::save(kernel::SaveArchive& ar)
{
    baseState(ar);
    ar(cpu_, sram_, rtcSram_, gpio_, mmu_, sources_, route_, interruptEnable_, interruptType_, threshold_, lines_, latched_, priority_, cpuClock_, systemClock_, fromCpu_, kept_, csrs_, counterBase_, resetWanted_, fault_, faultAt_, faultCycle_);
    for (const Slot& slot : slots_)
        slot.what->save(ar);
}

void Esp32c3::load(kernel::LoadArchive& ar)
{
    baseState(ar);
    ar(cpu_, sram_, rtcSram_, gpio_, mmu_, sources_, route_, interruptEnable_, interruptType_, threshold_, lines_, latched_, priority_, cpuClock_, systemClock_, fromCpu_, kept_, csrs_, counterBase_, resetWanted_, fault_, faultAt_, faultCycle_);
    for (const Slot& slot : slots_)
        slot.what->load(ar);
    placeFlash();
}

}  // namespace bramix::chip::riscv
