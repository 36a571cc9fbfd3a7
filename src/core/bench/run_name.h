#pragma once

#include <functional>
#include <string>

#include "core/base/result.h"

namespace cruscotto {

/// What fills the words in braces of a run's name.
struct RunNameParts {
    std::string bench;        ///< {bench}; of this and the title only a-z, 0-9 and '-' are kept
    std::string title;        ///< {title}
    std::int64_t unixNs = 0;  ///< {date} and {time}, by the local clock: 20260325, 142310
};

/// A pattern such as "{bench}-{date}-{number}": letters, digits, spaces and "-_.,+" besides the words. Refuses anything
/// that could lead out of the folder.
Result<void> checkRunName(const std::string& pattern);
/// A file name with ".run" that is not taken: {number} is the lowest free one (001 ...); a pattern without it gets
/// "-2",
/// "-3" behind it where it must. Precondition: checkRunName(pattern).
std::string runName(const std::string& pattern, const RunNameParts& parts,
                    const std::function<bool(const std::string& name)>& taken);
/// "a.run" goes on in "a.part2.run", "a.part3.run" ...
std::string partName(const std::string& path, int part);

}  // namespace cruscotto
