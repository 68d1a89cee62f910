// Every setting of every part of the catalogue does something: the part stands on a bench that moves all its pins and controls, once with the setting as it
// comes and once with another value, and the two runs must differ in a voltage, a current, a face or a finding. What each setting should do is asked by
// the tests of the parts; this one finds those that do nothing.
#include <QtTest>

#include <cmath>

#include <nlohmann/json.hpp>

#include "bench/catalogue.h"
#include "bench/document.h"
#include "bench/world.h"
#include "cli/part_report.h"
#include "kernel/units.h"

using namespace bramix;
using namespace std::chrono_literals;

namespace {

using Names = std::set<std::string>;

bool isGround(const bench::PinKind& pin)
{
    static const Names names{"GND", "VSS", "V-", "COM", "VEE"};
    return pin.ground || names.contains(pin.name) || pin.name.starts_with("GND");
}

bool isSupply(const bench::PinKind& pin)
{
    static const Names names{"VCC", "VDD", "V+", "5V", "VS", "VM", "AVCC", "3V3"};
    return names.contains(pin.name);
}

// How hard the rig presses: volts of its supply and of its signals, and ohms before each pin.
struct Rig {
    const char* name;
    const char* supply;
    const char* high;
    const char* low;
    const char* ohms;
    const char* wave = "square";
    double hertz = 31, factor = 1.37;       // of the first pin, and from one to the next
    unsigned constant = 0;                  // bits: the pins that stand high instead, all others low
    std::chrono::microseconds every = 1373us;
};

// The last ones stand still and are hot: whoever has a limit is over it for seconds, whichever way round it stands.
constexpr Rig kRigs[] = {{"usual", "5", "5V", "0V", "330"},
                         {"high impedance", "5", "5V", "0V", "47k"},
                         {"below zero", "5", "4V", "-12V", "220"},
                         {"strong", "12", "24V", "0V", "2"},
                         {"ramps", "5", "5V", "0V", "10", "triangle"},
                         {"pulses of servos", "5", "5V", "0V", "10", "pulse", 50, 1},
                         {"still", "5", "5V", "0V", "100", "constant", 1, 1, 1, 100ms},
                         {"hot 1", "12", "24V", "0V", "0.2", "constant", 1, 1, 1, 100ms},
                         {"hot 2", "12", "24V", "0V", "0.2", "constant", 1, 1, 2, 100ms},
                         {"hot 3", "12", "24V", "0V", "0.2", "constant", 1, 1, 3, 100ms},
                         {"hot 4", "12", "24V", "0V", "0.2", "constant", 1, 1, 4, 100ms},
                         {"hot 5", "12", "24V", "0V", "0.2", "constant", 1, 1, 5, 100ms}};

bench::Document around(const bench::PartKind& kind, const std::map<std::string, std::string>& set, const Rig& rig)
{
    bench::Document d;
    int row = 0;
    const auto add = [&](const std::string& id, const std::string& name, std::map<std::string, std::string> with) {
        bench::PartItem item;
        item.id = id;
        item.kind = name;
        item.set = std::move(with);
        item.at = {40, 10 * ++row};
        d.parts.push_back(std::move(item));
    };
    const auto wire = [&](const std::string& a, const std::string& pinA, const std::string& b, const std::string& pinB) {
        d.wires.emplace_back();
        d.wires.back().from = {a, pinA};
        d.wires.back().to = {b, pinB};
    };
    add("dut", kind.id, set);
    add("supply", "bench-supply", {{"voltage", std::string(rig.supply) + "V"}, {"limit", "3"}});
    add("ground", "ground", {});
    wire("supply", "GND", "ground", "V");
    double hertz = rig.hertz;
    unsigned moved = 0;
    // Of a breadboard every so many holes, its rails among them.
    const std::size_t every = kind.pins.size() > 60 ? kind.pins.size() / 24 : 1;
    for (std::size_t p = 0; p < kind.pins.size(); p += every) {
        const bench::PinKind& pin = kind.pins[p];
        if (isGround(pin)) {
            wire("dut", pin.name, "ground", "V");
        } else if (isSupply(pin)) {
            wire("dut", pin.name, "supply", "V");
        } else {
            const std::string id = "n" + std::to_string(d.parts.size());
            add(id, "generator", {{"wave", rig.wave}, {"low", rig.low}, {"high", rig.constant == 0 || ((rig.constant >> moved) & 1) != 0 ? rig.high : rig.low}, {"frequency", std::to_string(hertz) + "Hz"}, {"duty", "9"}, {"inner", "0.1"}});
            add(id + "r", "resistor", {{"resistance", rig.ohms}, {"overload", "only warns"}});
            wire(id, "GND", "ground", "V");
            wire(id, "S", id + "r", "1");
            wire(id + "r", "2", "dut", pin.name);
            hertz = hertz > 1000 ? rig.hertz : hertz * rig.factor;
            ++moved;
        }
    }
    return d;
}

// All that can be seen of a run. An error stands for itself: a value that is refused is looked at.
std::string seen(const bench::Document& d, const bench::Catalogue& catalogue, std::chrono::microseconds every)
{
    if (auto ok = bench::checkDocument(d, catalogue, "rig"); !ok)
        return "refused: " + ok.error().text();
    auto world = bench::World::build(d, catalogue, {.seed = 5, .folder = "."}, nullptr);
    if (!world)
        return "refused: " + world.error().text();
    const bench::PartKind& kind = *catalogue.find(d.parts[0].kind);
    std::string out;
    constexpr int kLooks = 120;
    for (int i = 1; i <= kLooks; ++i) {
        // A control goes to each end in its turn.
        if (i % 30 == 0)
            for (const bench::ControlKind& c : kind.controls) {
                if (c.unit == "hertz")
                    continue;  // up to megahertz, which take long
                const double most = c.type == "dial" ? c.most : 1;
                const double least = c.type == "dial" ? c.least : 0;
                (void)(*world)->setControl("dut", c.name, c.type == "choice" ? (i / 30) % static_cast<int>(c.choices.size()) : i % 60 == 0 ? least : most);
            }
        (*world)->runUntil((*world)->now() + every);
        for (const bench::PinKind& pin : kind.pins)
            if (const auto id = (*world)->pin({"dut", pin.name}))
                out += fmt::format("{:.5g} {:.4g};", (*world)->circuit().voltage((*world)->circuit().netOf(*id)).value, (*world)->leadAmps({"dut", pin.name}).value_or(0));
        if (const parts::Part* part = (*world)->part("dut"))
            out += part->face() + fmt::format("{:.4g}", part->angle().value_or(0));
    }
    for (const auto& part : cli::partReport(d, catalogue, **world, nullptr))
        if (part["id"] == "dut")
            out += part.dump(-1, ' ', false, nlohmann::ordered_json::error_handler_t::replace);
    for (const bench::Finding& f : (*world)->findings())
        if (f.where.find("dut") != std::string::npos)
            out += f.rule + f.message;
    return out;
}

// Values that are as far from the standard as they can reasonably be.
std::vector<std::string> others(const bench::SettingKind& setting)
{
    std::vector<std::string> out;
    if (setting.type == "choice" || !setting.choices.empty()) {
        for (const std::string& c : setting.choices)
            if (c != setting.standard)
                out.push_back(c);
        return out;
    }
    if (setting.type == "bounce")
        return {"20ms", "off"};
    if (setting.type == "text")
        return {"another", "300ms", "12", "0x51"};
    const kernel::Unit unit = kernel::unitNamed(setting.type);
    const double value = kernel::parseQuantity(setting.standard, unit).value_or(0);
    const auto is = [&](double v) { return fmt::format("{}", v); };
    if (value == 0)
        return {is(1), is(0.001), is(100)};
    if (setting.type == "hertz")
        return {is(value / 3)};  // faster ones take long
    return {is(value * 3), is(value / 3), is(value * 1.5), is(value * 1.1), is(value * 0.65), is(value / 1000), is(value * 100), is(std::round(value) + 1), is(std::round(value) - 1)};
}

}  // namespace

class SettingsTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_ = *bench::Catalogue::loadInstalled();

private slots:
    void eachSettingDoesSomething_data()
    {
        QTest::addColumn<QString>("kind");
        for (const auto& [id, kind] : catalogue_.kinds())
            if (!kind.settings.empty() && kind.chip == nullptr)
                QTest::newRow(id.c_str()) << QString::fromStdString(id);
    }

    void eachSettingDoesSomething()
    {
        QFETCH(QString, kind);
        const bench::PartKind& k = *catalogue_.find(kind.toStdString());
        std::map<std::string, std::string> standard;
        std::map<const Rig*, std::string> before;
        QStringList idle;
        for (const bench::SettingKind& setting : k.settings) {
            if (setting.choices.size() == 1)
                continue;  // what the kind is
            if (kElsewhere.contains({kind.toStdString(), setting.name}) || kElsewhere.contains({"", setting.name}))
                continue;
            bool differs = false;
            for (const Rig& rig : kRigs) {
                std::string& usual = before[&rig];
                if (usual.empty())
                    usual = seen(around(k, {}, rig), catalogue_, rig.every);
                QVERIFY2(!usual.starts_with("refused"), usual.c_str());
                for (const std::string& value : others(setting)) {
                    const std::string now = seen(around(k, {{setting.name, value}}, rig), catalogue_, rig.every);
                    if (now.starts_with("refused"))
                        continue;
                    if (now != usual) {
                        differs = true;
                        break;
                    }
                }
                if (differs)
                    break;
            }
            if (!differs)
                idle << QString::fromStdString(setting.name);
        }
        QVERIFY2(idle.isEmpty(), qPrintable(kind + ": " + idle.join(", ") + " change nothing"));
    }

    // Right after an edge a capacitor is its series resistance.
    void aCapacitorsTypeIsItsSeriesResistance()
    {
        const auto rightAfter = [&](const std::map<std::string, std::string>& set) {
            bench::Document d = around(*catalogue_.find("capacitor"), set, {"edge", "5", "5V", "0V", "1", "square", 1000, 1});
            d.part("dut")->set["capacitance"] = "10u";
            // The second lead at ground.
            std::erase_if(d.wires, [](const bench::WireItem& w) { return w.to == bench::PinRef{"dut", "2"}; });
            d.wires.emplace_back();
            d.wires.back().from = {"dut", "2"};
            d.wires.back().to = {"ground", "V"};
            auto world = bench::World::build(d, catalogue_, {.seed = 1, .folder = "."}, nullptr);
            if (!world)
                return -1.0;
            const auto pin = *(*world)->pin({"dut", "1"});
            (*world)->runUntil(kernel::Time(499'999us));
            const double before = (*world)->circuit().voltage((*world)->circuit().netOf(pin)).value;
            (*world)->runUntil(kernel::Time(500ms) + kernel::Duration(1000));
            return std::fabs((*world)->circuit().voltage((*world)->circuit().netOf(pin)).value - before);
        };
        const auto step = [](double esr) { return 5 * esr / (1 + 0.1 + esr); };
        for (const auto& [set, esr] : std::vector<std::pair<std::map<std::string, std::string>, double>>{{{}, 0.02}, {{{"type", "film"}}, 0.05}, {{{"series", "0.3"}}, 0.3}}) {
            const double got = rightAfter(set);
            QVERIFY2(std::fabs(got - step(esr)) < 0.003, qPrintable(QString("%1 %2").arg(got).arg(step(esr))));
        }
    }

private:
    // What this bench cannot bring about, and where it is asked instead.
    static const std::set<std::pair<std::string, std::string>> kElsewhere;
};

const std::set<std::pair<std::string, std::string>> SettingsTest::kElsewhere{
    // A generator has a duty as one of pulses, and reads a file as one of a file: cli_test, analog_parts_test.
    {"generator", "duty"}, {"generator", "file"},
    // What firmware reads or addresses: drivers/memories.c, drivers/clock_dates.c, drivers/addresses.c.
    {"24c32", "contents"}, {"w25q32", "contents"}, {"sd-card", "image"}, {"ds1307", "start"}, {"ds3231", "start"}, {"character-display-i2c", "address"}, {"character-display-20x4-i2c", "address"}, {"ssd1306-i2c", "address"},
    // A crystal is heard by a chip alone: bare_chip_test.
    {"crystal", "frequency"},
    // Of the drawing alone.
    {"note", "text"}, {"note", "width"}, {"ssd1306-i2c", "color"}, {"ssd1306-spi", "color"},
    // For an instant only: below.
    {"capacitor", "type"},
};

QTEST_GUILESS_MAIN(SettingsTest)
#include "settings_test.moc"
