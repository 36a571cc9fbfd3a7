#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "core/bench/bench.h"
#include "devices/device.h"

/// What a kind of device is to those who choose, edit and make devices; what a device does is in device.h.
namespace cruscotto {

/// One value of a kind's settings, from which editors are built.
struct SettingInfo {
    enum class Type {
        text,
        number,
        choice,
        flag,
        pairs  ///< an object of names and texts, edited one a line: name = text
    };
    std::string key;
    Text label;
    Type type = Type::text;
    std::vector<std::string> choices;  ///< suggestions for a text, all there is for a choice
    std::string otherwise;             ///< the value when the key is missing
    Text help;
    /// Where it names files: what their names end in, as in ".dbc". Pairs have one each as their text.
    std::string files{};
};

/// What a person who selects bytes of a frame may mean by them.
struct FieldProposal {
    std::size_t start = 0, length = 0;
    std::string words;         ///< as the kind's setting of fields has it
    double value = 0;          ///< in the newest frame
    double low = 0, high = 0;  ///< over all of them
};

struct DeviceKind {
    std::string key;
    Text title;
    Text name;  ///< short: what one is called until a person names it
    /// It makes its own time, and can be run as fast as possible.
    bool simulated = false;
    /// Its driver tells what passes on its link.
    bool hasWire = false;
    /// An output can be used as an analog or as a digital one.
    bool looseOutputs = false;
    /// A pin can be but one of the terminals that are offered for it.
    bool choices = false;
    /// What is set up at a terminal is written into the device, and stays there.
    bool writesSetup = false;
    std::vector<SettingInfo> settings;
    /// The setting that says how often its terminals are read; empty: there is none.
    std::string rateKey{};
    /// Terminals that are known before the device runs, with these settings.
    std::vector<TerminalInfo> (*terminals)(const JsonText& settings) = nullptr;
    Result<void> (*check)(const JsonText& settings) = nullptr;
    /// What can be set at a terminal, as long as the bench asks for these; null: nothing.
    std::vector<TerminalSetting> (*setup)(const JsonText& settings, const std::string& terminal,
                                          const std::vector<TerminalRequest>& all) = nullptr;
    /// The ranges that it has then, in volts, smallest first; null: those that `terminals` tells.
    std::vector<Scale> (*ranges)(const std::string& terminal, const std::vector<TerminalRequest>& all) = nullptr;
    /// One plain sentence: what the terminal is set to. Null: there is none.
    Text (*setupSentence)(const JsonText& settings, const std::string& terminal,
                          const std::vector<TerminalRequest>& all) = nullptr;
    /// The chain that a new signal of the terminal begins with, set up so; null: that which comes with the terminal,
    /// however it is set up.
    ChainSpec (*chain)(const JsonText& settings, const TerminalRequest& request) = nullptr;
    /// Signals of the bench whose newest readings the device wants, and the terminal that each is set at; null: none.
    std::map<std::string, std::string> (*publishes)(const JsonText& settings) = nullptr;
    /// What the settings say is sent at the beginning may do more than reading needs; null: nothing is.
    bool (*commands)(const JsonText& settings) = nullptr;
    /// The setting, of the type pairs, that says which bytes of a frame are which value; empty: there is none.
    std::string fieldsKey{};
    /// What these bytes of such frames (newest last) may be, likeliest first; with a length of 0: what values the
    /// frames seem to be made of. Null where there is no setting of fields.
    std::vector<FieldProposal> (*proposals)(const JsonText& settings, const std::vector<std::string>& frames,
                                            std::size_t start, std::size_t length) = nullptr;
    /// Precondition: check() was fine.
    std::function<std::unique_ptr<Device>(const DeviceContext&, const JsonText& settings,
                                          const std::vector<TerminalRequest>&)>
        make{};
};

/// The check of a kind whose settings the function `read` reads.
template <auto read>
Result<void> checkedBy(const JsonText& json) {
    const auto settings = read(json);
    if (!settings) return settings.error();
    return {};
}
/// The settings as `read` reads them; those of a new device where it no longer does: a file that they name may have
/// gone since the check.
template <auto read>
auto settingsBy(const JsonText& json) {
    auto settings = read(json);
    return settings ? std::move(settings.value()) : std::remove_cvref_t<decltype(settings.value())>{};
}

/// The ranges that the terminal has as the bench sets it up, in volts, smallest first.
std::vector<Scale> rangesOf(const DeviceKind& kind, const TerminalInfo& terminal,
                            const std::vector<TerminalRequest>& all);

/// The kinds that devices can be made of. Whoever makes devices is handed these; any thread.
class DeviceKinds {
public:
    explicit DeviceKinds(std::vector<DeviceKind> kinds) : kinds_(std::move(kinds)) {}
    [[nodiscard]] const std::vector<DeviceKind>& all() const { return kinds_; }
    /// Null if there is none of that key.
    [[nodiscard]] const DeviceKind* find(const std::string& key) const;

private:
    std::vector<DeviceKind> kinds_;
};

/// All kinds that this build knows, and one of them by its key; null if there is none.
const DeviceKinds& builtInKinds();
inline const std::vector<DeviceKind>& deviceKinds() {
    return builtInKinds().all();
}
inline const DeviceKind* deviceKind(const std::string& key) {
    return builtInKinds().find(key);
}
/// Some device of the bench that is not simulated is driven, or sent more than reading needs.
bool drivesOutside(const Bench& bench);
/// All devices of the bench make their own time.
bool allSimulated(const Bench& bench);
/// The bench fits the devices it names: kinds, settings, terminals. One sentence for each thing that does not.
std::vector<Problem> checkDevices(const Bench& bench);

}  // namespace cruscotto
