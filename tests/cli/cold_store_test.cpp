// The cold store's thermostat at work: its rack answers, and its contact follows or does not.
#include "core/bench/control_file.h"
#include "engine/engine.h"
#include "standins/rack/cold_store_rack.h"
#include "standins/stand_in_host.h"
#include "support.h"

namespace cruscotto {
namespace {

using test::eventually;

TEST(ColdStore, AContactThatDoesNotFollowTheThermostatIsAnAlarmAndStopsTheCompressor) {
    ColdStoreRack rack;
    const auto host = std::move(StandInHost::onLoopback(rack.onTcp()).value());
    Bench bench = test::exampleBench("cold-store");
    DeviceSpec unit = *bench.devices.front();
    const std::string shipped = "127.0.0.1:15020";
    ASSERT_NE(unit.settings.find(shipped), std::string::npos);
    unit.settings.replace(unit.settings.find(shipped), shipped.size(), host->address());
    bench = withDevice(bench, unit);
    ControlSpec thermostat = *bench.control("thermostat");
    ASSERT_EQ(thermostat.readBack, "contact-1");
    thermostat.setpoint = -60;  // colder than it ever gets: it cools all the time
    bench = withControl(bench, thermostat);
    const std::unique_ptr<Engine> engine = Engine::start(bench, {});
    const auto compressor = [&] { return engine->outputState("compressor-1")->value; };
    const auto contact = [&] { return engine->source().at("contact-1", engine->now()).value; };
    ASSERT_TRUE(eventually([&] { return compressor() == 1 && contact() == 1; })) << "it cools, and the contact follows";
    EXPECT_TRUE(engine->alarms().empty());

    rack.faults.openContact = true;
    const auto stands = [&] {
        const auto alarms = engine->alarms();
        return std::ranges::any_of(alarms, [](const Alarm& a) { return a.rule == "thermostat"; });
    };
    ASSERT_TRUE(eventually(stands));
    ASSERT_TRUE(eventually([&] { return compressor() == bench.signal("compressor-1")->output->safe; }));
    EXPECT_EQ(engine->outputState("compressor-1")->holder, OutputHolder::interlock);
    EXPECT_TRUE(eventually([&] { return !rack.relay(0); })) << "at the rack too";

    rack.faults.openContact = false;
    EXPECT_TRUE(engine->resetRule("thermostat"));
    EXPECT_TRUE(eventually([&] { return compressor() == 1 && contact() == 1; })) << "behind a reset it goes on";
}

}  // namespace
}  // namespace cruscotto
