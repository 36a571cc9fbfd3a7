// A server and a client of Modbus that are neither ours nor made of the library that our driver uses: pymodbus.
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "devices/device_listener.h"
#include "standins/rack/cold_store_rack.h"

namespace cruscotto::foreign_modbus_test {
namespace {

using nlohmann::json;
using test::eventually;

constexpr const char* server = R"(
import asyncio, os, select, struct, sys, threading, tty
from pymodbus.datastore import ModbusSequentialDataBlock as Block, ModbusSlaveContext, ModbusServerContext
from pymodbus.device import ModbusDeviceIdentification
from pymodbus.server.async_io import ModbusTcpServer, StartAsyncSerialServer
from pymodbus.transaction import ModbusRtuFramer, ModbusSocketFramer

def until_nobody_needs_it():
    sys.stdin.read()
    os._exit(0)
threading.Thread(target=until_nobody_needs_it, daemon=True).start()

def say(address):
    with open(sys.argv[2] + ".new", "w") as f: f.write(address)
    os.rename(sys.argv[2] + ".new", sys.argv[2])

def words(form, value): return list(struct.unpack(f">{struct.calcsize(form) // 2}H", struct.pack(form, value)))
holding, inputs = [0] * 40, [0] * 40
holding[4:6] = words(">f", 21.5)
holding[6:8] = words(">f", -3.25)[::-1]
holding[8:12] = words("<q", -1234567890123)
inputs[3] = 0xFFFE
inputs[4:6] = words("<I", 3000000000)
unit = ModbusSlaveContext(di=Block(0, [0, 0, 0, 0, 0, 1] + [0] * 10), co=Block(0, [0] * 16), hr=Block(0, holding),
                          ir=Block(0, inputs), zero_mode=True)
context = ModbusServerContext(slaves={1: unit, 7: unit}, single=False)
identity = ModbusDeviceIdentification(info_name={"VendorName": "Another house", "ProductCode": "AH-1", "MajorMinorRevision": "2.1"})

async def on_tcp():
    tcp = ModbusTcpServer(context, ModbusSocketFramer, identity, ("127.0.0.1", 0))
    task = asyncio.create_task(tcp.serve_forever())
    await tcp.serving
    say(f"127.0.0.1:{tcp.server.sockets[0].getsockname()[1]}")
    await task

def bridge(a, b):
    while True:
        for end in select.select([a, b], [], [])[0]: os.write(b if end == a else a, os.read(end, 4096))
async def on_serial():
    ends = [os.openpty() for _ in range(2)]
    for _, slave in ends: tty.setraw(slave)
    threading.Thread(target=bridge, args=(ends[0][0], ends[1][0]), daemon=True).start()
    say(os.ttyname(ends[0][1]))
    await StartAsyncSerialServer(context, identity=identity, framer=ModbusRtuFramer, port=os.ttyname(ends[1][1]), baudrate=115200)
asyncio.run(on_tcp() if sys.argv[1] == "tcp" else on_serial())
)";

/// Ends with its input.
class ForeignServer {
public:
    explicit ForeignServer(const std::string& link) {
        test::writeFile(folder_.file("server.py"), server);
        process_ = popen(
            ("exec /usr/bin/python3 " + folder_.file("server.py") + " " + link + " " + said_ + " 2>/dev/null").c_str(),
            "we");
        EXPECT_TRUE(eventually([&] { return std::filesystem::exists(said_); }));
    }
    ~ForeignServer() { pclose(process_); }
    ForeignServer(const ForeignServer&) = delete;
    ForeignServer& operator=(const ForeignServer&) = delete;
    [[nodiscard]] std::string address() const { return test::readFile(said_); }

private:
    test::TempFolder folder_;
    const std::string said_ = folder_.file("address");
    FILE* process_ = nullptr;
};

class ForeignModbus : public testing::TestWithParam<const char*> {};

TEST_P(ForeignModbus, ItsServerIsReadAndWritten) {
    ForeignServer foreign(GetParam());
    test::DeviceListener listener("modbus", jsonText(json{{"address", foreign.address()},
                                                          {"baud", 115200},
                                                          {"every-s", 0.02},
                                                          {"timeout-s", 10},
                                                          {"points",
                                                           {{"f", "holding 4 f32"},
                                                            {"g", "holding 6 f32 cdab"},
                                                            {"q", "holding 8 i64 dcba"},
                                                            {"i", "input 3 i16"},
                                                            {"u", "unit 7 input 4 u32 dcba"},
                                                            {"d", "discrete 5"},
                                                            {"c", "coil 7"},
                                                            {"relay", "coil 7 out"},
                                                            {"set", "holding 20 f64 out"},
                                                            {"read set", "holding 20 f64"},
                                                            {"beyond", "holding 900 u16"}}}}));
    ASSERT_TRUE(eventually([&] {
        for (const char* t : {"f", "g", "q", "i", "u", "d", "c"})
            if (listener.count(t) == 0) return false;
        return true;
    })) << listener.status().sentence.english();
    EXPECT_EQ(listener.latest("f"), 21.5);
    EXPECT_EQ(listener.latest("g"), -3.25);
    EXPECT_EQ(listener.latest("q"), -1234567890123);
    EXPECT_EQ(listener.latest("i"), -2);
    EXPECT_EQ(listener.latest("u"), 3e9);
    EXPECT_EQ(listener.latest("d"), 1);
    EXPECT_EQ(listener.latest("c"), 0);
    listener.device().setOutput("relay", 1);
    listener.device().setOutput("set", 1e-3);
    EXPECT_TRUE(eventually([&] { return listener.latest("c") == 1 && listener.latest("read set") == 1e-3; }));
    EXPECT_TRUE(eventually([&] {
        return listener.status().sentence.english().find("it has no such address") != std::string::npos;
    })) << listener.status().sentence.english();
    EXPECT_EQ(listener.count("beyond"), 0U);
}

TEST_P(ForeignModbus, ItsServerSaysWhatItIs) {
    ForeignServer foreign(GetParam());
    test::DeviceListener listener("modbus",
                                  jsonText(json{{"address", foreign.address()}, {"baud", 115200}, {"timeout-s", 10}}));
    EXPECT_TRUE(eventually([&] {
        return listener.status().sentence.english().find("Another house") != std::string::npos;
    })) << listener.status().sentence.english();
}

INSTANTIATE_TEST_SUITE_P(On, ForeignModbus, testing::Values("tcp", "serial"),
                         [](const auto& link) { return std::string(link.param); });

TEST(ForeignModbusClient, ReadsOurRackAsTheDriverDoes) {
    ColdStoreRack rack;
    const auto host = std::move(StandInHost::onLoopback(rack.onTcp()).value());
    test::TempFolder folder;
    test::writeFile(folder.file("client.py"), R"(
import sys
from pymodbus.client import ModbusTcpClient
from pymodbus.mei_message import ReadDeviceInformationRequest
c = ModbusTcpClient(sys.argv[1].split(":")[0], int(sys.argv[1].split(":")[1]))
c.connect()
print(len(c.read_input_registers(0, 8, 1).registers), c.read_holding_registers(60000, 1, 1).exception_code)
c.write_coil(1, True, 1)
print(c.read_coils(1, 1, 1).bits[0])
said = c.execute(ReadDeviceInformationRequest(1, 0, unit=1)).information
print(said[0].decode())
)");
    FILE* client =
        popen(("/usr/bin/python3 " + folder.file("client.py") + " " + host->address() + " 2>&1").c_str(), "re");
    std::string said;
    std::array<char, 4096> bytes{};
    for (std::size_t n = 0; (n = fread(bytes.data(), 1, bytes.size(), client)) > 0;) said.append(bytes.data(), n);
    EXPECT_EQ(pclose(client), 0);
    EXPECT_EQ(said, "8 2\nTrue\nCruscotto\n");
    EXPECT_TRUE(rack.relay(1));
}

}  // namespace
}  // namespace cruscotto::foreign_modbus_test
