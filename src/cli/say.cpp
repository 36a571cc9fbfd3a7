#include "cli/say.h"

#include <cerrno>
#include <cstdio>
#include <cstring>

#include "cli/commands.h"

namespace cruscotto::cli {

namespace {
int outputError = 0;  // errno of the first write that failed; the main thread's
}

void say(const std::string& line) {
    if (outputError != 0) return;
    if (std::fputs((line + "\n").c_str(), stdout) >= 0 && std::fflush(stdout) == 0) return;
    outputError = errno;
    askToStop();
}

int complain(const std::string& line, int code) {
    std::fputs(("cruscotto: " + line + "\n").c_str(), stderr);
    return code;
}

std::string outputLost() {
    // A reader that has seen enough and went away is no fault of anybody.
    return outputError == 0 || outputError == EPIPE ? "" : std::strerror(outputError);
}

}  // namespace cruscotto::cli
