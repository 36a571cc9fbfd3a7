#include "devices/discovery/kernel_inputs.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "devices/computer/sensor_tree.h"
#include "devices/discovery/discovery.h"
#include "devices/kernel_file.h"

namespace cruscotto {

namespace fs = std::filesystem;

namespace {

using Json = nlohmann::ordered_json;
constexpr std::size_t mostOfEach = 64;

/// What is called so in a folder, in order.
std::vector<std::string> called(const fs::path& folder, const std::string& begins) {
    std::vector<std::string> out;
    std::error_code ec;
    for (fs::directory_iterator it(folder, ec), end; !ec && it != end && out.size() < mostOfEach; it.increment(ec))
        if (std::string name = it->path().filename().string(); name.starts_with(begins)) out.push_back(std::move(name));
    std::ranges::sort(out, [](const std::string& a, const std::string& b) {
        return a.size() != b.size() ? a.size() < b.size() : a < b;  // 2 before 10
    });
    return out;
}

}  // namespace

std::vector<FoundInput> findKernelInputs(const std::string& root) {
    const fs::path base(root);
    std::vector<FoundInput> out;
    for (const std::string& bus : findCanInterfaces(root))
        out.push_back({"can", bus, CRUSCOTTO_TEXT("CAN interface of this computer"), jsonText(Json{{"address", bus}}),
                       "address", bus});
    if (const std::size_t sensors = findKernelSensors(root).size(); sensors > 0)
        out.push_back({"computer", "", text(CRUSCOTTO_TEXT("Sensors that the kernel offers: {0}"), sensors),
                       root == "/" ? JsonText("{}") : jsonText(Json{{"root", root}}), "root", root});
    const fs::path iio = base / "sys/bus/iio/devices";
    for (const std::string& device : called(iio, "iio:device")) {
        const auto channels = called(iio / device / "scan_elements", "in_");
        const auto count = std::ranges::count_if(
            channels, [](const std::string& c) { return c.ends_with("_type") && c != "in_timestamp_type"; });
        const std::string name = kernelLine(iio / device / "name");
        if (count == 0 || name.empty()) continue;
        Json settings{{"device", name}};
        // Of the triggers there are, one alone needs no choice.
        if (const auto triggers = called(iio, "trigger"); triggers.size() == 1)
            if (const std::string trigger = kernelLine(iio / triggers[0] / "name"); !trigger.empty())
                settings["trigger"] = trigger;
        if (root != "/") settings["root"] = root;
        out.push_back(
            {"iio-buffer", name,
             text(CRUSCOTTO_TEXT("Fast inputs of this computer; channels: {0}"), static_cast<std::size_t>(count)),
             jsonText(settings), "device", name});
    }
    for (const std::string& chip : called(base / "dev", "gpiochip")) {
        const std::string path = (base / "dev" / chip).string();
        out.push_back({"gpio-lines", chip, CRUSCOTTO_TEXT("Lines of this computer's board (GPIO)"),
                       jsonText(Json{{"chip", path}}), "chip", path});
    }
    for (const std::string& counter : called(base / "dev", "counter")) {
        const std::string path = (base / "dev" / counter).string();
        std::string name = kernelLine(base / "sys/bus/counter/devices" / counter / "name");
        if (name.empty()) name = counter;
        out.push_back({"counter-events", name, text(CRUSCOTTO_TEXT("Events of a counter of this computer, {0}"), path),
                       jsonText(Json{{"device", path}}), "device", path});
    }
    // "01-00: USB Audio : USB Audio : playback 1 : capture 1"
    std::ifstream pcm(base / "proc/asound/pcm");
    for (std::string line; std::getline(pcm, line) && out.size() < 4 * mostOfEach;) {
        unsigned card = 0, device = 0;
        if (line.find(": capture") == std::string::npos || std::sscanf(line.c_str(), "%u-%u:", &card, &device) != 2)
            continue;
        const std::size_t from = line.find(": ") + 2;
        const std::string hardware = fmt::format("plughw:{},{}", card, device);
        out.push_back({"sound-input", line.substr(from, line.find(" : ", from) - from),
                       text(CRUSCOTTO_TEXT("Microphone or line input, {0}"), hardware),
                       jsonText(Json{{"input", hardware}}), "input", hardware});
    }
    return out;
}

}  // namespace cruscotto
