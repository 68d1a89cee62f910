// Decoding flash into records: costs, targets, and which flags each instruction must still compute.
#include <algorithm>

#include "chip/avr/cpu.h"
#include "chip/avr/engine.h"
#include "chip/avr/engine_handlers.h"

namespace bramix::chip::avr {

namespace {

// What an instruction needs of the flags, and which it writes wholly. C and Z are one group, the rest (N V S H) another.
struct FlagUse {
    bool readsCz = false;
    bool readsRest = false;
    bool writesCz = false;
    bool writesRest = false;
};

FlagUse flagUse(Op op)
{
    switch (op) {
    case Op::add: case Op::sub: case Op::subi: case Op::cp: case Op::cpi: case Op::neg: return {false, false, true, true};
    case Op::adc: case Op::sbc: case Op::sbci: case Op::cpc: return {true, false, true, true};
    // Not written wholly: H survives shifts and word arithmetic, C and H survive logic. What was live before stays live.
    case Op::lsr: case Op::asr: case Op::adiw: case Op::sbiw: case Op::com: return {false, false, true, false};
    case Op::ror: return {true, false, true, false};
    case Op::and_: case Op::andi: case Op::or_: case Op::ori: case Op::eor: case Op::inc: case Op::dec: return {};
    case Op::mul: case Op::muls: case Op::mulsu: case Op::fmul: case Op::fmuls: case Op::fmulsu: return {false, false, true, false};
    case Op::mov: case Op::movw: case Op::ldi: case Op::swap: case Op::nop: case Op::bst: case Op::bld: return {};
    default: return {true, true, false, false};  // branches, memory, transfers, whatever may leave the engine
    }
}

}  // namespace

// The addresses of the handlers, known only inside fast().
const HandlerTable& Engine::handlers()
{
    static const HandlerTable table = [this] {
        HandlerTable t;
        fast(&t);
        return t;
    }();
    return table;
}

Engine::Engine(Cpu& cpu) : cpu_(cpu), handlers_(handlers()) {}

void Engine::decodeAll()
{
    const std::uint32_t words = cpu_.core_.flashWords;
    records_.assign(words + 2, Record{});
    prefix_.assign(words + 2, 0);
    records_[words].handler = records_[words + 1].handler = handlers_.special[kSlow];
    std::vector<std::uint32_t> toEnd(words + 2, 0);
    // Which flag groups somebody may see after the instruction that ends before pc.
    std::vector<std::uint8_t> live(words + 2, 3);
    for (std::uint32_t pc = words; pc-- > 0;) {
        const Instruction i = cpu_.decodeAt(pc);
        const std::uint32_t next = pc + i.words;
        prefix_[pc] = prefix_[next] - (kOneInstruction + i.cycles);
        toEnd[pc] = endsRun(i.op) ? 0 : std::min(toEnd[next] + i.cycles, static_cast<std::uint32_t>(kLongestSlice));
        const FlagUse use = flagUse(i.op);
        const bool seesCz = endsRun(i.op) || (live[next] & 1) != 0;
        const bool seesRest = endsRun(i.op) || (live[next] & 2) != 0;
        live[pc] = static_cast<std::uint8_t>((use.readsCz || (seesCz && !use.writesCz) ? 1 : 0) | (use.readsRest || (seesRest && !use.writesRest) ? 2 : 0));
        fillRecord(pc, i, seesRest ? kAllFlags : seesCz ? kCarryZero : kNoFlags);
        records_[pc].need = static_cast<std::uint32_t>(prefix_[pc]) + toEnd[pc];
    }
    // Targets lie anywhere, so what a transfer adds is known only now.
    for (std::uint32_t pc = 0; pc < words; ++pc) {
        const Instruction i = cpu_.decodeAt(pc);
        Record& record = records_[pc];
        std::int64_t cost = i.cycles;
        switch (i.op) {
        case Op::cpse: case Op::sbrc: case Op::sbrs: {
            const bool two = pc + 1 < words && isTwoWords(cpu_.flash_[pc + 1]);
            record.target = std::min(pc + (two ? 3 : 2), words);
            cost += two ? 2 : 1;
            break;
        }
        case Op::brbs: case Op::brbc: cost += 1; [[fallthrough]];
        case Op::rjmp: case Op::jmp: case Op::rcall: case Op::call:
            record.target = i.target;
            if (i.target >= words) {
                record.target = 0;
                record.handler = handlers_.special[kSlow];
            }
            break;
        default: break;
        }
        const bool computed = i.op == Op::ijmp || i.op == Op::icall || i.op == Op::ret;
        record.delta = prefix_[pc] + kOneInstruction + cost - (computed ? 0 : prefix_[record.target]);
    }
}

void Engine::fillRecord(std::uint32_t pc, const Instruction& i, Live live)
{
    Record& record = records_[pc];
    record.handler = handlers_.byOp[static_cast<std::size_t>(i.op)][live];
    record.next = pc + i.words;
    record.k = i.k;
    record.d = i.d;
    record.r = i.r;
    switch (i.op) {
    case Op::brbs: record.handler = handlers_.special[kIfSetC + 2U * i.r]; break;
    case Op::brbc: record.handler = handlers_.special[kIfSetC + 2U * i.r + 1]; break;
    case Op::bset: record.handler = handlers_.special[i.r == 0 ? kSetC : i.r == 6 ? kSetT : kSlow]; break;
    case Op::bclr: record.handler = handlers_.special[i.r == 0 ? kClearC : i.r == 6 ? kClearT : i.r == 7 ? kClearI : kSlow]; break;
    case Op::rjmp: case Op::jmp:
        if (i.target == pc) {
            record.handler = handlers_.special[kSelfJump];
            record.k = i.cycles;
        }
        break;
    default: break;
    }
}

}  // namespace bramix::chip::avr
