// Readers and writers of CAN that are not ours: python-can's slcan, and canmatrix's DBC.
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "devices/can/can_settings.h"
#include "standins/canbus/pump_bus.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto::foreign_can_test {
namespace {

std::string output(const std::string& command) {
    FILE* pipe = popen((command + " 2>/dev/null").c_str(), "re");
    std::string out;
    std::array<char, 4096> bytes;
    for (std::size_t n = 0; (n = fread(bytes.data(), 1, bytes.size(), pipe)) > 0;) out.append(bytes.data(), n);
    out += pclose(pipe) == 0 ? "" : "(failed)";
    return out;
}

TEST(ForeignCan, ADescriptionThatWasWrittenIsReadByAnotherReader) {
    test::TempFolder folder;
    Bench bench = test::oneSignal();
    SignalSpec s = *bench.signals[0];
    s.chain = {slopeOffset(1, 0, "bar")};
    s.name = "Pressure \"inlet\"";
    bench = withSignal(bench, s);
    for (const char* id : {"flow", "speed-1"}) {
        s.id = id;
        s.chain = {slopeOffset(1, 0, "L/min")};
        bench = withSignal(bench, s);
    }
    const DeviceSpec device{"bus", "Bus", "can",
                            R"({"address":"can0","publish":"in, flow, speed-1","publish-every-s":0.02})", ""};
    const std::string path = folder.file("bench.dbc");
    test::writeFile(path, writeDbc(publishedDbc(bench, device)));
    const std::string script = folder.file("read.py");
    test::writeFile(script, R"(
import sys, canmatrix.formats
m = canmatrix.formats.loadp_flat(sys.argv[1])
for f in m.frames:
    print(hex(f.arbitration_id.id), f.name, f.size, f.cycle_time, *sorted(f"{s.name} {s.start_bit} {s.size} {s.is_float} {s.unit}" for s in f.signals), sep="; ")
)");
    EXPECT_EQ(output("/usr/bin/python3 " + script + " " + path),
              "0x6a0; Bench_1; 8; 20; flow 32 32 True L/min; in 0 32 True bar\n"
              "0x6a1; Bench_2; 8; 20; speed_1 0 32 True L/min\n");
}

TEST(ForeignCan, TheStandInIsReadByAnotherProgramAsByUs) {
    test::TempFolder folder;
    PumpBus bus;
    const auto host = std::move(StandInHost::onPty(bus.begin(), folder.file("port")).value());
    const std::string script = folder.file("read.py");
    test::writeFile(script, R"(
import sys, can
bus = can.Bus(interface="slcan", channel=sys.argv[1], bitrate=250000, sleep_after_open=0)
seen = {}
while len(seen) < 3:
    m = bus.recv(5)
    if m is None: break
    if m.arbitration_id == 0x18FF5001 and m.data[0] != 0: continue
    seen.setdefault(m.arbitration_id, m)
bus.send(can.Message(arbitration_id=0x300, data=[0x40, 0x1f, 1, 0], is_extended_id=False))
for i in sorted(seen): print(hex(i), seen[i].is_extended_id, seen[i].dlc)
d = seen[0x100].data
print((d[0] << 8 | d[1]) % 4 in (0, 1, 2, 3), 1400 <= (d[0] << 8 | d[1]) / 4 <= 1500)
bus.shutdown()
)");
    EXPECT_EQ(output("/usr/bin/python3 " + script + " " + host->address()),
              "0x100 False 8\n0x200 False 4\n0x18ff5001 True 4\nTrue True\n");
    EXPECT_TRUE(test::eventually([&] { return bus.askedSpeed() == 2000; }));
}

}  // namespace
}  // namespace cruscotto::foreign_can_test
