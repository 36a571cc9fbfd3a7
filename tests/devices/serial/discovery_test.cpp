#include "devices/discovery/discovery.h"
#include "devices/link/access.h"

#include <fcntl.h>
#include <unistd.h>

#include "devices/link/serial_load.h"
#include "devices/serial/speed_search.h"
#include "other_process.h"
#include "standins/pseudo_terminal.h"
#include "support.h"

namespace cruscotto::discovery_test {
namespace {

namespace fs = std::filesystem;
using test::TempFolder;

/// A made tree like the kernel's, with what a test puts into it.
struct Tree {
    TempFolder folder;
    [[nodiscard]] fs::path at(const std::string& path) const { return folder.file(path); }
    void file(const std::string& path, const std::string& content) const {
        fs::create_directories(at(path).parent_path());
        test::writeFile(at(path), content);
    }
    void link(const std::string& path, const std::string& target) const {
        fs::create_directories(at(path).parent_path());
        fs::create_symlink(target, at(path));
    }
    [[nodiscard]] std::vector<FoundPort> ports() const { return findSerialPorts(folder.file("")); }
};

TEST(Discovery, PortsAreFoundWithTheNameThatStaysAndWhatTheySayOfThemselves) {
    Tree tree;
    tree.file("sys/devices/usb1/1-2/product", "Beehive board\n");
    tree.file("sys/devices/usb1/1-2/manufacturer", "Meadow Works\n");
    tree.file("sys/devices/usb1/1-2/serial", "0042\n");
    fs::create_directories(tree.at("sys/devices/usb1/1-2/1-2:1.0/tty/ttyACM0"));
    tree.link("sys/devices/usb1/1-2/1-2:1.0/tty/ttyACM0/device", "../../../1-2:1.0");
    tree.link("sys/class/tty/ttyACM0", "../../devices/usb1/1-2/1-2:1.0/tty/ttyACM0");
    tree.file("dev/ttyACM0", "");
    tree.link("dev/serial/by-id/usb-Meadow_Works_Beehive_board_0042-if00", "../../ttyACM0");
    // a console, a place for a port where none is, and one on the board itself
    fs::create_directories(tree.at("sys/class/tty/tty1"));
    tree.file("dev/tty1", "");
    for (const auto& [name, type] : {std::pair("ttyS0", "4\n"), std::pair("ttyS1", "0\n")}) {
        fs::create_directories(tree.at("sys/devices/platform/serial8250"));
        tree.file(std::string("sys/class/tty/") + name + "/type", type);
        tree.link(std::string("sys/class/tty/") + name + "/device", "../../../devices/platform/serial8250");
        tree.file(std::string("dev/") + name, "");
    }
    const auto found = tree.ports();
    ASSERT_EQ(found.size(), 2U);
    EXPECT_EQ(found[0].path, tree.at("dev/serial/by-id/usb-Meadow_Works_Beehive_board_0042-if00"));
    EXPECT_EQ(found[0].node, tree.at("dev/ttyACM0"));
    EXPECT_EQ(found[0].product, "Beehive board");
    EXPECT_EQ(found[0].maker, "Meadow Works");
    EXPECT_EQ(found[0].serial, "0042");
    EXPECT_TRUE(found[0].problem.empty());
    EXPECT_EQ(found[1].path, tree.at("dev/ttyS0"));
    EXPECT_EQ(found[1].product, "");

    fs::remove(tree.at("dev/ttyACM0"));
    EXPECT_EQ(tree.ports().size(), 1U) << "it was unplugged";
}

TEST(Discovery, APlaceWithoutTheTreesHasNoPorts) {
    Tree tree;
    EXPECT_TRUE(tree.ports().empty());
}

TEST(Discovery, TellsWhichProcessHasAFileOpen) {
    TempFolder folder;
    const std::string path = folder.file("port");
    test::writeFile(path, "");
    EXPECT_EQ(holderOf(path), "");
    EXPECT_EQ(holderOf(folder.file("missing")), "");
    test::OtherProcess other([](const std::string& file) { return open(file.c_str(), O_RDONLY) < 0 ? 1 : 0; }, true);
    ASSERT_EQ(other.workOn(path), 0);
    EXPECT_NE(holderOf(path).find("(" + std::to_string(other.pid()) + ")"), std::string::npos);
    other.end();
    EXPECT_EQ(holderOf(path), "");
}

TEST(SerialLoad, IsTheShareOfTheLastTwoSeconds) {
    SerialSettings line;
    line.baud = 10'000;  // 1000 bytes a second
    SerialLoad load(line);
    EXPECT_FALSE(load.share({})) << "nothing is known yet";
    for (int ms = 0; ms < 5000; ms += 100) load.add(25, Instant{} + milliseconds(ms));
    EXPECT_NEAR(load.share(Instant{} + milliseconds(4999)).value(), 0.25, 0.02);
    EXPECT_NEAR(load.share(Instant{} + milliseconds(5900)).value(), 0.13, 0.03) << "it ended a second ago";
    EXPECT_EQ(load.share(Instant{} + milliseconds(9000)), 0.0);
}

TEST(SerialLoad, AdvisesTheSpeedThatDoesTheJob) {
    EXPECT_EQ(speedAdvice(115200, 0.02).english(), "4800 baud would be enough for this.");
    EXPECT_TRUE(speedAdvice(1200, 0.1).empty()) << "there is nothing slower";
    EXPECT_TRUE(speedAdvice(9600, 0.5).empty()) << "it is just right";
    EXPECT_TRUE(speedAdvice(9600, 0).empty());
    EXPECT_EQ(speedAdvice(9600, 0.8).english(), "The line is nearly full; 19200 baud on both sides would leave room.");
    EXPECT_NE(speedAdvice(9600, 1.0).english().find("or set both sides to 19200 baud"), std::string::npos);
    EXPECT_NE(speedAdvice(4'000'000, 1.0).english().find("send less often."), std::string::npos);
}

TEST(SpeedSearch, TextAtItsOwnSpeedIsTheMostLikely) {
    std::string sent = "31";  // heard from the middle of a line on
    for (int i = 0; i < 30; ++i) sent += "\r\n31.42 34.8 61 " + std::to_string(1200 + 7 * i);
    const LineFormat format;
    EXPECT_GT(textLikeness(format, sent), 0.9);
    for (const unsigned ours : usualSpeeds()) {
        double bestOther = 0;
        for (const unsigned theirs : usualSpeeds()) {
            const std::string heard = heardAt(sent, ours, theirs);
            if (theirs == ours)
                EXPECT_EQ(heard, sent) << ours;
            else
                bestOther = std::max(bestOther, textLikeness(format, heard));
        }
        // 230400 and 250000 (and 460800 and 500000, 921600 and 1000000) are 8 % apart: too much for a UART, as here.
        EXPECT_LT(bestOther, 0.9) << ours;
    }
}

}  // namespace
}  // namespace cruscotto::discovery_test
