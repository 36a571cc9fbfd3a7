#pragma once

#include <string>

namespace cruscotto {

/// The speed that whoever has the other end of this pty open has set, in baud; 0 where the system does not tell.
unsigned listenersSpeed(int master);

/// What a listener at `theirs` baud makes of bytes that are sent at `ours` without a pause, 8N1: the waveform is
/// sampled in the middle of the bits that the listener expects behind each falling edge, as a UART does.
std::string heardAt(const std::string& sent, unsigned ours, unsigned theirs);

}  // namespace cruscotto
