#include "chip/cortexm/core/exceptions.h"

namespace bramix::chip::cortexm {

namespace {

constexpr std::uint8_t kKeptBits = 0xF0;  // of a priority
constexpr unsigned kThread = 256;          // no exception is as urgent as none

}  // namespace

void Exceptions::reset()
{
    pending_.reset();
    enabled_.reset();
    active_.reset();
    line_.reset();
    for (const unsigned n : {kReset, kNmi, kHardFault, kSvCall, kDebugMonitor, kPendSv, kSysTick})
        enabled_.set(n);
    priorities_.fill(0);
    group_ = 0;
    vectorTable = 0;
    control = 0x200;
    systemControl = faultStatus = hardFaultStatus = memAddress = busAddress = 0;
    resetWanted = false;
}

int Exceptions::priorityOf(unsigned n) const
{
    if (n <= kHardFault)
        return static_cast<int>(n) - 4;
    return priorities_[n] >> (group_ + 1) << (group_ + 1);
}

int Exceptions::executionPriority(bool primask, bool faultmask, unsigned basepri) const
{
    int out = kThread;
    if (active_.any())
        for (unsigned n = 2; n < count_; ++n)
            if (active_[n])
                out = std::min(out, priorityOf(n));
    if (basepri != 0)
        out = std::min(out, static_cast<int>(basepri >> (group_ + 1) << (group_ + 1)));
    if (primask)
        out = std::min(out, 0);
    if (faultmask)
        out = std::min(out, -1);
    return out;
}

unsigned Exceptions::next() const
{
    unsigned best = 0;
    int urgency = 0, sub = 0;
    for (unsigned n = 2; n < count_; ++n) {
        if (!pending_[n] || !enabled_[n])
            continue;
        const int p = priorityOf(n), s = priorities_[n];
        // Of equal groups the sub-priority decides, then the lower number.
        if (best == 0 || p < urgency || (p == urgency && n > kHardFault && s < sub)) {
            best = n;
            urgency = p;
            sub = s;
        }
    }
    return best;
}

std::uint32_t Exceptions::word(const std::bitset<kMost>& set, unsigned index) const
{
    std::uint32_t out = 0;
    for (unsigned b = 0; b < 32; ++b)
        if (const unsigned n = kFirstInterrupt + index * 32 + b; n < count_ && set[n])
            out |= 1U << b;
    return out;
}

void Exceptions::setWord(std::bitset<kMost>& set, unsigned index, std::uint32_t value, bool to)
{
    for (unsigned b = 0; b < 32; ++b)
        if (const unsigned n = kFirstInterrupt + index * 32 + b; n < count_ && ((value >> b) & 1U) != 0)
            set[n] = to;
}

std::optional<std::uint32_t> Exceptions::read(std::uint32_t a) const
{
    const unsigned index = (a & 0x7FU) / 4;
    if (a == 0xE000E004)
        return (count_ - kFirstInterrupt + 31) / 32 - 1;  // ICTR
    if (a >= 0xE000E100 && a < 0xE000E200)
        return word(enabled_, index);
    if (a >= 0xE000E200 && a < 0xE000E300)
        return word(pending_, index);
    if (a >= 0xE000E300 && a < 0xE000E380)
        return word(active_, index);
    const auto priorities = [this](unsigned first) {
        std::uint32_t out = 0;
        for (unsigned b = 0; b < 4; ++b)
            if (first + b < count_)
                out |= std::uint32_t{priorities_[first + b]} << (8 * b);
        return out;
    };
    if (a >= 0xE000E400 && a < 0xE000E4F0)
        return priorities(kFirstInterrupt + (a - 0xE000E400));
    unsigned current = 0;
    switch (a) {
    case 0xE000ED00: return 0x411FC231;  // CPUID: Cortex-M3 r1p1
    case 0xE000ED04: {
        for (unsigned n = 2; n < count_; ++n)
            if (active_[n] && (current == 0 || priorityOf(n) < priorityOf(current)))
                current = n;
        const bool interrupt = word(pending_, 0) != 0 || word(pending_, 1) != 0;
        return current | (active_.count() <= 1 ? 1U << 11 : 0U) | next() << 12 | (interrupt ? 1U << 22 : 0U) | (pending_[kSysTick] ? 1U << 26 : 0U) | (pending_[kPendSv] ? 1U << 28 : 0U) | (pending_[kNmi] ? 1U << 31 : 0U);
    }
    case 0xE000ED08: return vectorTable;
    case 0xE000ED0C: return 0xFA050000U | group_ << 8;
    case 0xE000ED10: return systemControl;
    case 0xE000ED14: return control;
    case 0xE000ED18: return priorities(4);
    case 0xE000ED1C: return priorities(8);
    case 0xE000ED20: return priorities(12);
    case 0xE000ED24:
        return (active_[kMemManage] ? 1U : 0U) | (active_[kBusFault] ? 2U : 0U) | (active_[kUsageFault] ? 8U : 0U) | (active_[kSvCall] ? 1U << 7 : 0U) | (active_[kPendSv] ? 1U << 10 : 0U) | (active_[kSysTick] ? 1U << 11 : 0U) |
               (pending_[kUsageFault] ? 1U << 12 : 0U) | (pending_[kMemManage] ? 1U << 13 : 0U) | (pending_[kBusFault] ? 1U << 14 : 0U) | (pending_[kSvCall] ? 1U << 15 : 0U) | (enabled_[kMemManage] ? 1U << 16 : 0U) |
               (enabled_[kBusFault] ? 1U << 17 : 0U) | (enabled_[kUsageFault] ? 1U << 18 : 0U);
    case 0xE000ED28: return faultStatus;
    case 0xE000ED2C: return hardFaultStatus;
    case 0xE000ED34: return memAddress;
    case 0xE000ED38: return busAddress;
    case 0xE000ED30: case 0xE000ED3C: return 0;
    case 0xE000ED40: case 0xE000ED44: case 0xE000ED48: case 0xE000ED4C: case 0xE000ED50: case 0xE000ED54: case 0xE000ED58: case 0xE000ED5C: case 0xE000ED60: case 0xE000ED64: case 0xE000ED68: case 0xE000ED6C: case 0xE000ED70: {
        static constexpr std::uint32_t kFeatures[] = {0x30, 0x200, 0, 0, 0x30, 0, 0, 0, 0x01141110, 0x02111000, 0x21112231, 0x01111110, 0x01310102};
        return kFeatures[(a - 0xE000ED40) / 4];
    }
    default: return std::nullopt;
    }
}

bool Exceptions::write(std::uint32_t a, std::uint32_t value)
{
    const unsigned index = (a & 0x7FU) / 4;
    if (a >= 0xE000E100 && a < 0xE000E300) {
        setWord(a < 0xE000E200 ? enabled_ : pending_, index, value, (a & 0x80U) == 0);
        return true;
    }
    const auto priorities = [this](unsigned first, std::uint32_t value) {
        for (unsigned b = 0; b < 4; ++b)
            if (first + b < count_ && first + b >= 4)
                priorities_[first + b] = static_cast<std::uint8_t>(value >> (8 * b)) & kKeptBits;
    };
    if (a >= 0xE000E400 && a < 0xE000E4F0) {
        priorities(kFirstInterrupt + (a - 0xE000E400), value);
        return true;
    }
    switch (a) {
    case 0xE000ED04:
        if ((value & 1U << 31) != 0)
            pending_.set(kNmi);
        if ((value & 1U << 28) != 0)
            pending_.set(kPendSv);
        else if ((value & 1U << 27) != 0)
            pending_.reset(kPendSv);
        if ((value & 1U << 26) != 0)
            pending_.set(kSysTick);
        else if ((value & 1U << 25) != 0)
            pending_.reset(kSysTick);
        return true;
    case 0xE000ED08: vectorTable = value & 0x3FFFFF80U; return true;
    case 0xE000ED0C:
        if (value >> 16 != 0x05FA)
            return true;  // without the key nothing is written
        group_ = (value >> 8) & 7U;
        resetWanted = resetWanted || (value & 4U) != 0;
        return true;
    case 0xE000ED10: systemControl = value & 0x16U; return true;
    case 0xE000ED14: control = value & 0x31BU; return true;
    case 0xE000ED18: priorities(4, value); return true;
    case 0xE000ED1C: priorities(8, value); return true;
    case 0xE000ED20: priorities(12, value); return true;
    case 0xE000ED24:
        for (const auto& [n, at] : {std::pair{kMemManage, 16U}, {kBusFault, 17U}, {kUsageFault, 18U}})
            enabled_[n] = ((value >> at) & 1U) != 0;
        for (const auto& [n, at] : {std::pair{kUsageFault, 12U}, {kMemManage, 13U}, {kBusFault, 14U}, {kSvCall, 15U}})
            pending_[n] = ((value >> at) & 1U) != 0;
        for (const auto& [n, at] : {std::pair{kMemManage, 0U}, {kBusFault, 1U}, {kUsageFault, 3U}, {kSvCall, 7U}, {kPendSv, 10U}, {kSysTick, 11U}})
            active_[n] = ((value >> at) & 1U) != 0;
        return true;
    case 0xE000ED28: faultStatus &= ~value; return true;
    case 0xE000ED2C: hardFaultStatus &= ~value; return true;
    case 0xE000ED34: memAddress = value; return true;
    case 0xE000ED38: busAddress = value; return true;
    case 0xE000ED30: case 0xE000ED3C: return true;
    case 0xE000EF00:
        if (const unsigned n = kFirstInterrupt + (value & 0x1FFU); n < count_)
            pending_.set(n);
        return true;
    default: return false;
    }
}

}  // namespace bramix::chip::cortexm
