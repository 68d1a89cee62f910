#include "parts/resistor.h"

namespace bramix::parts {

namespace {

class Resistor final : public Part {
public:
    Resistor(PartContext& context, double ohms) { context.circuit.addResistor(context.net("1"), context.net("2"), {ohms}, context.id); }
};

}  // namespace

kernel::Result<std::unique_ptr<Part>> makeResistor(PartContext& context)
{
    auto ohms = kernel::parseQuantity(context.setting("resistance"), kernel::Unit::ohm);
    if (!ohms) {
        ohms.error().where = context.id + ".resistance";
        return tl::unexpected(ohms.error());
    }
    if (*ohms < 0.001 || *ohms > 1e12)
        return kernel::fail(context.id + ".resistance", kernel::formatQuantity(*ohms, kernel::Unit::ohm) + "; expected 1 mΩ to 1 TΩ");
    return std::make_unique<Resistor>(context, *ohms);
}

}  // namespace bramix::parts
