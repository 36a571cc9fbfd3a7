// A device that an edit makes anew: what was measured before stays, and nothing joins it with what comes.
#include <cmath>

#include "core/run/run_reader.h"
#include "core/run/run_replay.h"
#include "scripted_device.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using test::eventually;
using test::ScriptedDevice;
using test::TempFolder;
using test::waitForStop;

/// Samples of AI0 and AI1, 100 a second, in a group of that name, with the columns in that order.
std::shared_ptr<ScanGroup> groupOf(const std::string& name, const std::vector<std::string>& terminals) {
    auto group = std::make_shared<ScanGroup>();
    group->device = "box";
    group->name = name;
    group->rateHz = 100;
    for (const std::string& t : terminals)
        group->channels.push_back({t, SampleType::float64, ChannelKind::analogInput});
    return group;
}

Bench benchWith(const JsonText& settings) {
    Bench b;
    b.name = "Test";
    b = withDevice(b, {"box", "Box", "scripted", settings, ""});
    for (const char* terminal : {"AI0", "AI1"}) {
        SignalSpec s;
        s.id = s.name = terminal;
        s.device = "box";
        s.terminal = terminal;
        s.chain = {movingMean(4)};
        b = withSignal(b, s);
    }
    return b;
}

/// The n-th device that is made delivers ten samples of n and 10 n in such a group, once.
EngineOptions makes(ScriptedDevice::Log& log, std::vector<std::shared_ptr<ScanGroup>> groups, std::atomic<int>& made) {
    EngineOptions options;
    options.kinds = test::kindsThatAre([&log, groups, &made](const auto&, const auto&) {
        const int n = made++;
        return std::make_unique<ScriptedDevice>(
            log,
            [n, group = groups.at(static_cast<std::size_t>(n))](DeviceSink& sink, const std::stop_token& stop) {
                auto block = std::make_shared<Block>();
                block->group = group;
                block->t0 = sink.now();
                block->dtNs = 1e7;
                for (const Channel& c : group->channels)
                    block->columns.emplace_back(std::vector<double>(10, c.terminal == "AI0" ? n + 1 : 10 * (n + 1)));
                sink.deliver(block);
                waitForStop(stop);
            },
            false);
    });
    return options;
}

TEST(MadeAnew, SignalsKeepTheirPastAndBeginAfreshBehindAGap) {
    const std::vector<std::string> both{"AI0", "AI1"}, turned{"AI1", "AI0"};
    // The same group, its columns turned, and a group of another name.
    for (const auto& second : {groupOf("g", both), groupOf("g", turned), groupOf("other", both)}) {
        TempFolder folder;
        ScriptedDevice::Log log;
        std::atomic<int> made{0};
        auto started = Engine::startRecorded(benchWith(R"({"a": 1})"), folder.file("a.run"),
                                             makes(log, {groupOf("g", both), second}, made));
        ASSERT_TRUE(started.ok());
        Engine& engine = *started.value();
        const auto value = [&](const char* s, Instant t) { return engine.source().at(s, t).value; };
        ASSERT_TRUE(eventually([&] { return value("AI0", engine.now()) == 1 && value("AI1", engine.now()) == 10; }));
        const Instant before = engine.now() + seconds(0.1);
        ASSERT_TRUE(eventually([&] { return engine.now() > before; }));
        engine.apply(benchWith(R"({"a": 2})"));
        ASSERT_TRUE(eventually([&] { return value("AI0", engine.now()) == 2 && value("AI1", engine.now()) == 20; }))
            << "the mean of four begins anew: no value between 1 and 2 is left in it";
        EXPECT_EQ(value("AI0", before), 1) << "what was before stays";
        EXPECT_EQ(value("AI1", before), 10);
        std::vector<Column> columns;
        engine.source().columns("AI0", {Instant{}, milliseconds(1), 20'000}, columns);
        int sampled = 0, gaps = 0;
        for (const Column& c : columns) {
            sampled += c.sampled;
            gaps += c.gapBefore;
            if (c.summary.count) EXPECT_EQ(c.summary.min, c.summary.max) << "nothing of one is mixed with the other";
        }
        EXPECT_EQ(sampled, 20);
        EXPECT_EQ(gaps, 1);
        engine.stop();
        auto reader = RunReader::open(folder.file("a.run"));
        ASSERT_TRUE(reader.ok());
        std::size_t samples = 0;
        for (const RunGroup& g : reader.value()->info().groups) {
            RunReplay replay(*reader.value(), g.id);
            for (RunReplay::Step step; replay.next(step);)
                for (const Readings& r : step.readings)
                    for (const double v : r.values) {
                        ++samples;
                        EXPECT_TRUE(v == 1 || v == 2 || v == 10 || v == 20) << v;
                    }
        }
        EXPECT_EQ(samples, 40U);
    }
}

}  // namespace
}  // namespace cruscotto
