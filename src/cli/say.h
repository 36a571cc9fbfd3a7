#pragma once

#include <string>

namespace cruscotto::cli {

/// A line for whoever reads the output. Where it cannot be written, the command is asked to stop: see outputLost().
void say(const std::string& line);
/// A line for whoever has to mend something. Returns the code.
int complain(const std::string& line, int code);
/// Why some of what was to be said was not, in words; empty: all was.
std::string outputLost();

}  // namespace cruscotto::cli
