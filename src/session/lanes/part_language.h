// What the bytes on a bus mean to the part that they go to: registers by their names, cells of a memory, characters of a display, commands.
//
// Fed with what a bus decoder reads (tape/decode.h), it gives out items of its own, each as soon as it is whole.
// Tested by tests/session/lanes/part_language_test.cpp.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "bench/language.h"
#include "tape/decode.h"

namespace bramix::session {

class Session;

class PartLanguage {
public:
    struct Device {
        std::string name;
        const bench::Language* language = nullptr;
        std::optional<std::uint8_t> address;  // on a two-wire bus; none: it alone is selected
    };
    explicit PartLanguage(std::vector<Device> devices);

    // Its items have `meaning` true.
    void take(const tape::Decoded& item);
    std::function<void(const tape::Decoded&)> out;
    // One that stands where this one stands, and that nobody hears yet.
    [[nodiscard]] std::unique_ptr<PartLanguage> copy() const
    {
        auto made = std::unique_ptr<PartLanguage>(new PartLanguage(*this));
        made->out = nullptr;
        return made;
    }

private:
    struct Spoken {
        Device device;
        std::uint32_t pointer = 0;
        std::unique_ptr<tape::Decoder> display;

        explicit Spoken(Device d) : device(std::move(d)) {}
        Spoken(const Spoken& o) : device(o.device), pointer(o.pointer), display(o.display == nullptr ? nullptr : o.display->copy()) {}
    };
    PartLanguage(const PartLanguage&) = default;
    void begin();
    void end();
    void byte(const tape::Decoded& item);
    void registerByte(const tape::Decoded& item);
    void displayByte(const tape::Decoded& item);
    void commandByte(const tape::Decoded& item, std::uint8_t value);
    void cardByte(const tape::Decoded& item);
    void put(kernel::Time from, kernel::Time to, const char* what, std::uint64_t value, std::string text) const;
    void endCommand();
    void endRun();

    static constexpr std::size_t kNobody = SIZE_MAX;
    std::vector<Spoken> devices_;
    std::size_t now_ = kNobody;  // who is spoken to
    bool reading_ = false;
    unsigned count_ = 0;              // bytes of this transfer
    // A command that is not whole yet, or a run of bytes that belong together.
    std::optional<tape::Decoded> command_;
    std::string arguments_;
    unsigned left_ = 0;               // arguments to come
    bool picture_ = false, goesOn_ = false;
    std::optional<tape::Decoded> run_;
    std::uint64_t runBytes_ = 0;
};

// Who listens on the lines of a decoder: the parts of a bench that speak such a language there.
[[nodiscard]] std::vector<PartLanguage::Device> devicesOn(const Session& session, const tape::DecoderSpec& spec);

}  // namespace bramix::session
