#include "bench/pin_functions.h"

#include <map>
#include <sstream>

namespace bramix::bench {

std::vector<std::string> functionsFor(const PartKind& kind, const PinKind& pin)
{
    const auto names = [&](const char* word) { return pin.name == word || (" " + pin.about + " ").find(std::string(" ") + word + " ") != std::string::npos; };
    if (names("SDA"))
        return {"SDA"};
    if (names("SCL"))
        return {"SCL"};
    // A device's lines towards and from the master, by its data sheet's own words.
    static const std::map<std::string, std::map<std::string, std::string, std::less<>>, std::less<>> kSpi{
        {"converter", {{"DIN", "MOSI"}, {"DOUT", "MISO"}, {"CLK", "SCK"}, {"CS", "SS"}}},
        {"serial-flash", {{"DI", "MOSI"}, {"DO", "MISO"}, {"CLK", "SCK"}, {"CS", "SS"}}},
        {"sd-card", {{"MOSI", "MOSI"}, {"MISO", "MISO"}, {"SCK", "SCK"}, {"CS", "SS"}}},
        {"spi-graphic-display", {{"D1", "MOSI"}, {"D0", "SCK"}, {"CS", "SS"}}},
        {"clocked-pixels", {{"DI", "MOSI"}, {"CI", "SCK"}}},
        {"shift-out", {{"SER", "MOSI"}, {"SRCLK", "SCK"}, {"RCLK", "SS"}}},
        {"shift-in", {{"QH", "MISO"}, {"CLK", "SCK"}}}};
    if (const auto lines = kSpi.find(kind.behaviour); lines != kSpi.end()) {
        const auto line = lines->second.find(pin.name);
        return line == lines->second.end() ? std::vector<std::string>{} : std::vector{line->second};
    }
    const std::string& b = kind.behaviour;
    if ((b == "potentiometer" && pin.name == "W") || b == "sensing-resistor" || ((b == "analog-thermometer" || b == "water-level") && pin.name == "OUT") || (b == "joystick" && (pin.name == "X" || pin.name == "Y")))
        return {"ADC"};
    if ((b == "servo" && pin.name == "SIG") || (b == "buzzer" && pin.name == "+") || (b == "bridge" && pin.name == "EN"))
        return {"OC"};
    if (b == "push-button" || b == "limit-switch" || (b == "encoder" && pin.name != "GND" && pin.name != "+") || (b == "motion-sensor" && pin.name == "OUT") || (b == "clock" && pin.name == "SQW") ||
        (b == "port-expander" && pin.name.starts_with("INT")))
        return {"INT", "PCINT"};
    if (b == "echo-ranger" && pin.name == "ECHO")
        return {"ICP", "INT", "PCINT"};
    return {};
}

std::string servingFunction(std::string_view about, const std::vector<std::string>& wanted)
{
    for (const std::string& want : wanted) {
        std::istringstream words{std::string(about)};
        for (std::string word; words >> word;) {
            if (!word.empty() && word.back() == ',')
                word.pop_back();
            // A number may follow, and for compare outputs its letter: ADC4, OC1A.
            if (word == want || (word.starts_with(want) && word.find_first_not_of("0123456789ABC", want.size()) == std::string::npos && word[want.size()] >= '0' && word[want.size()] <= '9'))
                return word;
        }
    }
    return {};
}

}  // namespace bramix::bench
