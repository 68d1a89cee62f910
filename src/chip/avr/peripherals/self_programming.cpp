#include "chip/avr/peripherals/self_programming.h"

#include <algorithm>

#include <fmt/format.h>

#include "chip/avr/core/cpu.h"

namespace bramix::chip::avr {

namespace {

constexpr kernel::Duration kPageTime = std::chrono::microseconds(4500);
constexpr std::int64_t kStoreWindow = 4;
constexpr std::int64_t kLoadWindow = 3;
constexpr std::size_t kLock = 3;

}  // namespace

SelfProgramming::SelfProgramming(ChipServices& chip, Cpu& cpu, std::array<std::uint8_t, 4>& fuses)
    : StatefulPeripheral(chip), cpu_(cpu), fuses_(fuses), page_(chip.table().pageBytes / 2, 0xFFFF), filled_(chip.table().pageBytes / 2),
      alarm_(chip.queue(), [this](kernel::Time) {
          store(spmcsr_, 0, static_cast<std::uint8_t>(enable_.mask | erase_.mask | writePage_.mask | lockBits_.mask));
          updateInterrupt();
      })
{
    const Names& names = chip.names();
    spmcsr_ = names.reg({"SPMCSR", "SPMCR"});
    enable_ = names.bit({"SELFPRGEN", "SPMEN"});
    erase_ = names.bit("PGERS");
    writePage_ = names.bit("PGWRT");
    lockBits_ = names.bit({"BLBSET", "RFLB"});
    reopen_ = names.bit({"RWWSRE", "CTPB"});
    signature_ = names.bit({"SIGRD", "RSIG"});
    busySection_ = names.bit("RWWSB");
    source_ = {names.vector({"SPM_READY", "SPM_RDY"}), enable_, names.bit("SPMIE")};
    chip.claim(*this, spmcsr_);
    chip.claimVector(*this, source_.vector);
}

std::uint32_t SelfProgramming::bootStart() const
{
    const ChipTable& t = chip_.table();
    return t.bootBytes == 0 ? t.flashBytes : t.flashBytes - (t.bootBytes >> chip_.fuse("BOOTSZ"));
}

std::uint32_t SelfProgramming::z() const
{
    const std::uint32_t low = cpu_.data[30] | (cpu_.data[31] << 8);
    return (low | (cpu_.core().hasElpm ? static_cast<std::uint32_t>(cpu_.rampz) << 16 : 0)) % chip_.table().flashBytes;
}

// BLBx bit 0 clear: SPM may not write to that section (modes 2 and 3).
bool SelfProgramming::mayProgram(std::uint32_t byteAddress) const
{
    if (chip_.table().bootBytes == 0)
        return true;
    const unsigned lock = chip_.fuse(inBoot(byteAddress) ? "BLB1" : "BLB0");
    return (lock & 1U) != 0;
}

// BLBx bit 1 clear: LPM running in the other section may not read that section (modes 3 and 4).
bool SelfProgramming::mayRead(std::uint32_t byteAddress) const
{
    if (chip_.table().bootBytes == 0 || inBoot(byteAddress) == inBoot(cpu_.current * 2))
        return true;
    const unsigned lock = chip_.fuse(inBoot(byteAddress) ? "BLB1" : "BLB0");
    return (lock & 2U) != 0;
}

void SelfProgramming::updateInterrupt() { chip_.setInterrupt(source_.vector, !chip_.is(enable_), chip_.is(source_.enable)); }

// Whether LPM must ask.
void SelfProgramming::updateLoads()
{
    const bool locked = chip_.table().bootBytes != 0 && ((chip_.fuse("BLB0") & chip_.fuse("BLB1")) & 2U) == 0;
    const std::uint8_t special = chip_.reg(spmcsr_) & (lockBits_.mask | signature_.mask | busySection_.mask);
    cpu_.loadsAsk = locked || special != 0;
    if (cpu_.loadsAsk)
        cpu_.stopBy(INT64_MIN);  // the engine hands over to the stepper
}

void SelfProgramming::clearBuffer()
{
    std::fill(page_.begin(), page_.end(), std::uint16_t{0xFFFF});
    std::fill(filled_.begin(), filled_.end(), std::uint8_t{0});
}

std::uint8_t SelfProgramming::read(std::uint16_t address, std::int64_t cycle)
{
    if (!alarm_.armed() && !window(cycle, kStoreWindow)) {
        store(address, 0, static_cast<std::uint8_t>(~(source_.enable.mask | busySection_.mask)));
        updateLoads();
    }
    return chip_.reg(address);
}

void SelfProgramming::write(std::uint16_t address, std::uint8_t value, std::int64_t cycle)
{
    if (alarm_.armed()) {
        // While busy, only the interrupt enable takes effect.
        store(address, value, source_.enable.mask);
        updateInterrupt();
        return;
    }
    store(address, value, static_cast<std::uint8_t>(~busySection_.mask));
    if ((value & enable_.mask) != 0)
        setAt_ = cycle;
    else
        store(address, 0, static_cast<std::uint8_t>(~(source_.enable.mask | busySection_.mask)));
    updateInterrupt();
    updateLoads();
}

void SelfProgramming::storeProgramMemory(std::int64_t cycle)
{
    if (!chip_.is(enable_) || !window(cycle, kStoreWindow + 1)) {
        chip_.note("timed-sequence", "SPM came without SPMEN in the four cycles before it, and did nothing");
        return;
    }
    if (chip_.table().bootBytes != 0 && !inBoot(cpu_.current * 2)) {
        chip_.note("spm-section", "SPM runs outside the boot section, where it does nothing; BOOTSZ says how large that section is");
        store(spmcsr_, 0, static_cast<std::uint8_t>(~source_.enable.mask));
        updateLoads();
        return;
    }
    if (chip_.table().bootBytes == 0 && chip_.fuse("SELFPRGEN") != 0) {
        chip_.note("spm-section", "SPM does nothing: the fuse SELFPRGEN is not programmed");
        return;
    }
    const std::uint32_t address = z();
    if (chip_.is(lockBits_) && chip_.table().bootBytes != 0) {
        // A lock bit can be cleared, never set.
        fuses_[kLock] = static_cast<std::uint8_t>(fuses_[kLock] & (cpu_.data[0] | 0xC0));
        store(spmcsr_, 0, lockBits_.mask | enable_.mask);
    } else if (chip_.is(erase_) || chip_.is(writePage_)) {
        if (mayProgram(address)) {
            programPage(chip_.is(erase_));
        } else {
            chip_.note("spm-locked", fmt::format("the lock bits forbid SPM to change flash at 0x{:04x}", address));
            store(spmcsr_, 0, static_cast<std::uint8_t>(~source_.enable.mask));
        }
    } else if (chip_.is(reopen_)) {
        chip_.put(busySection_, false);
        clearBuffer();
        store(spmcsr_, 0, reopen_.mask | enable_.mask);
    } else {
        const std::size_t word = address / 2 % page_.size();
        // A word of the buffer can be filled once; it then waits for the page to be written.
        if (filled_[word] == 0)
            page_[word] = static_cast<std::uint16_t>(cpu_.data[0] | (cpu_.data[1] << 8));
        filled_[word] = 1;
        store(spmcsr_, 0, enable_.mask);
    }
    updateInterrupt();
    updateLoads();
}

void SelfProgramming::programPage(bool erase)
{
    const std::uint32_t address = z();
    const std::uint32_t first = address / chip_.table().pageBytes * (chip_.table().pageBytes / 2);
    std::vector<std::uint16_t> words(page_.size(), 0xFFFF);
    for (std::size_t i = 0; i < words.size() && !erase; ++i)
        words[i] = page_[i] & cpu_.flash()[first + i];
    cpu_.patchFlash(first, words);
    if (!erase)
        clearBuffer();
    alarm_.arm(chip_.queue().now() + kPageTime);
    if (chip_.table().bootBytes != 0 && address < nrwwStart())
        chip_.put(busySection_, true);
    else
        chip_.haltCore(static_cast<int>(chip_.clock().firstCycleAtOrAfter(chip_.queue().now() + kPageTime).n - chip_.cycleNow()));
}

std::uint8_t SelfProgramming::loadProgramMemory(std::uint32_t byteAddress, std::int64_t cycle)
{
    if (chip_.is(enable_) && window(cycle, kLoadWindow + 2)) {
        if (chip_.is(lockBits_)) {
            constexpr std::array<std::size_t, 4> kByZ{0, kLock, 2, 1};
            store(spmcsr_, 0, lockBits_.mask | enable_.mask);
            updateLoads();
            return fuses_[kByZ[byteAddress & 3U]];
        }
        if (chip_.is(signature_)) {
            const std::uint32_t at = byteAddress & 0x1FU;
            store(spmcsr_, 0, signature_.mask | enable_.mask);
            updateLoads();
            if (at == 1)
                return chip_.reg(chip_.names().reg("OSCCAL"));
            return at % 2 == 0 && at / 2 < 3 ? chip_.table().signature[at / 2] : 0xFF;
        }
    }
    if (chip_.is(busySection_) && byteAddress < nrwwStart()) {
        chip_.note("rww-busy", "flash was read in the section that is being programmed: it reads as nothing; wait for SPMEN to clear and set RWWSRE");
        return 0xFF;
    }
    if (!mayRead(byteAddress)) {
        chip_.note("lpm-locked", fmt::format("the lock bits forbid to read flash at 0x{:04x} from here: it reads as nothing", byteAddress));
        return 0xFF;
    }
    const std::uint16_t word = cpu_.flash()[(byteAddress >> 1) % cpu_.core().flashWords];
    return static_cast<std::uint8_t>((byteAddress & 1) != 0 ? word >> 8 : word);
}

void SelfProgramming::executing(std::uint32_t word)
{
    if (chip_.is(busySection_) && word * 2 < nrwwStart())
        chip_.note("rww-busy", fmt::format("code runs at 0x{:04x}, in the section of flash that is being programmed; on silicon this reads as nothing. Are the interrupt vectors moved?", word * 2));
}

// A page in progress is finished; its busy bits start anew.
void SelfProgramming::reset()
{
    alarm_.disarm();
    setAt_ = INT64_MIN / 2;
    clearBuffer();
    updateInterrupt();
    updateLoads();
}

}  // namespace bramix::chip::avr
