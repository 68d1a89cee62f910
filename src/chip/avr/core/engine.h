// The engine: flash decoded once into 32-byte records, run by indirect jumps from record to record.
//
// The idea: time is not counted an instruction. prefix[pc] is the cost of everything from pc to the end of flash in straight
// order, negated, so that for straight code now = base + prefix[pc] with a constant base, and only a taken transfer moves base, by an amount
// known when decoding. Instructions are counted in the upper half of the same 64-bit number.
//
//   packed number:  63 ........ 32 | 31 ........ 0
//                   instructions     cycles          both relative to the entry into fast()
//
// A run is the straight code up to and including the next instruction that never falls through. need[pc] is prefix[pc] plus the
// cost up to the start of the run's last instruction: while base + need < limit the whole run may go without looking at
// the deadline. Where it may not, the last instruction before the limit at which every flag is exact gets a guard in place of its handler; from there
// the reference stepper goes instruction by instruction, so a stop is exact.
//
// Flags are lazy: C; a number that is zero when Z is set; the result for N; and the carries a ^ b ^ result, of which bits 8 and 7
// make V and bit 4 makes H. A backward pass picks for each instruction the handler that computes only flags that somebody may
// still see. Branches, memory accesses and everything slow count as somebody.
//
// I/O at an address known when decoding (IN, OUT, SBI, CBI, SBIS, SBIC, LDS, STS) is carried out in place, at its exact cycle; it may only lower
// the deadline. What is rarer or looks at more (sleep, SEI, RETI, pointers outside SRAM) is left to the stepper: write back, step, read
// again.
//
// Pairs that compilers write often (a word's two halves, a comparison and its branch) have a handler for both. The second keeps its own record and
// handler, so that a jump between them works; a guard or a breakpoint on the second takes the pair apart.
//
// Where the time of each part of the code is asked for (code_time.h), calls, returns and jumps out of a part tell where they lead; what else could lead
// into another part is left to the stepper.
//
// Counted delay loops are recognised by their shape when decoded, and gone through in closed form up to the deadline; a jump to itself likewise.
//
// Tested by tests/chip/avr/core/engine_test.cpp against the stepper, state for state, on random programs and random stops. Timed by
// perf/bramix_perf.cpp; figures in perf/README.md.
#pragma once

#include <cstdint>
#include <vector>

#include "chip/avr/core/isa.h"

namespace bramix::chip::avr {

class Cpu;
struct HandlerTable;

class Engine {
public:
    explicit Engine(Cpu& cpu);

    void decodeAll();
    void run();

private:
    struct Record {
        const void* handler = nullptr;
        std::int64_t delta = 0;    // what a taken transfer adds to base; for a computed target, prefix[target] is still to be subtracted
        std::uint32_t target = 0;  // record index
        std::uint32_t need = 0;
        std::uint32_t next = 0;    // record index after this instruction: return addresses
        std::uint16_t k = 0;
        std::uint8_t d = 0;
        std::uint8_t r = 0;
    };
    static_assert(sizeof(Record) == 32);

    // Which handler of an instruction: all flags, C and Z only, none.
    enum Live : std::uint8_t { kAllFlags, kCarryZero, kNoFlags, kLives };

    // Runs records until the limit is near. Called with `table` set, it fills in the addresses of the handlers instead.
    void fast(HandlerTable* table);
    const HandlerTable& handlers();
    void takeGuardOff();
    void fusePairs();
    void fillRecord(std::uint32_t pc, const Instruction& i, Live live);
    void findCountedLoop(std::uint32_t pc, const Instruction& branch);
    void markCrossings(std::uint32_t pc, const Instruction& i);
    [[nodiscard]] bool mayTouchWatched(const Instruction& i) const;
    [[nodiscard]] bool isCoreRegister(std::uint16_t address) const;
    [[nodiscard]] bool canEnter() const;

    Cpu& cpu_;
    const HandlerTable& handlers_;
    std::vector<Record> records_;
    std::vector<const void*> alone_;  // each record's own handler, where its present one does the next record's work as well
    std::vector<std::int64_t> prefix_;
    // Eight instructions in straight order: where they end, and how far on (plus 1) the last exact one among them lies; 0: none.
    struct Stride {
        std::uint32_t end = 0;
        std::uint32_t lastExact = 0;
    };
    std::vector<Stride> strides_;
    // Set while fast() runs towards its limit, and looked at only near it: kept here so as not to take registers from the loop.
    struct Guard {
        Record* at = nullptr;          // the record whose handler looks at the time
        const void* own = nullptr;     // that record's handler
        const void* before = nullptr;  // and that of the record before it, which must not run through as the first of a pair
    };
    Guard guard_;
    std::vector<std::uint8_t> exact_;  // every flag is computed when control comes to this instruction in straight order
};

}  // namespace bramix::chip::avr
