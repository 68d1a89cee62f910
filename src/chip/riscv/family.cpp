#include "chip/riscv/family.h"

#include "chip/riscv/esp32c3/chip.h"
#include "chip/riscv/esp32c3/device.h"

namespace bramix::chip::riscv {

namespace {

std::span<const Device* const> devices()
{
    static const std::array<const Device*, 1> all{&esp32c3()};
    return all;
}

InstructionInfo decodeAt(const Device&, const CodeView& code, std::uint32_t address)
{
    if (address < code.begin || std::size_t{address} - code.begin + 1 >= code.bytes.size())
        return {};
    std::uint32_t word = 0;
    for (std::size_t i = 0; i < 4 && address - code.begin + i < code.bytes.size(); ++i)
        word |= std::uint32_t{code.bytes[address - code.begin + i]} << (8 * i);
    return infoOf(decode(word), address);
}

}  // namespace

InstructionInfo infoOf(const Instruction& i, std::uint32_t address)
{
    InstructionInfo out;
    out.size = i.size;
    out.flow = Flow::next;
    const auto reads = [&](std::uint8_t r) {
        if (r != 0)
            out.reads.set(r);
    };
    const auto writes = [&](std::uint8_t r) {
        if (r != 0)
            out.writes.set(r);
    };
    constexpr std::uint8_t kRa = 1, kAlternate = 5;
    const auto links = [](std::uint8_t r) { return r == kRa || r == kAlternate; };
    switch (i.op) {
    case Op::undefined: case Op::count: out.flow = Flow::none; break;
    case Op::lui: case Op::auipc: writes(i.d); break;
    case Op::jal:
        writes(i.d);
        out.flow = links(i.d) ? Flow::call : Flow::jump;
        out.target = address + static_cast<std::uint32_t>(i.imm);
        break;
    case Op::jalr:
        reads(i.a);
        writes(i.d);
        // The hints of the return-address stack (volume I, table 2.1).
        out.flow = links(i.d) ? Flow::indirectCall : links(i.a) ? Flow::return_ : Flow::indirectJump;
        break;
    case Op::beq: case Op::bne: case Op::blt: case Op::bge: case Op::bltu: case Op::bgeu:
        reads(i.a), reads(i.b);
        out.flow = Flow::branch;
        out.target = address + static_cast<std::uint32_t>(i.imm);
        break;
    case Op::lb: case Op::lh: case Op::lw: case Op::lbu: case Op::lhu: reads(i.a), writes(i.d); break;
    case Op::sb: case Op::sh: case Op::sw: reads(i.a), reads(i.b), out.stores = true; break;
    case Op::addi: case Op::slti: case Op::sltiu: case Op::xori: case Op::ori: case Op::andi: case Op::slli: case Op::srli: case Op::srai: reads(i.a), writes(i.d); break;
    case Op::mret: out.flow = Flow::exceptionReturn; break;
    case Op::fence: case Op::fencei: case Op::ecall: case Op::ebreak: case Op::wfi: break;
    case Op::csrrw: case Op::csrrs: case Op::csrrc: reads(i.a), writes(i.d); break;
    case Op::csrrwi: case Op::csrrsi: case Op::csrrci: writes(i.d); break;
    default: reads(i.a), reads(i.b), writes(i.d); break;
    }
    return out;
}

const Family& family()
{
    static constexpr BuildTool kTools[] = {{"riscv64-unknown-elf-gcc", "gcc-riscv64-unknown-elf picolibc-riscv64-unknown-elf"}};
    static const Family all{
        .name = "riscv",
        .devices = devices,
        .make = [](const Device&, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer) -> std::unique_ptr<Mcu> { return std::make_unique<Esp32c3>(options, queue, circuit, observer); },
        .isPortPin = [](const Device&, std::string_view pin) { return Esp32c3::padNamed(pin).has_value(); },
        .decode = decodeAt,
        .tools = kTools,
    };
    return all;
}

}  // namespace bramix::chip::riscv
