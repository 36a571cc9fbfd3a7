// The kinds of devices, in the order in which they are offered.
#include "devices/can/can_settings.h"
#include "devices/computer/computer_device.h"
#include "devices/computer/iio_buffer.h"
#include "devices/counter/counter_device.h"
#include "devices/fastbox/fast_box.h"
#include "devices/firmata/firmata_settings.h"
#include "devices/frames/frame_device.h"
#include "devices/gpio/gpio_settings.h"
#include "devices/iolink/iolink_settings.h"
#include "devices/modbus/modbus_settings.h"
#include "devices/replay/replay_device.h"
#include "devices/scpi/scpi_settings.h"
#include "devices/serial/serial_settings.h"
#include "devices/simbox/simulated_box.h"
#include "devices/sound/sound_device.h"

namespace cruscotto {

const DeviceKinds& builtInKinds() {
    static const DeviceKinds kinds({simulatedBoxKind(), serialLineKind(), frameBoardKind(), modbusKind(), scpiKind(),
                                    canKind(), firmataKind(), ioLinkKind(), computerKind(), iioBufferKind(), gpioKind(),
                                    counterEventsKind(), soundKind(), replayKind(), fastBoxKind()});
    return kinds;
}

}  // namespace cruscotto
