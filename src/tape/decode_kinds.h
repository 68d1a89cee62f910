// The decoders by family, for decode.cpp alone.
#pragma once

#include <map>
#include <memory>
#include <string>

#include "kernel/result.h"
#include "tape/decode.h"

namespace bramix::tape {

// What each decoder is made from: it can be copied as it stands.
template <class Self>
class CopiedDecoder : public Decoder {
public:
    [[nodiscard]] std::unique_ptr<Decoder> copy() const final
    {
        auto made = std::make_unique<Self>(static_cast<const Self&>(*this));
        made->out = nullptr;
        return made;
    }
};

// Values have been checked for their shape: numbers are numbers.
using Options = std::map<std::string, std::string>;
using MadeDecoder = kernel::Result<std::unique_ptr<Decoder>>;

[[nodiscard]] MadeDecoder makeUartDecoder(const Options& options);
[[nodiscard]] MadeDecoder makeTwoWireDecoder(const Options& options);
[[nodiscard]] MadeDecoder makeSpiDecoder(const Options& options);
[[nodiscard]] MadeDecoder makeOneWireDecoder(const Options& options);
[[nodiscard]] MadeDecoder makePixelDecoder(const Options& options);
[[nodiscard]] MadeDecoder makeClockedPixelDecoder(const Options& options);
[[nodiscard]] MadeDecoder makePulseDecoder(const Options& options);
[[nodiscard]] MadeDecoder makeServoDecoder(const Options& options);
[[nodiscard]] MadeDecoder makeQuadratureDecoder(const Options& options);
[[nodiscard]] MadeDecoder makeHumidityDecoder(const Options& options);
[[nodiscard]] MadeDecoder makeDisplayDecoder(const Options& options);

}  // namespace bramix::tape
