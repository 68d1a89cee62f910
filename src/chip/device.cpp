#include "chip/device.h"

#include <algorithm>
#include <map>
#include <mutex>

namespace bramix::chip {

namespace {

template <class List, class Matches>
auto find(const List& list, Matches&& matches) -> decltype(&list.front())
{
    const auto found = std::find_if(list.begin(), list.end(), matches);
    return found == list.end() ? nullptr : &*found;
}

std::optional<std::size_t> index(const std::vector<CoreRegister>& list, const CoreRegister* r)
{
    return r == nullptr ? std::nullopt : std::optional(static_cast<std::size_t>(r - list.data()));
}

}  // namespace

const RegisterMap& Device::registers() const
{
    static std::mutex mutex;
    static std::map<const Device*, RegisterMap> made;
    const std::lock_guard lock(mutex);
    const auto [entry, fresh] = made.try_emplace(this);
    if (fresh && makeRegisters != nullptr)
        entry->second = makeRegisters(*this);
    return entry->second;
}

std::uint64_t Device::sizeOf(SpaceId space) const
{
    std::uint64_t end = 0;
    for (const MemoryRegion& r : regions)
        if (r.space == space)
            end = std::max(end, r.begin + r.size);
    return end;
}

const MemoryRegion* Device::regionAt(std::uint64_t a) const
{
    return find(regions, [a](const MemoryRegion& r) { return a >= r.debuggerBase && a - r.debuggerBase < r.size; });
}

const MemoryRegion* Device::regionOf(RegionKind kind) const
{
    return find(regions, [kind](const MemoryRegion& r) { return r.kind == kind; });
}

std::optional<std::size_t> Device::registerAt(std::uint64_t address) const
{
    return index(coreRegisters, find(coreRegisters, [address](const CoreRegister& r) { return r.isAt(address); }));
}

std::optional<std::size_t> Device::registerOf(CoreRole role) const
{
    return index(coreRegisters, find(coreRegisters, [role](const CoreRegister& r) { return r.role == role; }));
}

std::optional<std::size_t> Device::registerNumbered(int number) const
{
    // -1 stands for none.
    return number < 0 ? std::nullopt : index(coreRegisters, find(coreRegisters, [number](const CoreRegister& r) { return r.debuggerNumber == number; }));
}

}  // namespace bramix::chip
