#pragma once

/// Sensor laws that the simulated benches use to make their volts. The chains that read them back are configured in
/// the example benches and share nothing with this.
namespace cruscotto::sim {

/// Electromotive force in millivolts of a type T thermocouple at t degrees Celsius, reference junction at 0 °C,
/// 0 <= t <= 400. ITS-90 reference function (NIST Monograph 175; IEC 60584-1).
double thermocoupleT(double t);
/// Resistance in ohms of a Pt100 at t degrees Celsius, 0 <= t <= 850. IEC 60751, 5.2.
double pt100(double t);

}  // namespace cruscotto::sim
