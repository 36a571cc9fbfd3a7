#pragma once

#include <map>
#include <set>
#include <string>
#include <vector>

#include "core/base/result.h"
#include "devices/device_kind.h"
#include "devices/settings_reader.h"

namespace cruscotto {

/// Bytes to send, as a person writes them: text, with \n \r \t \\ \0 and \xHH for single bytes, and in braces where a
/// value goes: {value} (shortest decimals), {value:2} (so many decimals, 0 to 9), {u8}, {u16le}, {u16be}, {u32le},
/// {u32be}, {i16le}, {i16be} (rounded; what does not fit is clamped), {f32le}, {f32be} (IEEE 754). {{ and }} are
/// braces. Pure data: nothing in it can do anything but become bytes.
///
/// Refuses, with the place counted in characters from 1: an unknown escape or name, a brace that is not closed, more
/// than 256 characters.
Result<void> checkByteTemplate(const std::string& written);
/// The bytes for this value. Precondition: checkByteTemplate() was fine.
std::string bytesFor(const std::string& written, double value);

/// What a device's settings say of asking and of outputs: "ask", "ask-every-s" and "outputs" (templates by terminal).
void readTemplates(SettingsReader& settings, std::string& ask, double& askSeconds,
                   std::map<std::string, std::string>& outputs);
/// What is sent again and again so that the device knows that somebody watches over it: a byte template whose value
/// counts from 0 to 255 and begins again. Empty: nothing is.
struct Heartbeat {
    std::string bytes;
    double everySeconds = 0.5;
};
/// "heartbeat" and "heartbeat-every-s".
Heartbeat readHeartbeat(SettingsReader& settings);
/// Those settings, for a kind's editor.
std::vector<SettingInfo> templateSettingInfos();
/// The setting "silence-is-fault": of a board that speaks by itself, that it should never be silent.
SettingInfo silenceSettingInfo();
/// The names of such outputs.
std::set<std::string> namesOf(const std::map<std::string, std::string>& outputs);
/// What is sent to put these outputs to these values, a message for each that is there, each with `end` behind it.
std::vector<std::string> messagesFor(const std::map<std::string, std::string>& outputs,
                                     const std::map<std::string, double>& values, const std::string& end = {});

}  // namespace cruscotto
