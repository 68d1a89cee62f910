#include "chip/riscv/core/cpu.h"

#include <bit>
#include <cstring>

namespace bramix::chip::riscv {

namespace {

constexpr std::uint32_t kMie = 8, kMpie = 0x80, kMpp = 0x1800, kMprv = 0x20000, kTw = 0x200000;
constexpr std::uint32_t kStatusMask = kMie | kMpie | kMpp | kMprv | kTw;
constexpr std::uint32_t kIsa = 0x40101104;  // RV32, I, M, C, U

}  // namespace

void Cpu::reset(std::uint32_t entry)
{
    x.fill(0);
    pc = entry;
    mode = 3;
    mstatus = kMpp;
    mtvec = 1;
    mscratch = mepc = mcause = mtval = 0;
    entries = 0;
    sleeping = returned = false;
    entered = 0;
}

std::uint32_t Cpu::fetchWord()
{
    const std::uint8_t* at = map_.readable(pc);
    std::uint32_t word = 0;
    if (at != nullptr && PageMap::within(pc, 4)) [[likely]] {
        std::memcpy(&word, at, 4);
        return word;
    }
    word = bus_.fetch(pc);
    return isLong(word) ? word | std::uint32_t{bus_.fetch(pc + 2)} << 16 : word;
}

std::uint32_t Cpu::load(std::uint32_t address, unsigned size)
{
    if (const std::uint8_t* at = map_.readable(address); at != nullptr && PageMap::within(address, size)) [[likely]] {
        std::uint32_t out = 0;
        std::memcpy(&out, at, size);
        return out;
    }
    if ((address & (size - 1)) == 0)
        return bus_.read(address, size, cycle + cycles_);
    std::uint32_t out = 0;
    for (unsigned i = 0; i < size; ++i)
        out |= bus_.read(address + i, 1, cycle + cycles_) << (8 * i);
    return out;
}

void Cpu::store(std::uint32_t address, unsigned size, std::uint32_t value)
{
    if (std::uint8_t* at = map_.writable(address); at != nullptr && PageMap::within(address, size)) [[likely]] {
        std::memcpy(at, &value, size);
        return;
    }
    if ((address & (size - 1)) == 0)
        return bus_.write(address, size, value, cycle + cycles_);
    for (unsigned i = 0; i < size; ++i)
        bus_.write(address + i, 1, (value >> (8 * i)) & 0xFFU, cycle + cycles_);
}

// Every halfword that is a whole instruction, decoded once.
const Instruction& Cpu::compressed(std::uint32_t half)
{
    static const std::vector<Instruction> kAll = [] {
        std::vector<Instruction> all(0x10000);
        for (std::uint32_t h = 0; h < 0x10000; ++h)
            all[h] = decode(h);
        return all;
    }();
    return kAll[half & 0xFFFFU];
}

void Cpu::step()
{
    cycles_ = 1;
    try {
        const std::uint32_t word = fetchWord();
        if (isLong(word)) {
            next_ = pc + 4;
            execute(decode(word));
        } else {
            next_ = pc + 2;
            execute(compressed(word));
        }
        pc = next_;
        cycle += cycles_;
        ++instructions;
    } catch (const Trap& t) {
        cycle += cycles_;
        trap(t.cause, t.value);
    }
}

void Cpu::trap(std::uint32_t cause, std::uint32_t value)
{
    mepc = pc;
    mcause = cause;
    mtval = value;
    mstatus = (mstatus & ~(kMpie | kMie | kMpp)) | ((mstatus & kMie) != 0 ? kMpie : 0U) | std::uint32_t{mode} << 11;
    mode = 3;
    const bool vectored = (mtvec & 3U) == 1;
    pc = (mtvec & ~0xFFU) + (vectored && (cause & kInterrupt) != 0 ? 4 * (cause & 31U) : 0U);
    if (!vectored)
        pc = mtvec & ~3U;
    cycle += kTrapEntry;
    ++entries;
    entered = exceptionOf(cause);
}

void Cpu::execute(const Instruction& i)
{
    std::uint32_t out = 0;
    const std::uint32_t a = x[i.a], b = x[i.b];
    const auto imm = static_cast<std::uint32_t>(i.imm);
    const auto sa = static_cast<std::int32_t>(a), sb = static_cast<std::int32_t>(b);
    const auto branch = [&](bool taken) {
        if (taken) {
            next_ = pc + imm;
            cycles_ += kTakenBranch;
        }
    };
    switch (i.op) {
    case Op::lui: out = imm; break;
    case Op::auipc: out = pc + imm; break;
    case Op::jal:
        out = next_;
        next_ = pc + imm;
        cycles_ += kJump;
        break;
    case Op::jalr:
        out = next_;
        next_ = (a + imm) & ~1U;
        cycles_ += kTakenBranch;
        break;
    case Op::beq: return branch(a == b);
    case Op::bne: return branch(a != b);
    case Op::blt: return branch(sa < sb);
    case Op::bge: return branch(sa >= sb);
    case Op::bltu: return branch(a < b);
    case Op::bgeu: return branch(a >= b);
    case Op::lb: out = static_cast<std::uint32_t>(static_cast<std::int8_t>(load(a + imm, 1))), cycles_ += kLoad; break;
    case Op::lh: out = static_cast<std::uint32_t>(static_cast<std::int16_t>(load(a + imm, 2))), cycles_ += kLoad; break;
    case Op::lw: out = load(a + imm, 4), cycles_ += kLoad; break;
    case Op::lbu: out = load(a + imm, 1), cycles_ += kLoad; break;
    case Op::lhu: out = load(a + imm, 2), cycles_ += kLoad; break;
    case Op::sb: return store(a + imm, 1, b & 0xFFU);
    case Op::sh: return store(a + imm, 2, b & 0xFFFFU);
    case Op::sw: return store(a + imm, 4, b);
    case Op::addi: out = a + imm; break;
    case Op::slti: out = sa < i.imm ? 1 : 0; break;
    case Op::sltiu: out = a < imm ? 1 : 0; break;
    case Op::xori: out = a ^ imm; break;
    case Op::ori: out = a | imm; break;
    case Op::andi: out = a & imm; break;
    case Op::slli: out = a << i.imm; break;
    case Op::srli: out = a >> i.imm; break;
    case Op::srai: out = static_cast<std::uint32_t>(sa >> i.imm); break;
    case Op::add: out = a + b; break;
    case Op::sub: out = a - b; break;
    case Op::sll: out = a << (b & 31U); break;
    case Op::slt: out = sa < sb ? 1 : 0; break;
    case Op::sltu: out = a < b ? 1 : 0; break;
    case Op::xor_: out = a ^ b; break;
    case Op::srl: out = a >> (b & 31U); break;
    case Op::sra: out = static_cast<std::uint32_t>(sa >> (b & 31U)); break;
    case Op::or_: out = a | b; break;
    case Op::and_: out = a & b; break;
    case Op::mul: out = a * b; break;
    case Op::mulh: out = static_cast<std::uint32_t>((std::int64_t{sa} * sb) >> 32), cycles_ += kMultiplyHigh; break;
    case Op::mulhsu: out = static_cast<std::uint32_t>((std::int64_t{sa} * static_cast<std::int64_t>(b)) >> 32), cycles_ += kMultiplyHigh; break;
    case Op::mulhu: out = static_cast<std::uint32_t>((std::uint64_t{a} * b) >> 32), cycles_ += kMultiplyHigh; break;
    // Division by nothing and overflow give what the manual's table 7.1 says; nothing traps.
    case Op::div: out = b == 0 ? ~0U : sb == -1 ? 0U - a : static_cast<std::uint32_t>(sa / sb), cycles_ += kDivide; break;
    case Op::divu: out = b == 0 ? ~0U : a / b, cycles_ += kDivide; break;
    case Op::rem: out = b == 0 ? a : sb == -1 ? 0 : static_cast<std::uint32_t>(sa % sb), cycles_ += kDivide; break;
    case Op::remu: out = b == 0 ? a : a % b, cycles_ += kDivide; break;
    case Op::fence: case Op::fencei: return;
    case Op::undefined: case Op::count: {
        std::uint32_t word = 0;
        try {
            word = fetchWord();
        } catch (const Trap&) {
            word = 0;
        }
        throw Trap{kIllegal, isLong(word) ? word : word & 0xFFFFU};
    }
    default: return system(i);
    }
    if (i.d != 0)
        x[i.d] = out;
}

void Cpu::system(const Instruction& i)
{
    switch (i.op) {
    case Op::ecall: throw Trap{mode == 3 ? kCallFromMachine : kCallFromUser, 0};
    case Op::ebreak: throw Trap{kBreakpoint, pc};
    case Op::wfi:
        if (mode != 3 && (mstatus & kTw) != 0)
            throw Trap{kIllegal, 0x10500073};
        sleeping = true;
        return;
    case Op::mret:
        if (mode != 3)
            throw Trap{kIllegal, 0x30200073};
        mode = static_cast<std::uint8_t>((mstatus >> 11) & 3U);
        if (mode != 3)
            mstatus &= ~kMprv;
        mstatus = (mstatus & ~(kMie | kMpp)) | ((mstatus & kMpie) != 0 ? kMie : 0U) | kMpie;
        next_ = mepc;
        cycles_ += kTakenBranch;
        if (entries != 0) {
            --entries;
            returned = true;
        }
        bus_.interruptsEnabled();
        return;
    default: break;
    }
    // CSRs (volume I, chapter 9). The two bits above the number say who may use it, and whether it can be written.
    const auto number = static_cast<unsigned>(i.imm);
    const bool immediate = i.op == Op::csrrwi || i.op == Op::csrrsi || i.op == Op::csrrci;
    const std::uint32_t operand = immediate ? i.a : x[i.a];
    const bool writes = i.op == Op::csrrw || i.op == Op::csrrwi || i.a != 0;
    std::uint32_t word = 0;
    const auto illegal = [&] {
        word = fetchWord();
        throw Trap{kIllegal, word};
    };
    if (mode < ((number >> 8) & 3U) || (writes && (number >> 10) == 3))
        illegal();
    std::optional<std::uint32_t> value = csr(number);
    if (!value)
        value = bus_.readCsr(number);
    if (!value)
        illegal();
    if (writes) {
        const std::uint32_t before = *value;
        const std::uint32_t to = i.op == Op::csrrw || i.op == Op::csrrwi ? operand : i.op == Op::csrrs || i.op == Op::csrrsi ? before | operand : before & ~operand;
        if (!setCsr(number, to) && !bus_.writeCsr(number, to))
            illegal();
        if (number == 0x300)
            bus_.interruptsEnabled();
    }
    if (i.d != 0)
        x[i.d] = *value;
}

std::optional<std::uint32_t> Cpu::csr(unsigned number) const
{
    switch (number) {
    case 0x300: return mstatus;
    case 0x301: return kIsa;
    case 0x305: return mtvec;
    case 0x340: return mscratch;
    case 0x341: return mepc;
    case 0x342: return mcause;
    case 0x343: return mtval;
    case 0xF14: return 0;  // mhartid
    default: return std::nullopt;
    }
}

bool Cpu::setCsr(unsigned number, std::uint32_t value)
{
    switch (number) {
    case 0x300:
        mstatus = value & kStatusMask;
        if ((mstatus & kMpp) != kMpp)
            mstatus &= ~kMpp;
        return true;
    case 0x301: return true;
    case 0x305: mtvec = value & ((value & 1U) != 0 ? 0xFFFFFF01U : ~3U); return true;
    case 0x340: mscratch = value; return true;
    case 0x341: mepc = value & ~1U; return true;
    case 0x342: mcause = value & 0x8000001FU; return true;
    case 0x343: mtval = value; return true;
    default: return false;
    }
}

const char* nameOfCause(std::uint32_t cause)
{
    static constexpr const char* kNames[] = {"instruction misaligned", "instruction access fault", "illegal instruction", "breakpoint", "load misaligned", "load access fault", "store misaligned", "store access fault", "call from user mode", "", "", "call from machine mode"};
    return cause < 12 ? kNames[cause] : "";
}

const char* nameOfCsr(unsigned number)
{
    struct Row {
        unsigned number;
        const char* name;
    };
    static constexpr Row kRows[] = {{0x001, "fflags"}, {0x300, "mstatus"}, {0x301, "misa"}, {0x304, "mie"}, {0x305, "mtvec"}, {0x306, "mcounteren"}, {0x320, "mcountinhibit"}, {0x340, "mscratch"}, {0x341, "mepc"}, {0x342, "mcause"},
                                    {0x343, "mtval"}, {0x344, "mip"}, {0x7A0, "tselect"}, {0x7A1, "tdata1"}, {0x7A2, "tdata2"}, {0xB00, "mcycle"}, {0xB02, "minstret"}, {0xB80, "mcycleh"}, {0xB82, "minstreth"},
                                    {0xC00, "cycle"}, {0xC01, "time"}, {0xC02, "instret"}, {0xC80, "cycleh"}, {0xC81, "timeh"}, {0xC82, "instreth"}, {0xF11, "mvendorid"}, {0xF12, "marchid"}, {0xF13, "mimpid"}, {0xF14, "mhartid"}};
    for (const Row& row : kRows)
        if (row.number == number)
            return row.name;
    return nullptr;
}

}  // namespace bramix::chip::riscv
