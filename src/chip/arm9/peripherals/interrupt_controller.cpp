#include "chip/arm9/peripherals/interrupt_controller.h"

namespace bramix::chip::arm9 {

void InterruptController::reset()
{
    soft_ = enable_ = select_ = protection_ = default_ = 0;
    addresses_ = controls_ = {};
    depth_ = 0;
    changed_();
}

void InterruptController::setSource(unsigned source, bool high)
{
    lines_ = high ? lines_ | 1U << source : lines_ & ~(1U << source);
    changed_();
}

unsigned InterruptController::highest() const
{
    const std::uint32_t wants = raw() & enable_ & ~select_;
    if (wants == 0)
        return kNone;
    for (unsigned v = 0; v < kVectors; ++v)
        if ((controls_[v] & 0x20U) != 0 && ((wants >> (controls_[v] & 31U)) & 1U) != 0)
            return v;
    return kVectors;
}

std::uint32_t InterruptController::peek(std::uint32_t offset) const
{
    switch (offset) {
    case 0x00: return raw() & enable_ & ~select_;
    case 0x04: return raw() & enable_ & select_;
    case 0x08: return raw();
    case 0x0C: return select_;
    case 0x10: return enable_;
    case 0x18: return soft_;
    case 0x20: return protection_;
    case 0x30: {
        const unsigned v = highest();
        return v < kVectors ? addresses_[v] : default_;
    }
    case 0x34: return default_;
    default: break;
    }
    if (offset >= 0x100 && offset < 0x140)
        return addresses_[(offset - 0x100) / 4];
    if (offset >= 0x200 && offset < 0x240)
        return controls_[(offset - 0x200) / 4];
    return identification(offset, 0x190, 0);
}

// Reading the address of what is due begins to serve it: what is less urgent waits until the address register is written.
std::uint32_t InterruptController::read(std::uint32_t offset)
{
    const std::uint32_t out = peek(offset);
    if (offset == 0x30) {
        const unsigned v = highest();
        if (v < level() && depth_ < active_.size()) {
            active_[depth_++] = static_cast<std::uint8_t>(v);
            changed_();
        }
    }
    return out;
}

void InterruptController::write(std::uint32_t offset, std::uint32_t value)
{
    switch (offset) {
    case 0x0C: select_ = value; break;
    case 0x10: enable_ |= value; break;
    case 0x14: enable_ &= ~value; break;
    case 0x18: soft_ |= value; break;
    case 0x1C: soft_ &= ~value; break;
    case 0x20: protection_ = value & 1U; break;
    case 0x30:
        if (depth_ != 0)
            --depth_;
        break;
    case 0x34: default_ = value; break;
    default:
        if (offset >= 0x100 && offset < 0x140)
            addresses_[(offset - 0x100) / 4] = value;
        else if (offset >= 0x200 && offset < 0x240)
            controls_[(offset - 0x200) / 4] = value & 0x3FU;
        break;
    }
    changed_();
}

}  // namespace bramix::chip::arm9
