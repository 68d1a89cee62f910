// Device models against their own equations and slopes, and against textbook figures.
#include <QtTest>

#include <cmath>
#include <memory>
#include <vector>

#include "circuit/device.h"

using namespace bramix::circuit;

namespace {

bool near(double actual, double expected, double relative) { return std::fabs(actual - expected) <= relative * std::max(1e-12, std::fabs(expected)); }

using Terminals = std::array<double, kMostTerminals>;

DevicePoint at(const Device& d, const Terminals& v)
{
    DevicePoint p;
    d.at(v, p);
    return p;
}

// Central differences against the slopes that the model gives.
void checkSlopes(const Device& d, const Terminals& v)
{
    const DevicePoint p = at(d, v);
    for (std::size_t j = 0; j < d.terminals(); ++j) {
        constexpr double kStep = 1e-6;
        Terminals up = v, down = v;
        up[j] += kStep;
        down[j] -= kStep;
        const DevicePoint a = at(d, up), b = at(d, down);
        for (std::size_t i = 0; i < d.terminals(); ++i) {
            const double slope = (a.amps[i] - b.amps[i]) / (2 * kStep);
            const double scale = std::max({std::fabs(slope), std::fabs(p.amps[i]) * 1e-3, 1e-9});
            QVERIFY2(std::fabs(slope - p.siemens[i][j]) < 2e-3 * scale, qPrintable(QString("terminal %1 by %2: %3, expected %4").arg(i).arg(j).arg(p.siemens[i][j]).arg(slope)));
        }
    }
}

}  // namespace

class DeviceTest : public QObject {
    Q_OBJECT

private slots:
    void slopesAreTheDerivativesOfTheCurrents()
    {
        DiodeModel zener = DiodeModel::through({0.7}, {0.01}, 1.5, {2});
        zener.breakdownVolts = 5.1;
        zener.breakdownAmps = 0.005;
        zener.leakSiemens = 1e-8;
        std::vector<std::unique_ptr<Device>> devices;
        devices.push_back(std::make_unique<DiodeDevice>(zener));
        devices.push_back(std::make_unique<BipolarDevice>(BipolarModel{}));
        devices.push_back(std::make_unique<BipolarDevice>(BipolarModel{.pnp = true}));
        devices.push_back(std::make_unique<MosfetDevice>(MosfetModel::with({2}, {0.1}, {5}, false)));
        devices.push_back(std::make_unique<MosfetDevice>(MosfetModel::with({2}, {0.1}, {5}, true)));
        devices.push_back(std::make_unique<OpAmpDevice>(OpAmpModel{}));
        devices.push_back(std::make_unique<LimitedSourceDevice>(LimitedSourceModel{}));
        devices.push_back(std::make_unique<ClampDevice>());
        unsigned random = 7;
        const auto next = [&random](double low, double high) {
            random = random * 1664525U + 1013904223U;
            return low + (high - low) * (random >> 8U) / double(1U << 24U);
        };
        for (const auto& d : devices)
            for (int i = 0; i < 40; ++i) {
                Terminals v{};
                for (std::size_t k = 0; k < d->terminals(); ++k)
                    v[k] = next(0, 0.75);
                if (d->terminals() == 6) {  // within a working amplifier
                    v[1] = v[0] + next(-1e-5, 1e-5);
                    v[3] = 5;
                    v[4] = 0;
                    v[5] = next(1, 4);
                }
                checkSlopes(*d, v);
            }
    }

    // i(v) of a breakdown diode passes the data sheet's point, and hardly leaks half a volt before it.
    void aZenerBreaksDownWhereItsDataSheetSays()
    {
        DiodeModel z = DiodeModel::through({0.75}, {0.01}, 1.5, {2});
        z.breakdownVolts = 5.1;
        z.breakdownAmps = 0.005;
        QVERIFY(near(-z.at(-5.1).amps, 0.005, 1e-3));
        QVERIFY(-z.at(-4.3).amps < 1e-8);
        const double rise = -z.at(-5.2).amps;  // beyond the knee the series resistance rules: 0.1 V over 2 Ω and n·Vt/i
        QVERIFY(rise > 0.015 && rise < 0.045);
    }

    // Active region: ic = Is (exp(vbe/Vt) - 1), ib = ic / β.
    void aTransistorAmplifiesByItsGain()
    {
        const BipolarDevice npn({.saturationAmps = 1e-14, .forwardGain = 150, .reverseGain = 3});
        const DevicePoint p = at(npn, {5, 0.65, 0});
        QVERIFY(near(p.amps[0], 1e-14 * std::expm1(0.65 / kThermalVolts), 1e-9));
        QVERIFY(near(p.amps[0] / p.amps[1], 150, 1e-6));
        QVERIFY(std::fabs(p.amps[0] + p.amps[1] + p.amps[2]) < 1e-18);
        const BipolarDevice pnp({.saturationAmps = 1e-14, .forwardGain = 150, .reverseGain = 3, .pnp = true});
        const DevicePoint q = at(pnp, {-5, -0.65, 0});
        QVERIFY(near(q.amps[0], -p.amps[0], 1e-12));
    }

    void aMosfetIsItsChannelResistanceWhenOnAndSquareLawWhenSaturated()
    {
        const MosfetModel model = MosfetModel::with({2}, {0.05}, {10}, false);
        const MosfetDevice fet(model);
        QVERIFY(near(0.001 / at(fet, {0.001, 10, 0}).amps[0], 0.05, 2e-3));
        // id = k/2 (vgs - vth)²
        QVERIFY(near(at(fet, {10, 3, 0}).amps[0], model.gain / 2 * 1.0, 1e-6));
        QVERIFY(at(fet, {10, 0, 0}).amps[0] < 1e-9);
        // Reversed, the body diode conducts.
        QVERIFY(at(fet, {-0.8, 0, 0}).amps[0] < -1e-3);
        QCOMPARE(at(fet, {10, 3, 0}).amps[1], 0.0);
    }

    void aLimitedSourceTurnsFromVoltageToCurrent()
    {
        const LimitedSourceDevice s({.volts = 9, .ohms = 0.5, .limitAmps = 0.2});
        QVERIFY(near(-at(s, {8.95, 0}).amps[0], 0.1, 1e-6));
        QVERIFY(near(-at(s, {0, 0}).amps[0], 0.2, 1e-3));
        QVERIFY(near(-at(s, {4, 0}).amps[0], 0.2, 1e-3));
    }
};

QTEST_APPLESS_MAIN(DeviceTest)
#include "device_test.moc"
