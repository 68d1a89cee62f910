#include "chip/cortexm/family.h"

#include <bit>

#include "chip/cortexm/stm32f1/chip.h"
#include "chip/cortexm/stm32f1/device.h"

namespace bramix::chip::cortexm {

namespace {

InstructionInfo decodeAt(const Device&, const CodeView& code, std::uint32_t address)
{
    const auto half = [&](std::size_t at) { return at + 1 < code.bytes.size() ? static_cast<std::uint16_t>(code.bytes[at] | (code.bytes[at + 1] << 8)) : std::uint16_t{0xFFFF}; };
    if (address < code.begin || std::size_t{address} - code.begin + 1 >= code.bytes.size())
        return {};
    const std::size_t at = address - code.begin;
    return infoOf(decode(half(at), half(at + 2)), address);
}

}  // namespace

InstructionInfo infoOf(const Instruction& i, std::uint32_t address)
{
    InstructionInfo out;
    out.size = i.size;
    out.flow = Flow::next;
    const auto reads = [&](std::uint8_t r) { out.reads.set(r); };
    const auto writes = [&](std::uint8_t r) {
        if (r == kPc)
            out.flow = Flow::indirectJump;
        else
            out.writes.set(r);
    };
    const std::uint32_t target = address + 4 + i.imm;
    const bool operandInRegister = i.operand != Operand::immediate;
    if (i.flags != Flags::never)
        out.writes.set(kXpsrRegister);
    switch (i.op) {
    case Op::undefined: out.flow = Flow::none; break;
    case Op::mov: case Op::mvn:
        if (operandInRegister)
            reads(i.m);
        if (i.operand == Operand::byRegister)
            reads(i.n);
        writes(i.d);
        if (i.op == Op::mov && i.d == kPc && i.m == kLr)
            out.flow = Flow::return_;
        break;
    case Op::tst: case Op::teq: case Op::cmp: case Op::cmn:
        reads(i.n);
        if (operandInRegister)
            reads(i.m);
        break;
    case Op::and_: case Op::bic: case Op::orr: case Op::orn: case Op::eor: case Op::add: case Op::adc: case Op::sub: case Op::sbc: case Op::rsb:
        reads(i.n);
        if (operandInRegister)
            reads(i.m);
        if (i.op == Op::adc || i.op == Op::sbc)
            out.reads.set(kXpsrRegister);
        writes(i.d);
        break;
    case Op::movt: case Op::bfc: reads(i.d), writes(i.d); break;
    case Op::bfi: reads(i.d), reads(i.n), writes(i.d); break;
    case Op::sbfx: case Op::ubfx: reads(i.n), writes(i.d); break;
    case Op::ssat: case Op::usat: reads(i.m), writes(i.d); break;
    case Op::mul: case Op::sdiv: case Op::udiv: reads(i.n), reads(i.m), writes(i.d); break;
    case Op::mla: case Op::mls: reads(i.n), reads(i.m), reads(i.a), writes(i.d); break;
    case Op::smull: case Op::umull: reads(i.n), reads(i.m), writes(i.d), writes(i.a); break;
    case Op::smlal: case Op::umlal: reads(i.n), reads(i.m), reads(i.d), reads(i.a), writes(i.d), writes(i.a); break;
    case Op::clz: case Op::rbit: case Op::rev: case Op::rev16: case Op::revsh: case Op::sxtb: case Op::sxth: case Op::uxtb: case Op::uxth: reads(i.m), writes(i.d); break;
    case Op::ldr: case Op::ldrb: case Op::ldrh: case Op::ldrsb: case Op::ldrsh: case Op::ldrd: case Op::ldrex: case Op::ldrexb: case Op::ldrexh:
        reads(i.n);
        if (operandInRegister)
            reads(i.m);
        if (i.writeBack)
            out.writes.set(i.n);
        writes(i.d);
        if (i.op == Op::ldrd)
            writes(i.a);
        if (i.d == kPc && i.n == kSp)
            out.flow = Flow::return_;
        break;
    case Op::str: case Op::strb: case Op::strh: case Op::strd: case Op::strex: case Op::strexb: case Op::strexh:
        reads(i.n);
        if (operandInRegister)
            reads(i.m);
        if (i.op == Op::strex || i.op == Op::strexb || i.op == Op::strexh)
            reads(i.a), writes(i.d);
        else
            reads(i.d);
        if (i.op == Op::strd)
            reads(i.a);
        if (i.writeBack)
            out.writes.set(i.n);
        out.stores = true;
        break;
    case Op::ldm: case Op::stm:
        reads(i.n);
        if (i.writeBack)
            out.writes.set(i.n);
        out.stores = i.op == Op::stm;
        for (std::uint8_t r = 0; r < 15; ++r)
            if (((i.list >> r) & 1) != 0)
                (i.op == Op::ldm ? out.writes : out.reads).set(r);
        if (i.op == Op::ldm && ((i.list >> 15) & 1) != 0)
            out.flow = Flow::return_;
        break;
    case Op::b: out.flow = i.condition == kAlways ? Flow::jump : Flow::branch, out.target = target; break;
    case Op::bl: out.flow = Flow::call, out.target = target, writes(kLr); break;
    case Op::bx: reads(i.m), out.flow = i.m == kLr ? Flow::return_ : Flow::indirectJump; break;
    case Op::blx: reads(i.m), writes(kLr), out.flow = Flow::indirectCall; break;
    case Op::cbz: case Op::cbnz: reads(i.n), out.flow = Flow::branch, out.target = target; break;
    case Op::tbb: case Op::tbh: reads(i.n), reads(i.m), out.flow = Flow::indirectJump; break;
    case Op::mrs: writes(i.d); break;
    case Op::msr: reads(i.n); break;
    default: break;
    }
    return out;
}

const Family& family()
{
    static constexpr BuildTool kTools[] = {{"arm-none-eabi-gcc", "gcc-arm-none-eabi libnewlib-arm-none-eabi"}};
    static const Family all{
        .name = "cortexm",
        .devices = devices,
        .make = [](const Device& device, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer) -> std::unique_ptr<Mcu> { return std::make_unique<Stm32f1>(modelOf(device), options, queue, circuit, observer); },
        .isPortPin = [](const Device&, std::string_view pin) { return Stm32f1::pinNamed(pin).exists(); },
        .decode = decodeAt,
        .tools = kTools,
    };
    return all;
}

}  // namespace bramix::chip::cortexm
