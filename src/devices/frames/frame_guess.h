#pragma once

#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "devices/frames/frame_format.h"

namespace cruscotto {

/// How frames may be cut from what has come from a board that nobody has described; likeliest first, at most three.
/// Looks for delimiters with escapes, for bytes that come back at one distance or at one that stands in the frame, and
/// for a check sum that holds. A few hundred bytes are enough; costs well under 0.1 s for 4 KiB.
std::vector<FrameLayout> guessLayouts(std::string_view bytes);

/// What a part of a frame may be.
struct FieldGuess {
    FrameField field;
    double value = 0;          ///< in the newest frame
    double low = 0, high = 0;  ///< over all frames
    double jumps = 0;          ///< mean step from frame to frame by the span, 0 (calm) to 1, of noise about a third;
                               ///< more where its bytes do not carry into each other as those of one number do
};
/// What these bytes of the frames may be, calmest first. `frames`, oldest first, hold them.
std::vector<FieldGuess> guessField(std::span<const std::string> frames, std::size_t offset, std::size_t length);
/// The values that frames seem to be made of: which columns vary, and which of them belong together. `layout` tells
/// which bytes are none. Frames shorter than most are left out.
std::vector<FieldGuess> guessFields(const FrameLayout& layout, std::span<const std::string> frames);

}  // namespace cruscotto
