#include "app/application.h"
namespace cruscotto {
int runWindow(const WindowOptions&, int, char**) {
    return 1;
}
int runPicture(const PictureOptions&, int, char**) {
    return 1;
}
}  // namespace cruscotto
