#include "chip/avr/family.h"

#include <vector>

#include "chip/avr/chip.h"
#include "chip/avr/core/operands.h"
#include "chip/avr/device.h"
#include "chip/avr/fuses.h"

namespace bramix::chip::avr {

namespace {

std::span<const Device* const> devices()
{
    static const std::vector<const Device*> all = [] {
        std::vector<const Device*> out;
        for (const ChipTable* table : allChips())
            out.push_back(&deviceOf(*table));
        return out;
    }();
    return all;
}

std::unique_ptr<Mcu> makeChip(const Device& device, const McuOptions& given, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer)
{
    ChipOptions options;
    options.clockHz = given.clockHz;
    options.hasCrystal = given.hasCrystal;
    if (!given.options.empty())
        options.fuses = fusesOf(given.options);
    options.startsAtOnce = given.startsAtOnce;
    options.supplyVolts = given.supplyVolts;
    if (given.pullUpOhms != 0)
        options.pullUpOhms = given.pullUpOhms;
    options.actor = given.actor;
    options.seed = given.seed;
    return std::make_unique<Chip>(tableOf(device), options, queue, circuit, observer);
}

unsigned optionOf(const Device& device, const OptionBytes& bytes, std::string_view name) { return fuseField(tableOf(device), fusesOf(bytes), name); }

kernel::Result<void> setOptionOf(const Device& device, OptionBytes& bytes, std::string_view name, std::string_view value)
{
    FuseBytes fuses = fusesOf(bytes);
    auto done = setFuse(tableOf(device), fuses, name, value);
    bytes.assign(fuses.begin(), fuses.end());
    return done;
}

bool isPort(const Device& device, std::string_view pin) { return Chip::portPin(tableOf(device), pin).exists(); }

InstructionInfo decodeAt(const Device& device, const CodeView& code, std::uint32_t address)
{
    const auto wordAt = [&](std::size_t word) {
        return word * 2 + 1 < code.bytes.size() ? static_cast<std::uint16_t>(code.bytes[word * 2] | (code.bytes[word * 2 + 1] << 8)) : std::uint16_t{0xFFFF};
    };
    const std::uint32_t word = address / 2;
    if (std::size_t{word} * 2 + 1 >= code.bytes.size())
        return {};
    const ChipTable& table = tableOf(device);
    const Instruction i = decode(table.core, word, wordAt(word), wordAt(word + 1U));
    const std::size_t next = std::size_t{word} + i.words;
    return infoOf(table, i, address, next * 2 + 1 < code.bytes.size() && isTwoWords(wordAt(next)));
}

Flow flowOf(Op op)
{
    switch (op) {
    case Op::rjmp: case Op::jmp: return Flow::jump;
    case Op::brbs: case Op::brbc: return Flow::branch;
    case Op::cpse: case Op::sbrc: case Op::sbrs: case Op::sbic: case Op::sbis: return Flow::skip;
    case Op::rcall: case Op::call: return Flow::call;
    case Op::ijmp: case Op::eijmp: return Flow::indirectJump;
    case Op::icall: case Op::eicall: return Flow::indirectCall;
    case Op::ret: return Flow::return_;
    case Op::reti: return Flow::exceptionReturn;
    case Op::undefined: case Op::erased: case Op::outside: return Flow::none;
    default: return Flow::next;
    }
}

// Into the frame, or where a pointer leads. A call leaves its return address, which is where a frame will stand that is being built so.
bool stores(Op op)
{
    switch (op) {
    case Op::sts: case Op::stX: case Op::stXInc: case Op::stXDec: case Op::stdY: case Op::stYInc: case Op::stYDec: case Op::stdZ: case Op::stZInc: case Op::stZDec: case Op::push:
    case Op::rcall: case Op::call: case Op::icall: case Op::eicall: return true;
    default: return false;
    }
}

}  // namespace

InstructionInfo infoOf(const ChipTable& table, const Instruction& i, std::uint32_t address, bool longNext)
{
    InstructionInfo out;
    out.flow = flowOf(i.op);
    out.size = i.words * 2U;
    if (out.flow == Flow::jump || out.flow == Flow::branch || out.flow == Flow::call)
        out.target = i.target * 2;
    else if (out.flow == Flow::skip)
        out.target = (address + out.size + (longNext ? 4U : 2U)) % (table.core.flashWords * 2);
    const Operands o = operandsOf(i);
    out.reads = RegisterSet(o.reads);
    out.writes = RegisterSet(o.writes);
    out.reads.set(kStatusRegister, o.readsFlags);
    out.writes.set(kStatusRegister, o.writesFlags);
    out.reads.set(kStackRegister, o.stack);
    out.writes.set(kStackRegister, o.stack);
    out.stores = stores(i.op);
    return out;
}

const Family& family()
{
    static constexpr BuildTool kTools[] = {{"avr-gcc", "gcc-avr avr-libc"}};
    static const Family all{
        .name = "avr",
        .devices = devices,
        .make = makeChip,
        .optionValue = optionOf,
        .setOption = setOptionOf,
        .loadFirmware = [](const std::string& file, const Device& device) { return readImage(file, device); },
        .isPortPin = isPort,
        .decode = decodeAt,
        .tools = kTools,
        .buildsStraight = true,
    };
    return all;
}

}  // namespace bramix::chip::avr
