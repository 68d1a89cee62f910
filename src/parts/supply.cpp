#include "parts/supply.h"

namespace bramix::parts {

kernel::Result<std::unique_ptr<Part>> makeSupply(PartContext& context)
{
    auto volts = kernel::parseQuantity(context.setting("voltage"), kernel::Unit::volt);
    if (!volts) {
        volts.error().where = context.id + ".voltage";
        return tl::unexpected(volts.error());
    }
    context.circuit.addSupply(context.net("V"), {*volts}, context.pin("V"));
    return std::make_unique<Part>();
}

}  // namespace bramix::parts
