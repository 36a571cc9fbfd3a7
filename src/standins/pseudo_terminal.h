#pragma once

#include <string>

#include "core/base/result.h"

namespace cruscotto {

/// A pty in raw mode, on which a stand-in answers as on a serial line.
struct PseudoTerminal {
    int master = -1;   ///< not blocking; whoever opened it closes it
    std::string path;  ///< of the other end
};
/// With a link to its other end at `link`, unless that is empty; only a link that an earlier stand-in left is replaced.
/// The error says what is wrong in one sentence.
Result<PseudoTerminal> openPseudoTerminal(const std::string& link);
/// Takes the link away again where it still leads to that one.
void removeLink(const std::string& link, const std::string& path);

/// The speed that whoever has the other end of this pty open has set, in baud; 0 where the system does not tell.
unsigned listenersSpeed(int master);

/// What a listener at `theirs` baud makes of bytes that are sent at `ours` without a pause, 8N1: the waveform is
/// sampled in the middle of the bits that the listener expects behind each falling edge, as a UART does.
std::string heardAt(const std::string& sent, unsigned ours, unsigned theirs);

}  // namespace cruscotto
