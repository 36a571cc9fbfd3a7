#pragma once

namespace cruscotto {

/// Where the examples lay when the program was built: one of them is opened as a copy, as those inside the program are.
const char* examplesFolder();

}  // namespace cruscotto
