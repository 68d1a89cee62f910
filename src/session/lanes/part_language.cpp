#include "session/lanes/part_language.h"

#include <algorithm>
#include <array>

#include <fmt/format.h>

#include "session/session.h"

namespace bramix::session {

using bench::Language;
using tape::Decoded;

namespace {

std::string nameOf(const Language& language, std::uint32_t number)
{
    const Language::Name* n = language.find(number);
    if (n == nullptr)
        return fmt::format("0x{:02X}", number);
    return n->first == n->last ? n->name : fmt::format("{} {}", n->name, number - n->first);
}

}  // namespace

PartLanguage::PartLanguage(std::vector<Device> devices)
{
    for (Device& d : devices) {
        devices_.emplace_back(std::move(d));
        if (devices_.back().device.language->form == Language::Form::characterDisplay)
            devices_.back().display = std::move(*tape::makeDecoder("hd44780", {}));
    }
    // Where nobody has an address, the one that there is is meant whenever the bus speaks.
    if (devices_.size() == 1 && !devices_[0].device.address)
        now_ = 0;
}

void PartLanguage::put(kernel::Time from, kernel::Time to, const char* what, std::uint64_t value, std::string text) const
{
    if (out)
        out({from, to, what, value, std::move(text), true, true});
}

void PartLanguage::begin()
{
    count_ = 0;
    left_ = 0;
    picture_ = goesOn_ = false;
    command_.reset();
    run_.reset();
    runBytes_ = 0;
}

void PartLanguage::end()
{
    endCommand();
    endRun();
    begin();
}

void PartLanguage::take(const Decoded& item)
{
    if (item.what == "start" || item.what == "restart" || item.what == "stop" || item.what == "select" || item.what == "release") {
        end();
        if (item.what != "select" && item.what != "release")
            now_ = kNobody;
        return;
    }
    if (item.what == "address") {
        const auto device = std::find_if(devices_.begin(), devices_.end(), [&](const Spoken& s) { return s.device.address == item.value; });
        now_ = device == devices_.end() || tape::standsOut(item.good, item.text) ? kNobody : static_cast<std::size_t>(device - devices_.begin());
        reading_ = item.text.find("read") != std::string::npos;
        if (now_ != kNobody)
            put(item.from, item.to, "part", item.value, devices_[now_].device.name + (reading_ ? " read" : " written"));
        return;
    }
    if (item.what == "byte" && now_ != kNobody)
        byte(item);
}

void PartLanguage::byte(const Decoded& item)
{
    switch (devices_[now_].device.language->form) {
    case Language::Form::none: break;
    case Language::Form::registers: case Language::Form::memory: registerByte(item); break;
    case Language::Form::characterDisplay: displayByte(item); break;
    case Language::Form::displayCommands:
        if (reading_)
            break;
        // Bit 7 of a control byte: another one follows after the next byte; bit 6: what follows is picture.
        if (count_ == 0 || (goesOn_ && count_ % 2 == 0)) {
            goesOn_ = (item.value & 0x80) != 0;
            picture_ = (item.value & 0x40) != 0;
            break;
        }
        if (!picture_) {
            commandByte(item, static_cast<std::uint8_t>(item.value));
            break;
        }
        if (!run_)
            run_ = item;
        run_->to = item.to;
        ++runBytes_;
        break;
    case Language::Form::commands:
        if (command_ && left_ == 0) {
            ++runBytes_;  // what it carries
            command_->to = item.to;
        } else {
            commandByte(item, static_cast<std::uint8_t>(item.value));
        }
        break;
    case Language::Form::card: cardByte(item); break;
    }
    ++count_;
}

void PartLanguage::registerByte(const Decoded& item)
{
    const Language& language = *devices_[now_].device.language;
    const bool memory = language.form == Language::Form::memory;
    const auto value = static_cast<unsigned>(item.value);
    if (!reading_ && count_ < language.pointer) {
        devices_[now_].pointer = (count_ == 0 ? 0 : devices_[now_].pointer << 8U) | value;
        if (count_ + 1 == language.pointer)
            put(item.from, item.to, "register", devices_[now_].pointer, "to " + (memory ? fmt::format("0x{:0{}X}", devices_[now_].pointer, language.pointer * 2) : nameOf(language, devices_[now_].pointer)));
        return;
    }
    put(item.from, item.to, "register", item.value,
        memory ? fmt::format("0x{:0{}X}: 0x{:02X}{}", devices_[now_].pointer, language.pointer * 2, value, value >= 32 && value < 127 ? fmt::format(" '{}'", static_cast<char>(value)) : std::string())
               : fmt::format("{} {} 0x{:02X}", nameOf(language, devices_[now_].pointer), reading_ ? "is" : "=", value));
    devices_[now_].pointer = !memory && devices_[now_].pointer >= language.last() ? 0 : devices_[now_].pointer + 1;
}

// The expander's lines become the display's.
void PartLanguage::displayByte(const Decoded& item)
{
    if (reading_)
        return;
    // Roles of the decoder: RS, E, D4 to D7, RW; E last, as it takes over what the others show.
    tape::Decoder& display = *devices_[now_].display;
    display.out = [this](Decoded told) {
        told.meaning = true;
        if (out)
            out(told);
    };
    constexpr std::array<std::pair<std::size_t, unsigned>, 7> kLines{{{0, 0}, {6, 1}, {2, 4}, {3, 5}, {4, 6}, {5, 7}, {1, 2}}};
    for (const auto& [role, bit] : kLines)
        display.edge(role, ((item.value >> bit) & 1) != 0, item.to);
}

void PartLanguage::commandByte(const Decoded& item, std::uint8_t value)
{
    if (left_ > 0) {
        arguments_ += fmt::format("{}{:02X}", arguments_.empty() ? " 0x" : "", value);
        command_->to = item.to;
        if (--left_ == 0 && devices_[now_].device.language->form == Language::Form::displayCommands)
            endCommand();
        return;
    }
    endCommand();
    command_ = item;
    arguments_.clear();
    runBytes_ = 0;
    const Language::Name* name = devices_[now_].device.language->find(value);
    left_ = name == nullptr ? 0 : name->takes;
    if (left_ == 0 && devices_[now_].device.language->form == Language::Form::displayCommands)
        endCommand();
}

// SD Physical Layer, 7.3.1: 01, the command's number, four bytes of argument, the check sum.
void PartLanguage::cardByte(const Decoded& item)
{
    if (left_ == 0) {
        if ((item.value & 0xC0) != 0x40)
            return;
        command_ = item;
        command_->value = item.value & 0x3F;
        arguments_.clear();
        left_ = 5;
        return;
    }
    command_->to = item.to;
    if (--left_ > 0)
        arguments_ += fmt::format("{}{:02X}", arguments_.empty() ? " 0x" : "", item.value);
    else
        endCommand();
}

void PartLanguage::endCommand()
{
    if (!command_ || now_ == kNobody)
        return;
    const Language& language = *devices_[now_].device.language;
    std::string text = nameOf(language, static_cast<std::uint32_t>(command_->value)) + arguments_;
    if (language.form == Language::Form::commands && runBytes_ > 0)
        text += fmt::format(", {} byte{}", runBytes_, runBytes_ == 1 ? "" : "s");
    if (language.form == Language::Form::commands)
        runBytes_ = 0;
    put(command_->from, command_->to, "command", command_->value, std::move(text));
    command_.reset();
}

void PartLanguage::endRun()
{
    if (run_)
        put(run_->from, run_->to, "data", runBytes_, fmt::format("{} byte{} of picture", runBytes_, runBytes_ == 1 ? "" : "s"));
    run_.reset();
    runBytes_ = 0;
}

std::vector<PartLanguage::Device> devicesOn(const Session& session, const tape::DecoderSpec& spec)
{
    std::vector<PartLanguage::Device> out;
    const auto channel = [&](const std::string& line) {
        const auto pin = bench::parsePinRef(line);
        return pin ? session.channelOf(*pin) : session.tape().find(line);
    };
    const bool twoWire = spec.kind == "i2c";
    if (!twoWire && (spec.kind != "spi" || spec.lines.size() < 4 || spec.lines[3].empty()))
        return out;
    for (const bench::PartItem& item : session.document().parts) {
        const bench::PartKind* kind = session.catalogue().find(item.kind);
        if (kind == nullptr || kind->language.form == Language::Form::none)
            continue;
        const std::string name = item.label.empty() ? item.id : item.label;
        if (!twoWire) {
            if (session.channelOf({item.id, "CS"}) == channel(spec.lines[3]) && channel(spec.lines[3]) != UINT32_MAX)
                out.push_back({name, &kind->language, std::nullopt});
            continue;
        }
        const parts::Part* part = session.world().part(item.id);
        if (part == nullptr || session.channelOf({item.id, "SDA"}) != channel(spec.lines[0]) || session.channelOf({item.id, "SCL"}) != channel(spec.lines[1]))
            continue;
        for (const std::uint8_t address : part->busAddresses())
            out.push_back({name, &kind->language, address});
    }
    return out;
}

}  // namespace bramix::session
