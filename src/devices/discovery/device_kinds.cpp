// All of them, in one place that only whole programs link: what tests one driver need not be built with the others.
#include "devices/can/can_device.h"
#include "devices/computer/computer_device.h"
#include "devices/computer/iio_buffer.h"
#include "devices/counter/counter_device.h"
#include "devices/fastbox/fast_box.h"
#include "devices/firmata/firmata_device.h"
#include "devices/frames/frame_device.h"
#include "devices/gpio/gpio_device.h"
#include "devices/iolink/iolink_device.h"
#include "devices/modbus/modbus_device.h"
#include "devices/replay/replay_device.h"
#include "devices/scpi/scpi_device.h"
#include "devices/serial/serial_device.h"
#include "devices/simbox/simulated_box.h"
#include "devices/sound/sound_device.h"

namespace cruscotto {

const std::vector<DeviceKind>& deviceKinds() {
    static const std::vector<DeviceKind> kinds{
        simulatedBoxKind(), serialLineKind(),    frameBoardKind(), modbusKind(),   scpiKind(),
        canKind(),          firmataKind(),       ioLinkKind(),     computerKind(), iioBufferKind(),
        gpioKind(),         counterEventsKind(), soundKind(),      replayKind(),   fastBoxKind()};
    return kinds;
}

}  // namespace cruscotto
