#pragma once

namespace cruscotto::test {

/// Of this build; CMake says them.
inline constexpr const char* sourceFolder = CRUSCOTTO_SOURCE;
inline constexpr const char* program = CRUSCOTTO_PROGRAM;  ///< the path of `cruscotto`

}  // namespace cruscotto::test
