#include "chip/arm9/family.h"

#include <array>

#include "chip/arm9/arm926/chip.h"
#include "chip/arm9/arm926/device.h"

namespace bramix::chip::arm9 {

namespace {

std::span<const Device* const> devices()
{
    static const std::array<const Device*, 1> all{&arm926()};
    return all;
}

// Code alone does not say in which state it runs: a word whose condition is "always" is ARM.
InstructionInfo decodeAt(const Device&, const CodeView& code, std::uint32_t address)
{
    if (address < code.begin || std::size_t{address} - code.begin + 1 >= code.bytes.size())
        return {};
    std::uint32_t word = 0;
    for (std::size_t i = 0; i < 4 && address - code.begin + i < code.bytes.size(); ++i)
        word |= std::uint32_t{code.bytes[address - code.begin + i]} << (8 * i);
    const bool arm = (address & 3U) == 0 && (word >> 28) == 14U;
    return arm ? infoOfArm(word, address) : infoOfThumb(static_cast<std::uint16_t>(word), static_cast<std::uint16_t>(word >> 16), address);
}

}  // namespace

InstructionInfo infoOfArm(std::uint32_t w, std::uint32_t address)
{
    InstructionInfo out;
    out.size = 4;
    out.flow = Flow::next;
    const bool always = (w >> 28) >= 14U;
    const auto reads = [&](std::uint32_t r) {
        if ((r & 15U) != kPc)
            out.reads.set(r & 15U);
    };
    const auto writes = [&](std::uint32_t r) {
        if ((r & 15U) == kPc)
            out.flow = Flow::indirectJump;
        else
            out.writes.set(r & 15U);
    };
    const std::uint32_t n = w >> 16 & 15U, d = w >> 12 & 15U, s = w >> 8 & 15U, m = w & 15U;
    if (!always)
        out.reads.set(kCpsrRegister);
    if ((w >> 28) == 15U) {
        if ((w & 0x0E000000U) == 0x0A000000U) {
            out.flow = Flow::call;
            out.target = address + 8 + (static_cast<std::uint32_t>(static_cast<std::int32_t>(w << 8) >> 6) | (w >> 23 & 2U));
            writes(kLr);
        } else if ((w & 0x0D70F000U) != 0x0550F000U) {
            out.flow = Flow::none;
        }
        return out;
    }
    switch (w >> 25 & 7U) {
    case 0: case 1: {
        if ((w & 0x02000090U) == 0x90U) {
            if ((w & 0x60U) == 0) {
                if ((w & 0x0F000000U) == 0) {
                    reads(m), reads(s), writes(n);
                    if ((w & 1U << 21) != 0 || (w & 1U << 23) != 0)
                        reads(d);
                    if ((w & 1U << 23) != 0)
                        writes(d);
                } else {
                    reads(n), reads(m), writes(d), out.stores = true;  // SWP
                }
                return out;
            }
            reads(n);
            if ((w & 1U << 22) == 0)
                reads(m);
            const bool isLoad = (w & 1U << 20) != 0 || (w & 0x60U) == 0x40U;
            if (isLoad)
                writes(d);
            else
                reads(d), out.stores = true;
            if ((w & 1U << 24) == 0 || (w & 1U << 21) != 0)
                writes(n);
            return out;
        }
        if ((w & 0x01900000U) == 0x01000000U) {
            if ((w & 0x02000000U) != 0 || (w & 0xF0U) == 0) {
                if ((w & 1U << 21) != 0) {
                    if ((w & 0x02000000U) == 0)
                        reads(m);
                    out.writes.set(kCpsrRegister);
                } else {
                    out.reads.set(kCpsrRegister), writes(d);
                }
            } else if ((w & 0x0FF000F0U) == 0x01200010U || (w & 0x0FF000F0U) == 0x01200020U) {
                reads(m);
                out.flow = m == kLr ? Flow::return_ : Flow::indirectJump;
            } else if ((w & 0x0FF000F0U) == 0x01200030U) {
                reads(m), writes(kLr);
                out.flow = Flow::indirectCall;
            } else {
                reads(m), reads(n), reads(s), writes((w & 0x90U) == 0x80U ? n : d);
            }
            return out;
        }
        const std::uint32_t op = w >> 21 & 15U;
        if (op != 13 && op != 15)
            reads(n);
        if ((w & 0x02000000U) == 0) {
            reads(m);
            if ((w & 0x10U) != 0)
                reads(s);
        }
        if (op < 8 || op > 11) {
            writes(d);
            if (d == kPc) {
                out.flow = (w & 1U << 20) != 0 ? Flow::exceptionReturn : op == 13 && (w & 0x02000FFFU) == kLr ? Flow::return_ : Flow::indirectJump;
                return out;
            }
        }
        if ((w & 1U << 20) != 0)
            out.writes.set(kCpsrRegister);
        return out;
    }
    case 2: case 3:
        if ((w & 0x02000010U) == 0x02000010U) {
            out.flow = Flow::none;
            return out;
        }
        reads(n);
        if ((w & 1U << 25) != 0)
            reads(m);
        if ((w & 1U << 24) == 0 || (w & 1U << 21) != 0)
            writes(n);
        if ((w & 1U << 20) != 0) {
            writes(d);
            if (d == kPc && n == kSp)
                out.flow = Flow::return_;
        } else {
            reads(d), out.stores = true;
        }
        return out;
    case 4: {
        reads(n);
        if ((w & 1U << 21) != 0)
            writes(n);
        const bool isLoad = (w & 1U << 20) != 0;
        for (std::uint32_t r = 0; r < 15; ++r)
            if ((w >> r & 1U) != 0)
                (isLoad ? out.writes : out.reads).set(r);
        out.stores = !isLoad;
        if (isLoad && (w & 0x8000U) != 0)
            out.flow = (w & 1U << 22) != 0 ? Flow::exceptionReturn : Flow::return_;
        return out;
    }
    case 5:
        out.target = address + 8 + static_cast<std::uint32_t>(static_cast<std::int32_t>(w << 8) >> 6);
        if ((w & 1U << 24) != 0)
            out.flow = Flow::call, writes(kLr);
        else
            out.flow = always ? Flow::jump : Flow::branch;
        return out;
    default:
        if ((w & 0x0F100010U) == 0x0E100010U)
            writes(d);
        else if ((w & 0x0F100010U) == 0x0E000010U)
            reads(d);
        return out;
    }
}

InstructionInfo infoOfThumb(std::uint16_t half, std::uint16_t second, std::uint32_t address)
{
    const Expanded e = expandThumb(half);
    InstructionInfo out;
    using Kind = Expanded::Kind;
    switch (e.kind) {
    case Kind::arm:
        out = infoOfArm(e.word, address);
        out.size = 2;
        return out;
    case Kind::branch:
        out.size = 2;
        out.flow = e.word == kAlways ? Flow::jump : Flow::branch;
        out.target = address + 4 + static_cast<std::uint32_t>(e.offset);
        return out;
    case Kind::linkHigh: {
        // Both halves are one call.
        const Expanded low = expandThumb(second);
        out.size = 4;
        out.flow = Flow::call;
        out.writes.set(kLr);
        if (low.kind == Kind::linkLow || low.kind == Kind::linkLowArm)
            out.target = (address + 4 + static_cast<std::uint32_t>(e.offset) + static_cast<std::uint32_t>(low.offset)) & (low.kind == Kind::linkLowArm ? ~3U : ~1U);
        else
            out.size = 2, out.flow = Flow::next;
        return out;
    }
    case Kind::linkLow: case Kind::linkLowArm:
        out.size = 2;
        out.flow = Flow::indirectCall;
        out.writes.set(kLr);
        return out;
    case Kind::undefined: break;
    }
    out.size = 2;
    return out;
}

const Family& family()
{
    static constexpr BuildTool kTools[] = {{"arm-none-eabi-gcc", "gcc-arm-none-eabi libnewlib-arm-none-eabi"}};
    static const Family all{
        .name = "arm9",
        .devices = devices,
        .make = [](const Device&, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer) -> std::unique_ptr<Mcu> { return std::make_unique<Arm926>(options, queue, circuit, observer); },
        .isPortPin = [](const Device&, std::string_view pin) { return Arm926::pinNamed(pin).has_value(); },
        .decode = decodeAt,
        .tools = kTools,
    };
    return all;
}

}  // namespace bramix::chip::arm9
