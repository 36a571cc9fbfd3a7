#pragma once

#include <atomic>
#include <cstdint>
#include <memory>
#include <string>

#include "core/base/result.h"
#include "standins/fault.h"

namespace cruscotto {

/// The beehive board: a small board under a hive that prints weight, brood temperature, humidity and how many bees
/// went in, twice a second or so, as such boards do. It speaks on a pty that it opens itself.
struct BeehiveOptions {
    enum class Format {
        delimited,  ///< "31.42 34.8 61 1207"
        labelled,   ///< "weight 31.42 T=34.8 rh=61 bees 1207"
        hex  ///< "H0C4615C3D04B7": header, weight in 10 g, brood in 0.1 degC (signed), humidity, bees; 4 4 2 4 digits
    };
    Format format = Format::delimited;
    double linesPerSecond = 5;
    std::uint64_t seed = 1;
    std::string link;    ///< a symbolic link to make to the pty; none where empty
    bool asked = false;  ///< sends a line only for each "?" that it gets
    double heater = 0;   ///< percent; "H40\n" sets it to 40, and each percent warms the brood by 0.02 degC
    unsigned baud = 0;   ///< a listener at another speed hears nonsense; 0: it is heard at any speed
};

/// What can be made to go wrong while it runs. Any thread.
struct BeehiveFaults {
    std::atomic<bool> silent{false};   ///< nothing is sent
    std::atomic<bool> garbage{false};  ///< what is sent is no line
    std::atomic<bool> endless{false};  ///< lines have no end
    /// Its cable is pulled, and plugged in again under the same link by run(). Of use with a link only: the pty then
    /// has another name.
    std::atomic<bool> unplugged{false};
    /// All but the last.
    std::vector<Fault> named();
};

/// An open pty with the board behind it. Lines are sent only while somebody has the pty open, as a real line would lose
/// them otherwise.
class Beehive {
public:
    static Result<std::unique_ptr<Beehive>> open(const BeehiveOptions& options);
    ~Beehive();
    Beehive(const Beehive&) = delete;
    Beehive& operator=(const Beehive&) = delete;

    [[nodiscard]] const std::string& path() const { return path_; }
    /// Sends lines at their rate until stop becomes true. One thread.
    void run(const std::atomic<bool>& stop);
    /// Sends the next line at once. False if nobody listens.
    bool sendLine();
    /// Sends bytes as they are. False if nobody listens.
    bool send(const std::string& bytes);
    /// Takes what has been sent to the board since the last time, does what it says, and returns it.
    std::string hear();
    [[nodiscard]] double heater() const { return heater_; }
    /// The next line without its line end: pure, for tests.
    static std::string line(const BeehiveOptions& options, std::uint64_t number);
    BeehiveFaults faults;

private:
    Beehive() = default;
    Result<void> plug();
    void unplug();
    BeehiveOptions options_;
    std::string path_;
    int master_ = -1;
    std::uint64_t number_ = 0;
    std::string command_;  // so far
    std::atomic<double> heater_{0};
};

}  // namespace cruscotto
