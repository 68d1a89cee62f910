#include "parts/crystal.h"

namespace bramix::parts {

kernel::Result<std::unique_ptr<Part>> makeCrystal(PartContext& context)
{
    auto hz = kernel::parseQuantity(context.setting("frequency"), kernel::Unit::hertz);
    if (!hz || *hz < 1 || *hz > 100e6)
        return kernel::fail(context.id + ".frequency", hz ? "is out of range; expected 1Hz to 100MHz" : hz.error().what);
    return std::make_unique<Part>();
}

}  // namespace bramix::parts
