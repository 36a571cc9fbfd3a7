#include "app/examples_folder.h"

namespace cruscotto {

const char* examplesFolder() {
    return CRUSCOTTO_EXAMPLES;
}

}  // namespace cruscotto
