#pragma once

#include <limits>
#include <string>
#include <utility>
#include <vector>

namespace cruscotto {

enum class ControlKind {
    twoPoint,  ///< the output is on or off, by a signal's reading
    pid,       ///< proportional, integral and derivative
    follow,    ///< an input: scaled, inverted, delayed
    play,      ///< values over time
};
/// Frozen, in files: "two-point" ...
const char* controlName(ControlKind kind);

/// Values over time, from when it begins.
struct PlayedSpec {
    enum class Shape {
        steps,  ///< `points`, each until the next
        ramps,  ///< `points`, with straight lines between them
        sine,
        run,  ///< a stretch of a recorded signal
    };
    Shape shape = Shape::steps;
    std::vector<std::pair<double, double>> points = {};  ///< seconds from 0 on, ascending; and what then
    double lasts = 0;                                    ///< seconds; 0: until its last point, or its stretch's end
    double mean = 0, amplitude = 1, hertz = 1;           ///< of a sine
    std::string run = {}, signal = {};                   ///< a run's file, and the signal's id there
    double from = 0, to = 0;                             ///< seconds from the run's beginning
    double speed = 1;                                    ///< of a run: 2 is twice as fast
    int times = 1;                                       ///< how often; 0: again and again
    bool operator==(const PlayedSpec&) const = default;
};

/// What makes an output follow something. A person who sets the output takes over, until they let go of it.
struct ControlSpec {
    std::string id, name;
    bool enabled = true;
    std::string output;  ///< the id of its signal
    ControlKind kind = ControlKind::twoPoint;
    std::string signal = {};  ///< the id of what it looks at; not of what is played
    std::string unit = {};    ///< UCUM, of all that is said to be in the signal's unit; empty: that, whatever it is
    // what two-point and PID control bring the signal to
    double setpoint = 0;                                  ///< in the signal's unit
    std::string setpointFrom = {};                        ///< the id of a signal that says it instead; empty: none
    std::vector<std::pair<double, double>> profile = {};  ///< seconds since it began, and the setpoint then: in ramps
    bool reverse = false;  ///< more of the output brings the signal down: it cools, it opens a drain
    // two-point
    double hysteresis = 0;             ///< in the signal's unit, half of it on either side of the setpoint
    double leastOn = 0, leastOff = 0;  ///< seconds
    double onValue = 1, offValue = 0;  ///< of an analog output
    std::string readBack = {};         ///< a state that must follow the output; empty: none
    double readBackWithin = 1;         ///< seconds
    // PID, in the standard form: u = gain (e + 1/ti integral(e) + td de/dt)
    double gain = 1;                                        ///< of the output's unit per the signal's
    double integralSeconds = 0;                             ///< 0: none
    double derivativeSeconds = 0;                           ///< 0: none; of the reading, filtered by a tenth of it
    double low = -std::numeric_limits<double>::infinity();  ///< of the output, within its own limits
    double high = std::numeric_limits<double>::infinity();
    double slew = 0;             ///< the output's unit a second at most; 0: as fast as may be
    double everySeconds = 0.05;  ///< 0.001 to 60; of what is played too, where that changes all the time
    // follow
    double factor = 1, offset = 0, delaySeconds = 0;
    bool inverted = false;  ///< of a state
    PlayedSpec played = {};
    std::string extra = {};  ///< JSON: keys that this version does not know
    bool operator==(const ControlSpec&) const = default;
};

inline constexpr std::size_t mostControls = 200, mostPlayedPoints = 100'000;
inline constexpr double leastEvery = 0.001, mostEvery = 60, longestDelay = 60;

}  // namespace cruscotto
