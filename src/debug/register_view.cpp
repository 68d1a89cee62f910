#include "debug/register_view.h"

#include "debug/arch/architecture.h"

namespace bramix::debug {

RegisterText describeByFields(const chip::PeripheralRegister& reg, const std::function<std::uint8_t(std::uint64_t)>& peek)
{
    RegisterText out;
    for (unsigned byte = 0; byte < reg.bits / 8; ++byte)
        out.value |= std::uint64_t{peek(reg.address + byte)} << (8 * byte);
    out.bits.resize(reg.bits);
    for (unsigned bit = 0; bit < reg.bits; ++bit)
        out.bits[reg.bits - 1 - bit].value = ((out.value >> bit) & 1) != 0;
    // Without fields it is a number: its bits have no names but theirs.
    for (unsigned bit = 0; bit < reg.bits && reg.fields.empty(); ++bit)
        out.bits[reg.bits - 1 - bit].name = std::to_string(bit);
    for (const chip::RegisterField& field : reg.fields) {
        const std::string meaning = field.meaning(field.of(out.value));
        for (unsigned bit = field.low; bit < field.low + field.bits && bit < reg.bits; ++bit) {
            BitText& text = out.bits[reg.bits - 1 - bit];
            text.name = field.bits == 1 ? field.name : field.name + "[" + std::to_string(bit - field.low) + "]";
            text.meaning = meaning;
        }
        if (!meaning.empty() && field.of(out.value) != 0)
            out.meaning += (out.meaning.empty() ? "" : ", ") + meaning;
    }
    return out;
}

RegisterText describeRegister(const chip::Device& device, const chip::PeripheralRegister& reg, const std::function<std::uint8_t(std::uint64_t)>& peek)
{
    const Architecture& architecture = architectureOf(device);
    return architecture.describe == nullptr ? describeByFields(reg, peek) : architecture.describe(device, reg, peek);
}

}  // namespace bramix::debug
