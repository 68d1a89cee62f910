// Sweeps against closed forms: the diode law, an LED's operating point by Lambert's W, dividers; and what can be wrong with a question.
#include <QtTest>
#include <cmath>

#include "bench/sweep.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;

namespace {

constexpr double kThermalVolts = 0.025852;  // kT/q at 300 K

const char* const kHead = R"(bramix = 1
title = "t"
[[part]]
id = "v"
kind = "bench-supply"
at = [0, 0]
[[part]]
id = "g"
kind = "ground"
at = [9, 0]
[[part]]
id = "r"
kind = "resistor"
at = [5, 0]
set = { resistance = "330" }
)";

std::string part(const std::string& id, const std::string& kind, const std::string& set = "") { return "[[part]]\nid = \"" + id + "\"\nkind = \"" + kind + "\"\nat = [2, 0]\n" + set + "\n"; }
std::string wire(const std::string& a, const std::string& b) { return "[[wire]]\nends = [\"" + a + "\", \"" + b + "\"]\n"; }

const Catalogue& catalogue()
{
    static const Catalogue loaded = *Catalogue::loadInstalled();
    return loaded;
}

// Supply, resistor and a two-lead part in a ring.
Document ring(const std::string& id, const std::string& kind, const std::string& plus, const std::string& minus, const std::string& set = "")
{
    return *parseDocument("t", kHead + part(id, kind, set) + wire("v.V", "r.1") + wire("r.2", id + "." + plus) + wire(id + "." + minus, "g.V") + wire("v.GND", "g.V"));
}

SweepTable sweep(const Document& document, SweepRequest request)
{
    auto work = Sweep::begin(document, catalogue(), {}, std::move(request));
    if (!work)
        qFatal("%s", work.error().text().c_str());
    for (;;) {
        const auto more = work->step();
        if (!more)
            qFatal("%s", more.error().text().c_str());
        if (!*more)
            return work->table();
    }
}

std::string troubleOf(const Document& document, SweepRequest request)
{
    const auto work = Sweep::begin(document, catalogue(), {}, std::move(request));
    return work ? "" : work.error().text();
}

SweepTrace trace(const char* text) { return *parseTrace(text); }

// w e^w = x, by Newton's rule (Corless and others, "On the Lambert W function", 1996); for large x by its logarithm.
double lambertW(double x)
{
    double w = std::log1p(x);
    for (int i = 0; i < 200; ++i)
        w -= (w + std::log(w) - std::log(x)) / (1 + 1 / w);
    return w;
}

}  // namespace

class SweepTest : public QObject {
    Q_OBJECT

private slots:
    // Their leaks alone decide, and those are alike.
    void aNodeBetweenTwoCapacitorsStandsInTheMiddle()
    {
        const Document document = *parseDocument("t", kHead + part("c", "capacitor") + part("e", "capacitor") + wire("v.V", "c.1") + wire("c.2", "e.1") + wire("e.2", "g.V") + wire("v.GND", "g.V"));
        SweepRequest request;
        request.axis = {"v.volts", {2, 4, 10}};
        request.traces = {trace("e.1")};
        const SweepTable table = sweep(document, request);
        for (std::size_t i = 0; i < 3; ++i)
            QVERIFY2(std::fabs(table.curves[0].y[i] - request.axis.values[i] / 2) < 1e-4, qPrintable(QString::number(table.curves[0].y[i])));
    }

    // ln i is a straight line over v - i Rs, with one nVt from end to end: Shockley's law.
    void aDiodeFollowsItsLaw()
    {
        const SweepTable table = sweep(ring("d", "diode", "A", "K", "set = { series = \"0.5\", forward = \"0.7V\", current = \"10m\" }"),
                                       {{"v.volts", *sweepValues(0.9, 12, 60, true)}, {}, {trace("d:current"), trace("d.A:d.K")}, {}, {}});
        QCOMPARE(table.curves.size(), std::size_t{2});
        QCOMPARE(table.unsolved, std::size_t{0});
        const auto& amps = table.curves[0].y;
        const auto& volts = table.curves[1].y;
        const auto junction = [&](std::size_t i) { return volts[i] - amps[i] * 0.5; };
        const std::size_t last = amps.size() - 1;
        const double nvt = (junction(last) - junction(0)) / std::log(amps[last] / amps[0]);
        QVERIFY(nvt > kThermalVolts * 0.99 && nvt < kThermalVolts * 2.01);
        for (std::size_t i = 1; i < last; ++i)
            QVERIFY2(std::fabs(junction(i) - junction(0) - nvt * std::log(amps[i] / amps[0])) < 2e-6, qPrintable(QString::number(i)));
    }

    // i = nVt/R W(Is R/nVt exp((V + Is R)/nVt)) - Is for a junction with R in series.
    void anLedStandsWhereLambertSays()
    {
        const Document document = ring("d", "led", "A", "K");
        const auto world = *World::build(document, catalogue(), {}, nullptr);
        const circuit::DiodeModel model = *world->part("d")->diode();
        const SweepTable table = sweep(document, {{"r.resistance", *sweepValues(100, 10'000, 21, true)}, SweepAxis{"v.volts", {3.3, 5}}, {trace("d:current")}, {}, {}});
        QCOMPARE(table.curves.size(), std::size_t{2});
        const double nvt = model.ideality * kThermalVolts;
        for (const SweepCurve& curve : table.curves)
            for (std::size_t i = 0; i < curve.y.size(); ++i) {
                // The supply has 50 milliohms of its own.
                const double ohms = table.request.axis.values[i] + model.seriesOhms + 0.05;
                const double is = model.saturationAmps;
                const double wanted = nvt / ohms * lambertW(is * ohms / nvt * std::exp((*curve.also + is * ohms) / nvt)) - is;
                QVERIFY2(std::fabs(curve.y[i] / wanted - 1) < 2e-4, qPrintable(QString("%1 against %2").arg(curve.y[i]).arg(wanted)));
            }
    }

    void aDialIsSweptAsASettingIs()
    {
        const Document document = *parseDocument("t", kHead + part("p", "potentiometer") + wire("v.V", "p.A") + wire("p.B", "g.V") + wire("v.GND", "g.V"));
        const SweepTable table = sweep(document, {{"p.position", {0.25, 0.5, 0.75}}, {}, {trace("p.W")}, {}, {{"v.volts", 4}}});
        // Its A side carries position times the track.
        for (std::size_t i = 0; i < 3; ++i)
            QVERIFY(std::fabs(table.curves[0].y[i] - 4 * (1 - table.request.axis.values[i])) < 0.002);
    }

    void whatStoresChargeStandsAtItsEnd()
    {
        const Document document = ring("c", "capacitor", "1", "2");
        const SweepTable table = sweep(document, {{"v.volts", {1, 2}}, {}, {trace("c.1"), trace("r:current")}, {}, {}});
        QVERIFY(std::fabs(table.curves[0].y[1] - 2) < 1e-3);
        QVERIFY(std::fabs(table.curves[1].y[1]) < 1e-6);
    }

    // A hand on the supply's dial does not hold the sweep of its setting.
    void aSettingGovernsItsDial()
    {
        const SweepTable table = sweep(ring("d", "led", "A", "K"), {{"v.voltage", {1, 4}}, {}, {trace("v.V")}, {}, {{"v.volts", 9}}});
        QVERIFY(std::fabs(table.curves[0].y[0] - 1) < 0.01 && std::fabs(table.curves[0].y[1] - 4) < 0.01);
    }

    void chipsHoldWhatTheyAreGiven()
    {
        const Document document = *parseDocument("t", kHead + part("mcu", "briar-328") + wire("mcu.PB1", "r.1") + wire("r.2", "mcu.GND"));
        const SweepTable table = sweep(document, {{"r.resistance", {100, 1000}}, {}, {trace("r:current")}, {{PinRef{"mcu", "PB1"}, {5, 25}}}, {}});
        QVERIFY(std::fabs(table.curves[0].y[0] - 5.0 / 125) < 1e-9);
        QVERIFY(std::fabs(table.curves[0].y[1] - 5.0 / 1025) < 1e-9);
    }

    void figuresGoOutAsCsv()
    {
        const SweepTable table = sweep(ring("d", "led", "A", "K"), {{"v.volts", {0, 5}}, SweepAxis{"r.resistance", {100, 1000}}, {trace("r.1")}, {}, {}});
        const std::string csv = table.csv();
        QVERIFY2(csv.starts_with("\"v.volts [V]\",\"r.1, r.resistance 100 Ω [V]\",\"r.1, r.resistance 1 kΩ [V]\"\n0,"), csv.c_str());
        QCOMPARE(std::count(csv.begin(), csv.end(), '\n'), 3);
    }

    void aWrongQuestionIsToldInOneLine()
    {
        const Document document = ring("d", "led", "A", "K");
        const auto ask = [&](const char* figure, const char* plot) { return troubleOf(document, {{figure, {1, 2}}, {}, {trace(plot)}, {}, {}}); };
        QCOMPARE(ask("x.volts", "r.1"), "x.volts: names no part of this bench; expected \"part.setting\" or \"part.control\"");
        QVERIFY(ask("r.colour", "r.1").starts_with("r.colour: is no figure that a sweep could move; r has resistance"));
        QCOMPARE(ask("v.volts", "r.9"), "r.9: is no pin of this bench");
        QCOMPARE(ask("v.volts", "g:current"), "g:current: has no current of its own to plot");
        QCOMPARE(parseTrace("r").error().text(), "r: expected a pin (r1.2), two pins (d1.A:d1.K), or a part's current or power (d1:current, d1:power)");
        QCOMPARE(sweepValues(-1, 5, 11, true).error().what, "steps of equal ratio need two ends of the same sign, and neither may be 0");
        QVERIFY(!sweepValues(0, 5, 1, false));
        auto work = Sweep::begin(document, catalogue(), {}, {{"r.resistance", {100, -5}}, {}, {trace("r.1")}, {}, {}});
        QVERIFY(work && work->step());
        QVERIFY(!work->step());  // no resistor has less than nothing
    }
};

QTEST_GUILESS_MAIN(SweepTest)
#include "sweep_test.moc"
