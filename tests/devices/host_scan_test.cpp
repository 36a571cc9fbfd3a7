#include "devices/discovery/host_scan.h"

#include "standins/iolink/sensor_master.h"
#include "standins/meter/bench_meter.h"
#include "standins/rack/cold_store_rack.h"
#include "support.h"

namespace cruscotto::host_scan_test {
namespace {

TEST(HostRange, IsReadAsPeopleWriteIt) {
    EXPECT_EQ(hostRange("127.0.0.7").value().size(), 1U);
    const auto r = hostRange("127.0.0.1-20").value();
    EXPECT_EQ(addressText(r.first), "127.0.0.1");
    EXPECT_EQ(addressText(r.last), "127.0.0.20");
    EXPECT_EQ(hostRange("127.0.0.250-127.0.1.5").value().size(), 12U);
    const auto net = hostRange("127.0.0.9/28").value();
    EXPECT_EQ(addressText(net.first), "127.0.0.0");
    EXPECT_EQ(addressText(net.last), "127.0.0.15");
    for (const char* wrong :
         {"", "x", "127.0.0", "127.0.0.1-", "127.0.0.5-3", "127.0.0.1/0", "127.0.0.1/33", "::1", "127.0.0.1-300"})
        EXPECT_FALSE(hostRange(wrong).ok()) << wrong;
    EXPECT_FALSE(hostRange("127.0.0.0/8").ok()) << "more than are looked at in one go";
}

std::uint16_t portOf(const StandInHost& host) {
    return static_cast<std::uint16_t>(std::stoi(host.address().substr(host.address().find(':') + 1)));
}

TEST(HostScan, FindsWhoAnswersAndWhatItIs) {
    BenchMeter meter;
    ColdStoreRack rack;
    const auto a = std::move(StandInHost::onLoopback(meter.begin()).value());
    const auto b = std::move(StandInHost::onLoopback(rack.onTcp()).value());
    std::uint64_t last = 0;
    const auto progress = [&](std::uint64_t done) { last = done; };
    const HostRange range = hostRange("127.0.0.1-100").value();
    // The stand-ins listen on 127.0.0.1 alone; the others of the range refuse.
    HostScan scan = scanHosts(range, portOf(*a), HostQuestion::scpiIdentity, {}, progress);
    ASSERT_EQ(scan.found.size(), 1U);
    EXPECT_EQ(addressText(scan.found[0].address), "127.0.0.1");
    EXPECT_EQ(scan.found[0].identity, BenchMeter::identity);
    EXPECT_EQ(scan.refused, 99U);
    EXPECT_EQ(last, 100U);
    scan = scanHosts(range, portOf(*b), HostQuestion::modbusIdentity, {}, progress);
    ASSERT_EQ(scan.found.size(), 1U);
    EXPECT_EQ(scan.found[0].identity, "Modbus Cruscotto Cold store rack 1.0");
    for (int i = 0; i < 20; ++i)
        EXPECT_EQ(rack.holding(i), i < 8 ? 1 : i < 16 ? 20 : i == 16 ? 3 : 0) << "nothing was written";
    scan = scanHosts(range, portOf(*b), HostQuestion::nothing, {}, progress);
    EXPECT_EQ(scan.found.size(), 1U);
    // One that takes the connection and says nothing, or something else.
    meter.faults.silent = true;
    scan = scanHosts(range, portOf(*a), HostQuestion::scpiIdentity, {}, progress);
    ASSERT_EQ(scan.found.size(), 1U);
    EXPECT_EQ(scan.found[0].identity, "");
}

TEST(HostScan, CanBeStopped) {
    std::stop_source stop;
    std::uint64_t done = 0;
    const HostScan scan =
        scanHosts(hostRange("127.0.0.1/20").value(), 1, HostQuestion::nothing, stop.get_token(), [&](std::uint64_t n) {
            done = n;
            if (n == 200) stop.request_stop();
        });
    EXPECT_TRUE(scan.stopped);
    EXPECT_LT(done, 400U);
}

TEST(HostScan, AMasterOfSmartSensorsSaysWhatItIs) {
    SensorMaster master;
    const auto host = std::move(StandInHost::onLoopback(master.begin()).value());
    const auto port = static_cast<std::uint16_t>(std::stoi(host->address().substr(host->address().find(':') + 1)));
    const auto scan = scanHosts(hostRange("127.0.0.1").value(), port, HostQuestion::ioLinkIdentity, {}, [](auto) {});
    ASSERT_EQ(scan.found.size(), 1U);
    EXPECT_EQ(scan.found[0].identity, "Demonstration Cold-store master 2");
    master.faults.notHttp = true;
    const auto other = scanHosts(hostRange("127.0.0.1").value(), port, HostQuestion::ioLinkIdentity, {}, [](auto) {});
    ASSERT_EQ(other.found.size(), 1U);
    EXPECT_EQ(other.found[0].identity, "") << "it took the connection";
}

}  // namespace
}  // namespace cruscotto::host_scan_test
