#include "core/base/whole_file.h"

#include <cerrno>
#include <filesystem>
#include <fstream>
#include <system_error>

namespace cruscotto {

Result<std::string> readWholeFile(const std::string& path, std::size_t most) {
    std::error_code ec;
    const auto size = std::filesystem::file_size(path, ec);
    if (ec) return failure("{0} cannot be read: {1}.", path, ec.message());
    if (!std::filesystem::is_regular_file(path, ec)) return failure("{0} cannot be read: it is no file.", path);
    if (size > most) return failure("{0} is larger than {1} MB. Is it the right file?", path, most / 1'000'000);
    std::ifstream file(path, std::ios::binary);
    if (!file) return failure("{0} cannot be read: {1}.", path, std::generic_category().message(errno));
    std::string out(size, '\0');
    file.read(out.data(), static_cast<std::streamsize>(size));
    out.resize(static_cast<std::size_t>(file.gcount()));
    return out;
}

}  // namespace cruscotto
