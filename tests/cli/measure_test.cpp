// What a stretch comes to, from the command line.
#include <nlohmann/json.hpp>

#include <cmath>
#include <functional>
#include <numbers>
#include <random>

#include "cli/commands.h"
#include "core/analysis/measures.h"
#include "core/chain/common_stages.h"
#include "core/run/run_writer.h"
#include "program.h"

namespace cruscotto {
namespace {

using nlohmann::json;
using test::TempFolder;

TEST(Measure, TheSieveIsHeldAgainstItsExciter) {
    TempFolder folder;
    const auto run = [&](std::vector<std::string> arguments) { return test::run(folder, std::move(arguments)); };
    const std::string path = folder.file("a.run");
    ASSERT_EQ(
        run({"record", test::example("seed-sorter"), "--for", "12s", "--as-fast-as-possible", "--out", path}).code, 0);
    const test::Output out =
        run({"measure", path, "--signal", "sieve", "--against", "exciter", "--from", "10s", "--to", "10.4s", "--json"});
    ASSERT_EQ(out.code, 0) << out.out;
    const json j = json::parse(out.out);
    EXPECT_EQ(j["signal"], "sieve");
    EXPECT_EQ(j["against"], "exciter");
    EXPECT_EQ(j["from-s"], 10);
    const json& m = j["measures"];
    for (const MeasureKind& kind : measureKinds())
        EXPECT_EQ(m.contains(kind.name), measureFits(kind, false)) << kind.name;
    EXPECT_TRUE(m["gain"].contains("note")) << "it is clipped";
    EXPECT_NEAR(m["delay"]["value"].get<double>(), 1.5e-3, 1e-4);
    EXPECT_LT(m["gain"]["value"].get<double>(), -5) << "it inverts";
    EXPECT_GT(m["clipped-share"]["value"].get<double>(), 0.1) << "at its highest gain it stands at its rail";
    EXPECT_NEAR(m["maximum"]["value"].get<double>(), 3.4, 0.02);
    EXPECT_EQ(m["frequency"]["unit"], "Hz");
    EXPECT_GT(m["frequency"]["u"].get<double>(), 0);
    const json few =
        json::parse(run({"measure", path, "--signal", "drum", "--measures", "mean,frequency", "--json"}).out);
    EXPECT_EQ(few["measures"].size(), 2U);
    EXPECT_TRUE(few["measures"]["frequency"]["value"].is_null());
    EXPECT_FALSE(few["measures"]["frequency"]["why-not"].get<std::string>().empty());
    EXPECT_EQ(run({"measure", path, "--signal", "nobody"}).code, cli::wrongUsage);
    EXPECT_EQ(run({"measure", path, "--signal", "drum", "--measures", "gain"}).code, cli::wrongUsage);
    EXPECT_EQ(run({"measure", path, "--signal", "drum", "--measures", "beauty"}).code, cli::wrongUsage);
    EXPECT_EQ(run({"measure", path, "--signal", "drum", "--from", "9s", "--to", "8s"}).code, cli::wrongUsage);
    EXPECT_EQ(run({"measure", folder.file("none.run"), "--signal", "drum"}).code, cli::badFile);
    const test::Output live =
        run({"measure", test::example("pump-bench"), "--signal", "N1", "--to", "1s", "--measures", "count"});
    EXPECT_EQ(live.code, 0) << live.out;
    EXPECT_NE(live.out.find("count"), std::string::npos);
}

/// Shapes of which it is known what they come to, recorded as a converter of 16 bits over 10 V has them.
class MeasuredShapes : public testing::Test {
protected:
    static constexpr double rate = 5000, lasts = 20, lsb = 10.0 / 65536;
    static constexpr double period = 0.02, jitter = 0.0004, width = 0.006;

    /// A step of the second order, its damping 0.5: it goes 16.3 % too far.
    static double edge(double since) {
        const double z = 0.5, w = 600, wd = w * std::sqrt(1 - z * z);
        return 1 - std::exp(-z * w * since) * (std::cos(wd * since) + z * w / wd * std::sin(wd * since));
    }

    MeasuredShapes() {
        std::normal_distribution<double> normal;
        // pulses whose beginnings wander about their beat
        std::vector<double> begins;
        for (int i = 0; i * period < lasts; ++i) begins.push_back(i * period + 0.004 + jitter * normal(random_));
        std::size_t pulse = 0;
        const std::vector<std::pair<std::string, std::function<double(double)>>> shapes{
            {"sine", [](double t) { return 0.4 + 2.5 * std::cos(2 * std::numbers::pi * 37 * t + 0.7); }},
            {"late", [](double t) { return -0.5 * std::cos(2 * std::numbers::pi * 37 * (t - 0.002) + 0.7); }},
            {"square",
             [](double t) {
                 const double in = std::fmod(t, 0.5);
                 return in < 0.2 ? -1 + 3 * edge(in) : 2 - 3 * edge(in - 0.2);
             }},
            {"pulses",
             [&](double t) {
                 while (pulse + 1 < begins.size() && begins[pulse + 1] <= t) ++pulse;
                 return t >= begins[pulse] && t < begins[pulse] + width ? 3.0 : 0.0;
             }},
            {"ramp", [](double t) { return -2 + 0.25 * t; }},
            {"noise", [&](double) { return 0.3 + 0.1 * normal(random_); }}};
        Bench bench = withDevice({}, {"device", "Device", "sim-io-box", "", ""});
        auto group = std::make_shared<ScanGroup>(*test::oneChannelGroup(rate, SampleType::int16));
        group->channels.clear();
        auto block = std::make_shared<Block>();
        std::vector<RecordedColumn> columns;
        for (const auto& [name, shape] : shapes) {
            SignalSpec s;
            s.id = s.name = s.tag = name;
            s.device = "device";
            s.terminal = name;
            s.chain = {slopeOffset(lsb, 0, "V")};
            bench = withSignal(bench, s);
            group->channels.push_back({name, SampleType::int16, ChannelKind::analogInput});
            std::vector<std::int16_t> counts;
            for (int i = 0; i < rate * lasts; ++i)
                counts.push_back(static_cast<std::int16_t>(std::lround(shape(i / rate) / lsb)));
            columns.push_back({block->columns.size(), name});
            block->columns.push_back(std::move(counts));
        }
        block->group = group;
        block->dtNs = 1e9 / rate;
        auto writer = RunWriter::create(path_, bench, {});
        if (!writer) throw std::runtime_error(writer.error().english());
        writer.value()->add(block, columns);
        EXPECT_TRUE(writer.value()->close());
    }

    json of(const std::string& signal, std::vector<std::string> more = {}) {
        std::vector<std::string> arguments{"measure", path_, "--signal", signal, "--json"};
        arguments.insert(arguments.end(), more.begin(), more.end());
        const test::Output out = test::run(folder_, arguments);
        EXPECT_EQ(out.code, 0) << out.err;
        return json::parse(out.out)["measures"];
    }
    /// It has no value, and says why not.
    static void expectNone(const json& m, std::initializer_list<const char*> names) {
        for (const char* name : names) {
            EXPECT_TRUE(m[name]["value"].is_null()) << name << ": " << m[name].dump();
            EXPECT_TRUE(m[name].contains("why-not")) << name;
        }
    }

private:
    TempFolder folder_;
    const std::string path_ = folder_.file("shapes.run");
    std::mt19937 random_{5};
};

/// The value, within so much of what it has to be.
void expectNear(const json& m, const char* name, double wanted, double within) {
    ASSERT_TRUE(m[name]["value"].is_number()) << name << ": " << m[name].dump();
    EXPECT_NEAR(m[name]["value"].get<double>(), wanted, within) << name;
}

TEST_F(MeasuredShapes, OfASineAndOfOneAgainstAnother) {
    const json m = of("sine");
    expectNear(m, "count", rate * lasts, 0);
    expectNear(m, "sine-amplitude", 2.5, 1e-5);
    expectNear(m, "sine-frequency", 37, 1e-6);
    expectNear(m, "sine-phase", 0.7 * 180 / std::numbers::pi, 1e-3);
    expectNear(m, "sine-offset", 0.4, 1e-5);
    expectNear(m, "residual-rms", lsb / std::sqrt(12), lsb / 50);
    expectNear(m, "ac-rms", 2.5 / std::numbers::sqrt2, 1e-5);
    expectNear(m, "rms", std::sqrt(0.16 + 3.125), 1e-5);
    expectNear(m, "mean", 0.4, 1e-5);
    expectNear(m, "frequency", 37, 1e-3);
    expectNear(m, "peak-to-peak", 5, 0.01);
    expectNear(m, "clipped-share", 0, 0);
    const json two = of("late", {"--against", "sine"});
    expectNear(two, "gain", -0.2, 1e-5);
    expectNear(two, "gain-db", 20 * std::log10(0.2), 1e-3);
    expectNear(two, "delay", 0.002, 1e-7);
    EXPECT_LT(two["correlation"]["value"].get<double>(), 0);
}

TEST_F(MeasuredShapes, OfASquareThatOvershoots) {
    const json m = of("square");
    expectNear(m, "frequency", 2, 1e-3);
    expectNear(m, "high-level", 2, 0.01);
    expectNear(m, "low-level", -1, 0.01);
    expectNear(m, "amplitude", 3, 0.02);
    expectNear(m, "overshoot", 100 * std::exp(-0.5 * std::numbers::pi / std::sqrt(0.75)), 0.5);
    expectNear(m, "duty", 0.4, 1e-3);
    double ten = 0, ninety = 0;
    for (double t = 0; ninety == 0; t += 1e-6) {
        if (ten == 0 && edge(t) >= 0.1) ten = t;
        if (edge(t) >= 0.9) ninety = t;
    }
    expectNear(m, "rise-time", ninety - ten, 0.05 * (ninety - ten));
    expectNear(m, "fall-time", ninety - ten, 0.05 * (ninety - ten));
    // its first harmonic, by its Fourier series
    expectNear(m, "sine-amplitude", 2 * 3 / std::numbers::pi * std::sin(0.4 * std::numbers::pi), 0.01);
}

TEST_F(MeasuredShapes, OfPulsesThatWander) {
    const json m = of("pulses");
    expectNear(m, "frequency", 1 / period, 0.01);
    expectNear(m, "period", period, 1e-5);
    // the differences of neighbours that wander independently
    expectNear(m, "period-jitter", jitter * std::numbers::sqrt2, 0.1 * jitter);
    expectNear(m, "high-width", width, 5e-5);
    expectNear(m, "duty", width / period, 0.005);
    expectNear(m, "high-level", 3, 1e-3);
    expectNear(m, "low-level", 0, 1e-3);
    expectNone(m, {"rise-time", "fall-time"});
}

TEST_F(MeasuredShapes, OfWhatDoesNotRepeat) {
    const json ramp = of("ramp");
    expectNear(ramp, "slope", 0.25, 1e-6);
    expectNear(ramp, "mean", 0.5, 1e-4);
    expectNear(ramp, "median", 0.5, 1e-3);
    expectNear(ramp, "area", 10, 0.01);
    expectNone(ramp, {"frequency", "period", "duty", "high-level", "overshoot", "sine-amplitude"});
    const json noise = of("noise");
    expectNear(noise, "mean", 0.3, 3 * 0.1 / std::sqrt(rate * lasts));
    expectNear(noise, "standard-deviation", 0.1, 0.001);
    expectNear(noise, "percentile-95", 0.3 + 0.1645, 0.003);
    expectNone(noise, {"frequency", "period", "duty", "high-level", "rise-time", "sine-amplitude"});
}

}  // namespace
}  // namespace cruscotto
