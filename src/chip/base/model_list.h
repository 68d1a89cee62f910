// Chips of a family that differ by a few figures: a table of models, and a Device made once of each.
// Tested by the tests of the families that have it.
#pragma once

#include <algorithm>
#include <list>
#include <span>
#include <vector>

#include "chip/device.h"

namespace bramix::chip {

// Model::id is that of its Device.
template <class Model>
class ModelList {
public:
    ModelList(std::span<const Model> models, Device (*make)(const Model&)) : models_(models)
    {
        for (const Model& m : models) {
            made_.push_back(make(m));
            devices_.push_back(&made_.back());
        }
    }

    [[nodiscard]] std::span<const Device* const> devices() const { return devices_; }
    [[nodiscard]] const Device& deviceOf(const Model& model) const { return *devices_[static_cast<std::size_t>(&model - models_.data())]; }
    // The first where it is none of these.
    [[nodiscard]] const Model& modelOf(const Device& device) const
    {
        const auto found = std::find_if(models_.begin(), models_.end(), [&](const Model& m) { return m.id == device.id; });
        return found == models_.end() ? models_.front() : *found;
    }

private:
    std::span<const Model> models_;
    std::list<Device> made_;
    std::vector<const Device*> devices_;
};

}  // namespace bramix::chip
