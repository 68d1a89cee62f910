#include "circuit/device.h"

#include <algorithm>
#include <cmath>

namespace bramix::circuit {

namespace {

struct Curve {
    double value;
    double slope;
};

// e^x - 1 for a junction with this saturation current, going on in a straight line from ten amperes on, where the resistance of any real junction has
// long taken over. A voltage source across a bare junction then still gives currents that numbers can hold.
Curve boundedExp(double x, double saturation)
{
    const double knee = std::log(10 / saturation);
    if (x <= knee)
        return {std::expm1(x), std::exp(x)};
    const double e = 10 / saturation;
    return {e * (1 + x - knee) - 1, e};
}

// max(x, 0), rounded off over about `width`.
Curve softPlus(double x, double width)
{
    const double u = x / width;
    if (u > 40)
        return {x, 1};
    if (u < -40)
        return {0, 0};
    const double e = std::exp(u);
    return {width * std::log1p(e), e / (1 + e)};
}

}  // namespace

void DiodeDevice::at(const std::array<double, kMostTerminals>& v, DevicePoint& out) const
{
    const DiodeModel::Point p = model_.at(v[0] - v[1]);
    out.amps[0] = p.amps;
    out.amps[1] = -p.amps;
    out.siemens[0][0] = out.siemens[1][1] = p.siemens;
    out.siemens[0][1] = out.siemens[1][0] = -p.siemens;
}

// ic = Is (e^be - e^bc) - Is/βr (e^bc - 1), ib = Is/βf (e^be - 1) + Is/βr (e^bc - 1); a PNP is its mirror image.
void BipolarDevice::at(const std::array<double, kMostTerminals>& v, DevicePoint& out) const
{
    const double sign = model_.pnp ? -1 : 1;
    const Curve be = boundedExp(sign * (v[1] - v[2]) / kThermalVolts, model_.saturationAmps);
    const Curve bc = boundedExp(sign * (v[1] - v[0]) / kThermalVolts, model_.saturationAmps);
    const double is = model_.saturationAmps;
    const double ic = is * (be.value - bc.value) - is / model_.reverseGain * bc.value;
    const double ib = is / model_.forwardGain * be.value + is / model_.reverseGain * bc.value;
    out.amps[0] = sign * ic;
    out.amps[1] = sign * ib;
    out.amps[2] = -sign * (ic + ib);
    const double gbe = is * be.slope / kThermalVolts;
    const double gbc = is * bc.slope / kThermalVolts;
    // By the base-emitter and base-collector voltages; the sign falls out, because it comes in twice.
    const double icBe = gbe;
    const double icBc = -gbc * (1 + 1 / model_.reverseGain);
    const double ibBe = gbe / model_.forwardGain;
    const double ibBc = gbc / model_.reverseGain;
    out.siemens[0] = {-icBc, icBe + icBc, -icBe};
    out.siemens[1] = {-ibBc, ibBe + ibBc, -ibBe};
    for (std::size_t i = 0; i < 3; ++i)
        out.siemens[2][i] = -out.siemens[0][i] - out.siemens[1][i];
}

// Deep in the linear region the channel's conductance is gain · (vgs - vth).
MosfetModel MosfetModel::with(Volts threshold, Ohms on, Volts atGate, bool pChannel)
{
    MosfetModel m;
    m.thresholdVolts = threshold.value;
    m.gain = 1 / (on.value * std::max(atGate.value - threshold.value, 0.1));
    m.pChannel = pChannel;
    return m;
}

// The square law as a difference: id = gain/2 · (p(vgs - vth)² - p(vgd - vth)²) with p(x) = max(x, 0), which is symmetric in
// drain and source, and smooth once p is rounded off (which also gives the weak inversion current its exponential).
void MosfetDevice::at(const std::array<double, kMostTerminals>& v, DevicePoint& out) const
{
    constexpr double kRounding = 0.04;  // volts: twice the thermal voltage times a slope factor of about 0.8 to 1.6
    const double sign = model_.pChannel ? -1 : 1;
    const Curve s = softPlus(sign * (v[1] - v[2]) - model_.thresholdVolts, kRounding);
    const Curve d = softPlus(sign * (v[1] - v[0]) - model_.thresholdVolts, kRounding);
    const double half = model_.gain / 2;
    const double channel = half * (s.value * s.value - d.value * d.value);
    const double byS = 2 * half * s.value * s.slope;   // with vgs
    const double byD = -2 * half * d.value * d.slope;  // with vgd
    const Curve body = boundedExp(sign * (v[2] - v[0]) / kThermalVolts, model_.bodyAmps);
    const double bodyAmps = model_.bodyAmps * body.value;
    const double bodySiemens = model_.bodyAmps * body.slope / kThermalVolts;
    const double into = channel - bodyAmps;
    out.amps[0] = sign * into;
    out.amps[1] = 0;
    out.amps[2] = -sign * into;
    out.siemens[0] = {-byD + bodySiemens, byS + byD, -byS - bodySiemens};
    for (std::size_t i = 0; i < 3; ++i)
        out.siemens[2][i] = -out.siemens[0][i];
}

void OpAmpDevice::at(const std::array<double, kMostTerminals>& v, DevicePoint& out) const
{
    constexpr double kClampSiemens = 0.1;
    constexpr double kClampRounding = 0.002;
    const double most = model_.voltsPerSecond * OpAmpModel::kInnerFarads;
    const double gm = 6.283185307179586 * model_.bandwidthHz * OpAmpModel::kInnerFarads;
    const double t = std::tanh(gm * (v[0] - v[1]) / most);
    const double steer = gm * (1 - t * t);
    const double loss = gm / model_.gain;
    const Curve above = softPlus(v[5] - v[3] + model_.headroomVolts, kClampRounding);
    const Curve below = softPlus(v[4] + model_.headroomVolts - v[5], kClampRounding);
    out.amps[5] = -most * t + loss * (v[5] - (v[3] + v[4]) / 2) + kClampSiemens * (above.value - below.value);
    out.siemens[5] = {-steer, steer, 0, -loss / 2 - kClampSiemens * above.slope, -loss / 2 - kClampSiemens * below.slope, loss + kClampSiemens * (above.slope + below.slope)};

    const double g = 1 / model_.outputOhms;
    const double into = g * (v[2] - v[5]);
    out.amps[2] = into;
    out.siemens[2] = {0, 0, g, 0, 0, -g};
    // What leaves by the output has come in by a supply pin: by the upper one when it flows out, by the lower one when it flows in.
    const Curve outwards = softPlus(-into, 1e-5);
    out.amps[3] = outwards.value;
    out.amps[4] = -into - outwards.value;
    for (std::size_t i = 0; i < kMostTerminals; ++i) {
        out.siemens[3][i] = -outwards.slope * out.siemens[2][i];
        out.siemens[4][i] = -out.siemens[2][i] - out.siemens[3][i];
    }
    // Its own consumption, which also says where a supply pin lies that nothing is wired to.
    const double own = 1 / model_.supplyOhms;
    out.amps[3] += own * (v[3] - v[4]);
    out.amps[4] -= own * (v[3] - v[4]);
    out.siemens[3][3] += own;
    out.siemens[3][4] -= own;
    out.siemens[4][4] += own;
    out.siemens[4][3] -= own;
    const double bleed = 1 / model_.bleedOhms;
    out.amps[0] = bleed * (v[0] - v[1]);
    out.amps[1] = -out.amps[0];
    out.siemens[0][0] = out.siemens[1][1] = bleed;
    out.siemens[0][1] = out.siemens[1][0] = -bleed;
}

DiodeModel::Point ClampDevice::through(double volts, double low, double high)
{
    static const DiodeModel diode = DiodeModel::through({0.6}, {0.001}, 1.2, {20});
    if (volts > high) {
        const DiodeModel::Point p = diode.at(volts - high);
        return {p.amps, p.siemens};
    }
    if (volts < low) {
        const DiodeModel::Point p = diode.at(low - volts);
        return {-p.amps, p.siemens};
    }
    return {0, 0};
}

void ClampDevice::at(const std::array<double, kMostTerminals>& v, DevicePoint& out) const
{
    const DiodeModel::Point p = through(v[0], low, high);
    out.amps[0] = p.amps;
    out.siemens[0][0] = p.siemens;
}

// Linear in the middle, a flat current beyond either limit, with a small slope left and the corners rounded off.
void LimitedSourceDevice::at(const std::array<double, kMostTerminals>& v, DevicePoint& out) const
{
    constexpr double kSlope = 1e-6;
    const double wanted = (model_.volts - (v[0] - v[1])) / model_.ohms;
    const double width = std::max(model_.limitAmps, 1e-3) * 0.002;
    const Curve over = softPlus(wanted - model_.limitAmps, width);
    const Curve under = softPlus(-wanted - model_.limitAmps, width);
    const double given = wanted - (1 - kSlope) * (over.value - under.value);
    const double slope = (1 - (1 - kSlope) * (over.slope + under.slope)) / model_.ohms;
    out.amps[0] = -given;
    out.amps[1] = given;
    out.siemens[0][0] = out.siemens[1][1] = slope;
    out.siemens[0][1] = out.siemens[1][0] = -slope;
}

}  // namespace bramix::circuit
