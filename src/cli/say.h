#pragma once

#include <cstdio>
#include <string>

namespace cruscotto::cli {

/// A line for whoever reads the output.
inline void say(const std::string& line) {
    std::fputs((line + "\n").c_str(), stdout);
    std::fflush(stdout);
}
/// A line for whoever has to mend something. Returns the code.
inline int complain(const std::string& line, int code) {
    std::fputs(("cruscotto: " + line + "\n").c_str(), stderr);
    return code;
}

}  // namespace cruscotto::cli
