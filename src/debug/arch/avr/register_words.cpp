// What the bits of AVR peripherals' registers mean, in words.
#include <algorithm>
#include <cctype>
#include <map>
#include <optional>

#include <fmt/format.h>

#include "chip/avr/device.h"
#include "chip/avr/names.h"
#include "debug/arch/avr/architecture.h"

namespace bramix::debug::avr {

namespace core = chip::avr;

namespace {

// Names by pattern: '#' is a digit, '@' a letter of a channel; both may appear in the words.
struct BitWords {
    const char* pattern;
    const char* set;
    const char* clear;
};

constexpr BitWords kBits[] = {
    // timers
    {"OCIE#@", "compare @ interrupt on", "compare @ interrupt off"},
    {"TOIE#", "overflow interrupt on", "overflow interrupt off"},
    {"ICIE#", "capture interrupt on", "capture interrupt off"},
    {"TICIE#", "capture interrupt on", "capture interrupt off"},
    {"OCIE#", "compare interrupt on", "compare interrupt off"},
    {"OCF#@", "compare @ has matched", ""},
    {"OCF#", "compare has matched", ""},
    {"TOV#", "has overflowed", ""},
    {"ICF#", "captured", ""},
    {"ICNC#", "noise canceller on", ""},
    {"ICES#", "captures rising edges", "captures falling edges"},
    {"TSM", "prescalers held", ""},
    {"AS#", "clocked by its own crystal", "clocked by the chip"},
    // UART
    {"RXC#", "a byte has been received", "nothing received"},
    {"TXC#", "all sent", ""},
    {"UDRE#", "ready for the next byte", "the buffer is full"},
    {"FE#", "framing error", ""},
    {"DOR#", "bytes lost: overrun", ""},
    {"UPE#", "parity error", ""},
    {"U2X#", "double speed", ""},
    {"MPCM#", "waits for an address", ""},
    {"RXCIE#", "receive interrupt on", ""},
    {"TXCIE#", "sent interrupt on", ""},
    {"UDRIE#", "buffer-empty interrupt on", ""},
    {"RXEN#", "receiver on", "receiver off"},
    {"TXEN#", "transmitter on", "transmitter off"},
    {"USBS#", "2 stop bits", "1 stop bit"},
    // the same without a number
    {"RXC", "a byte has been received", "nothing received"},
    {"TXC", "all sent", ""},
    {"UDRE", "ready for the next byte", "the buffer is full"},
    {"RXEN", "receiver on", "receiver off"},
    {"TXEN", "transmitter on", "transmitter off"},
    {"RXCIE", "receive interrupt on", ""},
    {"UDRIE", "buffer-empty interrupt on", ""},
    {"TXCIE", "sent interrupt on", ""},
    // ADC and comparator
    {"ADEN", "on", "off"},
    {"ADSC", "converting", "idle"},
    {"ADATE", "triggered by itself", "started by hand"},
    {"ADIF", "a result is ready", ""},
    {"ADIE", "interrupt on", "interrupt off"},
    {"ADLAR", "result left adjusted", ""},
    {"ACD", "comparator off", "comparator on"},
    {"ACO", "AIN0 above", "AIN0 below"},
    {"ACBG", "band gap in place of AIN0", ""},
    {"ACI", "has changed", ""},
    {"ACIE", "interrupt on", ""},
    {"ACIC", "captures timer 1", ""},
    {"ACME", "compares with the ADC's pin", ""},
    // SPI
    {"SPIE", "interrupt on", "interrupt off"},
    {"SPE", "on", "off"},
    {"DORD", "lowest bit first", "highest bit first"},
    {"MSTR", "master", "slave"},
    {"CPOL", "clock idles high", "clock idles low"},
    {"CPHA", "samples at the second edge", "samples at the first edge"},
    {"SPIF", "a byte has gone through", ""},
    {"WCOL", "written while sending", ""},
    // two-wire
    {"TWINT", "waits for the firmware", "busy, or idle"},
    {"TWEA", "acknowledges", "does not acknowledge"},
    {"TWSTA", "start wanted", ""},
    {"TWSTO", "stop wanted", ""},
    {"TWWC", "written too early", ""},
    {"TWEN", "on", "off"},
    {"TWIE", "interrupt on", "interrupt off"},
    {"TWGCE", "answers the general call", ""},
    // EEPROM and flash
    {"EERIE", "ready interrupt on", ""},
    {"EEMPE", "write unlocked", ""},
    {"EEMWE", "write unlocked", ""},
    {"EEPE", "writing", "idle"},
    {"EEWE", "writing", "idle"},
    {"RWWSB", "the application section is busy", ""},
    // external interrupts
    {"INT#", "on", "off"},
    {"INTF#", "has come", ""},
    {"PCIE#", "group on", "group off"},
    {"PCIF#", "a pin of the group has changed", ""},
    // core
    {"PORF", "power-on", ""},
    {"EXTRF", "reset pin", ""},
    {"BORF", "brown-out", ""},
    {"WDRF", "watchdog", ""},
    {"JTRF", "JTAG", ""},
    {"SE", "sleep allowed", "sleep not allowed"},
    {"PUD", "all pull-ups off", ""},
    {"IVSEL", "vectors in the boot section", ""},
    {"WDE", "resets the chip", ""},
    {"WDIE", "interrupt on", ""},
    {"WDIF", "has run out", ""},
    {"I", "interrupts allowed", "interrupts held off"},
    {"Z", "zero", "not zero"},
    {"N", "negative", ""},
    {"C", "carry", ""},
    {"V", "signed overflow", ""},
};

bool matches(const char* pattern, std::string_view name, char& letter)
{
    std::size_t i = 0;
    for (; *pattern != 0; ++pattern, ++i) {
        if (i >= name.size())
            return false;
        if (*pattern == '#' ? std::isdigit(static_cast<unsigned char>(name[i])) == 0 : *pattern == '@' ? std::isupper(static_cast<unsigned char>(name[i])) == 0 : *pattern != name[i])
            return false;
        if (*pattern == '@')
            letter = name[i];
    }
    return i == name.size();
}

std::string bitMeaning(std::string_view name, bool value)
{
    char letter = 0;
    for (const BitWords& row : kBits)
        if (matches(row.pattern, name, letter)) {
            std::string text = value ? row.set : row.clear;
            std::replace(text.begin(), text.end(), '@', letter);
            return text;
        }
    if (name.starts_with("PR") && name.size() > 3 && value)
        return fmt::format("{} switched off", name.substr(2));
    return {};
}

// A chip's names, looked up once: views ask for them in every frame.
const core::Names& namesOf(const core::ChipTable& chip)
{
    static const auto all = [] {
        std::map<const core::ChipTable*, core::Names> names;
        for (const core::ChipTable* c : core::allChips())
            names.emplace(c, core::Names(*c));
        return names;
    }();
    return all.at(&chip);
}

// Fields of several bits, by the datasheet's names.
class Fields {
public:
    Fields(const core::ChipTable& chip, const std::function<std::uint8_t(std::uint16_t)>& peek) : names_(namesOf(chip)), peek_(peek) {}

    // The bit of a name, 0 where the chip has none.
    unsigned bit(const std::string& name) const
    {
        const core::BitRef ref = names_.bit(name);
        return ref.exists() && (peek_(ref.address) & ref.mask) != 0 ? 1 : 0;
    }
    [[nodiscard]] bool has(const std::string& name) const { return names_.bit(name).exists(); }
    // "CS1" and 2..0: CS12, CS11, CS10.
    unsigned field(const std::string& name, int high) const
    {
        unsigned value = 0;
        for (int i = high; i >= 0; --i)
            value = value * 2 + bit(name + std::to_string(i));
        return value;
    }
    unsigned value(const std::string& name) const
    {
        const std::uint16_t address = names_.reg(name);
        return address == 0 ? 0 : peek_(address);
    }

private:
    const core::Names& names_;
    const std::function<std::uint8_t(std::uint16_t)>& peek_;
};

std::string timerClock(const Fields& f, const std::string& n, bool own)
{
    static constexpr const char* kShared[] = {"stopped", "clock", "clock / 8", "clock / 64", "clock / 256", "clock / 1024", "falling edges of its pin", "rising edges of its pin"};
    static constexpr const char* kOwn[] = {"stopped", "clock", "clock / 8", "clock / 32", "clock / 64", "clock / 128", "clock / 256", "clock / 1024"};
    const unsigned choice = f.field("CS" + n, 2);
    return own ? kOwn[choice] : kShared[choice];
}

// Table "Waveform Generation Mode Bit Description".
std::string timerMode(const Fields& f, const std::string& n)
{
    if (f.has("WGM" + n + "3")) {
        static constexpr const char* kWide[] = {"counts to 0xFFFF", "phase-correct PWM to 0xFF", "phase-correct PWM to 0x1FF", "phase-correct PWM to 0x3FF", "counts to OCRA", "fast PWM to 0xFF",
                                                "fast PWM to 0x1FF", "fast PWM to 0x3FF", "phase-and-frequency-correct PWM to ICR", "phase-and-frequency-correct PWM to OCRA", "phase-correct PWM to ICR",
                                                "phase-correct PWM to OCRA", "counts to ICR", "reserved mode", "fast PWM to ICR", "fast PWM to OCRA"};
        return kWide[f.field("WGM" + n, 3)];
    }
    static constexpr const char* kNarrow[] = {"counts to 0xFF", "phase-correct PWM to 0xFF", "counts to OCRA", "fast PWM to 0xFF", "reserved mode", "phase-correct PWM to OCRA", "reserved mode", "fast PWM to OCRA"};
    return kNarrow[f.field("WGM" + n, 2)];
}

std::string outputMode(const Fields& f, const std::string& channel)
{
    static constexpr const char* kModes[] = {"", "toggles", "non-inverting", "inverting"};
    static constexpr const char* kPlain[] = {"", "toggles", "clears", "sets"};
    const std::string n = channel.substr(0, 1);
    const unsigned com = f.field("COM" + channel, 1);
    if (com == 0)
        return {};
    const std::string mode = timerMode(f, n);
    return fmt::format("OC{} {}", channel, mode.find("PWM") != std::string::npos ? kModes[com] : kPlain[com]);
}

std::string join(const std::vector<std::string>& parts)
{
    std::string out;
    for (const std::string& part : parts)
        if (!part.empty())
            out += (out.empty() ? "" : ", ") + part;
    return out;
}

// Status codes (tables "Status codes for ... Mode").
std::string twoWireStatus(unsigned status)
{
    static const std::map<unsigned, const char*> kStatus{
        {0x00, "bus error"}, {0x08, "start sent"}, {0x10, "repeated start sent"}, {0x18, "address for writing acknowledged"}, {0x20, "address for writing not acknowledged"},
        {0x28, "byte sent, acknowledged"}, {0x30, "byte sent, not acknowledged"}, {0x38, "arbitration lost"}, {0x40, "address for reading acknowledged"},
        {0x48, "address for reading not acknowledged"}, {0x50, "byte received, acknowledged"}, {0x58, "byte received, not acknowledged"}, {0x60, "addressed as slave to receive"},
        {0x80, "slave: byte received"}, {0x88, "slave: byte received, not acknowledged"}, {0xA0, "slave: stop or repeated start"}, {0xA8, "addressed as slave to send"},
        {0xB8, "slave: byte sent, acknowledged"}, {0xC0, "slave: byte sent, not acknowledged"}, {0xC8, "slave: last byte sent, acknowledged"}, {0xF8, "nothing to tell"}};
    const auto found = kStatus.find(status);
    return found == kStatus.end() ? std::string() : found->second;
}

// What the fields of a register mean together.
std::string meaningOf(std::string_view name, const Fields& f, std::uint8_t value)
{
    const auto last = [&](std::size_t back) { return std::string(1, name[name.size() - back]); };
    if (name.starts_with("TCCR") && name.size() == 6 && std::isdigit(static_cast<unsigned char>(name[4])) != 0) {
        const std::string n(1, name[4]);
        if (name[5] == 'A')
            return join({outputMode(f, n + "A"), outputMode(f, n + "B"), f.has("COM" + n + "C1") ? outputMode(f, n + "C") : "", timerMode(f, n)});
        if (name[5] == 'B')
            return join({timerClock(f, n, n == "2"), timerMode(f, n)});
    }
    if (name.starts_with("TCCR") && name.size() == 5) {
        const std::string n = last(1);
        return join({timerClock(f, n, n == "2")});
    }
    if (name.starts_with("UCSR") && name.ends_with("C")) {
        const std::string n = name.size() == 6 ? std::string(1, name[4]) : std::string();
        static constexpr const char* kBitsOf[] = {"5 bits", "6 bits", "7 bits", "8 bits", "", "", "", "9 bits"};
        static constexpr const char* kParity[] = {"no parity", "", "even parity", "odd parity"};
        return join({kBitsOf[f.field("UCSZ" + n, 2)], kParity[f.field("UPM" + n, 1)], f.bit("USBS" + n) != 0 ? "2 stop bits" : "1 stop bit"});
    }
    if (name == "ADMUX") {
        static constexpr const char* kReferences[] = {"reference AREF", "reference AVCC", "", "reference inside the chip"};
        const unsigned refs = f.field("REFS", 1);
        const unsigned mux = value & (f.has("MUX4") ? 31U : 15U);
        return join({kReferences[refs], mux < 8 ? fmt::format("pin ADC{}", mux) : fmt::format("input {}", mux), f.bit("ADLAR") != 0 ? "left adjusted" : ""});
    }
    if (name == "ADCSRA") {
        const unsigned by = std::max(1U, f.field("ADPS", 2));
        return join({f.bit("ADEN") != 0 ? "on" : "off", f.bit("ADSC") != 0 ? "converting" : "", fmt::format("clock / {}", 1U << by), f.bit("ADIE") != 0 ? "interrupt on" : ""});
    }
    if (name == "SPCR") {
        static constexpr unsigned kRates[] = {4, 16, 64, 128};
        return f.bit("SPE") == 0 ? "off" : join({f.bit("MSTR") != 0 ? "master" : "slave", fmt::format("mode {}", f.bit("CPOL") * 2 + f.bit("CPHA")), fmt::format("clock / {}", kRates[f.field("SPR", 1)] / (f.bit("SPI2X") + 1))});
    }
    if (name == "TWSR")
        return twoWireStatus(value & 0xF8U);
    if (name == "TWAR")
        return fmt::format("own address 0x{:02x}", value >> 1);
    if (name == "EICRA" || name == "EICRB") {
        static constexpr const char* kSense[] = {"low level", "any change", "falling edge", "rising edge"};
        std::vector<std::string> parts;
        for (int i = name == "EICRA" ? 0 : 4; i < (name == "EICRA" ? 4 : 8); ++i)
            if (const std::string n = std::to_string(i); f.has("ISC" + n + "1"))
                parts.push_back(fmt::format("INT{} {}", n, kSense[f.field("ISC" + n, 1)]));
        return join(parts);
    }
    if (name == "SMCR") {
        static constexpr const char* kSleep[] = {"idle", "ADC noise reduction", "power-down", "power-save", "reserved", "reserved", "standby", "extended standby"};
        return join({kSleep[f.field("SM", 2)], f.bit("SE") != 0 ? "sleep allowed" : "sleep not allowed"});
    }
    if (name == "CLKPR")
        return fmt::format("clock / {}", 1U << std::min(8U, value & 15U));
    if (name.starts_with("WDTC")) {
        const unsigned wdp = f.bit("WDP3") * 8 + f.bit("WDP2") * 4 + f.bit("WDP1") * 2 + f.bit("WDP0");
        return f.bit("WDE") == 0 && f.bit("WDIE") == 0 ? "off" : join({f.bit("WDE") != 0 ? "resets" : "", f.bit("WDIE") != 0 ? "interrupts" : "", fmt::format("after {} ms", 16U << std::min(wdp, 9U))});
    }
    if (name == "MCUSR" || name == "MCUCSR") {
        return join({f.bit("PORF") != 0 ? "power-on" : "", f.bit("EXTRF") != 0 ? "reset pin" : "", f.bit("BORF") != 0 ? "brown-out" : "", f.bit("WDRF") != 0 ? "watchdog" : ""});
    }
    if (name.starts_with("DDR")) {
        std::vector<std::string> outputs;
        for (int i = 0; i < 8; ++i)
            if (((value >> i) & 1) != 0)
                outputs.push_back(fmt::format("P{}{}", last(1), i));
        return outputs.empty() ? "all inputs" : "outputs: " + join(outputs);
    }
    if (name.starts_with("OCR") || name.starts_with("TCNT") || name.starts_with("ICR") || name.starts_with("UBRR"))
        return fmt::format("{}", value);
    return {};
}

}  // namespace

RegisterText describe(const chip::Device& device, const chip::PeripheralRegister& reg, const std::function<std::uint8_t(std::uint64_t)>& peek)
{
    RegisterText out = describeByFields(reg, peek);
    for (BitText& bit : out.bits)
        bit.meaning = reg.fields.empty() || bit.name.empty() ? std::string() : bitMeaning(bit.name, bit.value);
    const std::function<std::uint8_t(std::uint16_t)> narrow = [&peek](std::uint16_t address) { return peek(address); };
    const Fields fields(core::tableOf(device), narrow);
    out.meaning = meaningOf(reg.name, fields, static_cast<std::uint8_t>(out.value));
    if (out.meaning.empty()) {
        // Otherwise the bits speak: those that are set, first.
        std::vector<std::string> parts;
        for (const BitText& bit : out.bits)
            if (bit.value && !bit.meaning.empty())
                parts.push_back(bit.meaning);
        out.meaning = join(parts);
    }
    return out;
}

}  // namespace bramix::debug::avr
