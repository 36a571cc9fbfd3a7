#include "devices/computer/sensor_tree.h"
#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <filesystem>
#include <map>
#include <sstream>

#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/common_stages.h"
#include "devices/kernel_file.h"

namespace cruscotto {

namespace fs = std::filesystem;

namespace {

constexpr std::size_t mostSensors = 1000, mostScales = 64;

std::optional<double> number(const std::string& text) {
    double v = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), v);
    if (error != std::errc{} || !std::isfinite(v)) return {};
    return v;
}

struct Suffix {
    const char* begins;
    double factor;
    const char* unit;
};
constexpr std::array<Suffix, 7> hwmonKinds{{{"temp", 1e-3, "Cel"},
                                            {"fan", 1, "{rpm}"},
                                            {"in", 1e-3, "V"},
                                            {"curr", 1e-3, "A"},
                                            {"power", 1e-6, "W"},
                                            {"energy", 1e-6, "J"},
                                            {"humidity", 1e-3, "%"}}};
// IIO gives milli-units where hwmon's heirs do, and others as they are.
constexpr std::array<Suffix, 13> iioKinds{{{"voltage", 1e-3, "V"},
                                           {"temp", 1e-3, "Cel"},
                                           {"current", 1e-3, "A"},
                                           {"power", 1e-3, "W"},
                                           {"humidityrelative", 1e-3, "%"},
                                           {"pressure", 1, "kPa"},
                                           {"accel", 1, "m/s2"},
                                           {"anglvel", 1, "rad/s"},
                                           {"magn", 1, "G"},
                                           {"illuminance", 1, "lx"},
                                           {"distance", 1, "m"},
                                           {"resistance", 1, "Ohm"},
                                           {"proximity", 1, "1"}}};

template <std::size_t n>
const Suffix* kindOf(const std::array<Suffix, n>& kinds, const std::string& channel) {
    const Suffix* best = nullptr;
    for (const Suffix& k : kinds)
        if (channel.starts_with(k.begins) &&
            (!best || std::string_view(k.begins).size() > std::string_view(best->begins).size()))
            best = &k;
    return best;
}

class Finder {
public:
    explicit Finder(const std::string& root) : root_(root) {}
    std::vector<KernelSensor> find() {
        for (const fs::path& device : entriesOf(root_ / "sys/class/hwmon")) hwmon(device);
        for (const fs::path& device : entriesOf(root_ / "sys/bus/iio/devices")) iio(device);
        for (const fs::path& device : entriesOf(root_ / "sys/bus/counter/devices")) counter(device);
        std::ranges::sort(found_, {}, [](const KernelSensor& s) { return s.info.terminal; });
        return std::move(found_);
    }

private:
    /// What the device calls itself, made unique.
    std::string nameOf(const fs::path& device) {
        std::string name = kernelLine(device / "name");
        if (name.empty()) name = device.filename().string();
        const int n = ++names_[name];
        return n == 1 ? name : name + "#" + std::to_string(n);
    }

    /// False once there are as many as are taken.
    bool add(std::string terminal, const fs::path& path, ChainSpec chain, std::string title,
             ChannelKind kind = ChannelKind::analogInput, SampleType type = SampleType::float64) {
        if (found_.size() >= mostSensors) return false;
        KernelSensor s;
        s.info.terminal = std::move(terminal);
        s.info.kind = kind;
        s.info.type = type;
        s.info.title = title;
        s.info.name = std::move(title);
        s.info.chain = std::move(chain);
        s.path = path.string();
        found_.push_back(std::move(s));
        return true;
    }

    void hwmon(const fs::path& device) {
        const std::string name = nameOf(device);
        for (const fs::path& file : entriesOf(device)) {
            const std::string leaf = file.filename().string();
            if (!leaf.ends_with("_input")) continue;
            const std::string channel = leaf.substr(0, leaf.size() - 6);
            const Suffix* kind = kindOf(hwmonKinds, channel);
            if (!kind) continue;
            add(name + "." + channel, file, {slopeOffset(kind->factor, 0, kind->unit)},
                kernelLine(device / (channel + "_label")));
        }
    }

    void iio(const fs::path& device) {
        if (!device.filename().string().starts_with("iio:device")) return;  // triggers are there too
        const std::string name = nameOf(device);
        for (const fs::path& file : entriesOf(device)) {
            const std::string leaf = file.filename().string();
            const bool raw = leaf.ends_with("_raw");
            if (!leaf.starts_with("in_") || (!raw && !leaf.ends_with("_input"))) continue;
            const std::string channel = leaf.substr(3, leaf.size() - 3 - (raw ? 4 : 6));
            const Suffix* kind = kindOf(iioKinds, channel);
            if (!kind) continue;
            // A channel's own factor, or that of all channels of its kind.
            const auto attribute = [&](const char* what) -> std::optional<double> {
                for (const std::string& of : {channel, std::string(kind->begins)})
                    if (const auto v = number(kernelLine(device / ("in_" + of + "_" + what)))) return v;
                return {};
            };
            const double scale = raw ? attribute("scale").value_or(1) : 1,
                         offset = raw ? attribute("offset").value_or(0) : 0;
            if (!add(name + "." + channel, file,
                     {slopeOffset(scale * kind->factor, offset * (scale * kind->factor), kind->unit)},
                     kernelLine(device / ("in_" + channel + "_label"))))
                return;
            if (!raw) continue;
            for (const std::string& of : {channel, std::string(kind->begins)}) {
                const fs::path own = device / ("in_" + of + "_scale");
                std::error_code ec;
                if (!fs::exists(own, ec)) continue;
                std::istringstream offered(kernelLine(device / ("in_" + of + "_scale_available")));
                KernelSensor& s = found_.back();
                for (std::string word; s.scales.size() < mostScales && offered >> word;)
                    if (number(word)) s.scales.push_back(word);
                if (!s.scales.empty()) s.scalePath = own.string();
                s.scaleNow = scale;
                s.offset = offset;
                s.factor = kind->factor;
                break;
            }
        }
    }

    void counter(const fs::path& device) {
        if (!device.filename().string().starts_with("counter")) return;
        const std::string name = nameOf(device);
        for (const fs::path& count : entriesOf(device)) {
            const std::string leaf = count.filename().string();
            std::error_code ec;
            if (!leaf.starts_with("count") || !fs::exists(count / "count", ec)) continue;
            add(name + "." + leaf, count / "count", {pulseCounter()}, kernelLine(count / "name"),
                ChannelKind::counterInput, SampleType::uint32);
        }
    }

    const fs::path root_;
    std::map<std::string, int> names_;
    std::vector<KernelSensor> found_;
};

}  // namespace

std::vector<KernelSensor> findKernelSensors(const std::string& root) {
    return Finder(root).find();
}

std::vector<TerminalSetting> sensorSettings(const KernelSensor& sensor) {
    if (sensor.scales.empty()) return {};
    TerminalSetting out;
    out.key = "scale";
    out.label = CRUSCOTTO_TEXT("A count is");
    out.choices.push_back({"", CRUSCOTTO_TEXT("as it is")});
    for (const std::string& s : sensor.scales) {
        const ChainSpec chain = sensorChain(sensor, {{out.key, s}});
        const Stage& line = chain.front();
        out.choices.push_back({s, shortNumber(line.number("slope")) + " " + unitText(line.text("unit"))});
    }
    return {out};
}

ChainSpec sensorChain(const KernelSensor& sensor, const TerminalSetup& setup) {
    const ChainSpec& out = sensor.info.chain;
    const auto asked = setup.find("scale");
    const auto* words = asked == setup.end() ? nullptr : std::get_if<std::string>(&asked->second);
    const auto scale = words ? number(*words) : std::nullopt;
    if (!scale || out.empty()) return out;
    const double slope = *scale * sensor.factor;
    return {slopeOffset(slope, sensor.offset * slope, out.front().text("unit"))};
}

std::optional<double> readKernelNumber(const std::string& path) {
    return number(kernelLine(path));
}

}  // namespace cruscotto
