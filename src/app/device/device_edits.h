#pragma once

#include <QString>
#include <map>
#include <optional>
#include <string>

#include "devices/device_kind.h"

namespace cruscotto {

/// What people do to devices, as benches: pure, on ids, for one undo step each. An id that is not there any more
/// changes nothing.

/// The bench with one more device of a kind, with settings as they are when nothing is said.
Bench withNewDevice(const Bench& bench, const DeviceKind& kind, std::string* id);

/// A setting as a field of an editor shows it.
std::string settingText(const DeviceSpec& device, const SettingInfo& info);
/// The bench with a setting as it was typed; empty, and `wrong` in words, where the kind refuses it.
std::optional<Bench> withSetting(const Bench& bench, const std::string& device, const SettingInfo& info,
                                 const std::string& typed, QString* wrong);
/// Names and texts put into a setting of pairs, beside those that are there.
Bench withPairs(const Bench& bench, const std::string& device, const std::string& key,
                const std::map<std::string, std::string>& pairs);

/// The bench with a signal for a terminal, read as the terminal's description proposes.
Bench withSignalFor(const Bench& bench, const std::string& device, const TerminalInfo& terminal, std::string* id);

}  // namespace cruscotto
