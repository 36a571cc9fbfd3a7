#pragma once

#include <cstdio>
#include <memory>
#include <string>
#include <string_view>

#include "core/base/result.h"

namespace cruscotto {

/// A file that appears under its name only when it is whole. Until then it is written under a name of its own in the
/// same folder, made new (no link is followed, nothing that is there is opened), and taken away again unless put() was
/// called.
class NewFile {
public:
    enum class Existing {
        refuse,  ///< what is there stays, and is said
        replace  ///< by a file of its mode and owner; only a regular file is ever replaced, never a link, folder or
                 ///< device
    };
    static Result<NewFile> create(const std::string& path, Existing existing);
    ~NewFile();
    NewFile(NewFile&&) noexcept;
    NewFile& operator=(NewFile&&) = delete;

    /// Where it is written meanwhile, for a library that opens files by their names.
    [[nodiscard]] const std::string& temporaryPath() const { return temporary_; }
    [[nodiscard]] std::FILE* stream() const { return file_.get(); }
    /// False where it could not be written, as on a full disk.
    [[nodiscard]] bool write(std::string_view bytes);
    /// Has the disk confirm it, and gives it its name.
    Result<void> put();

private:
    NewFile(std::string path, Existing existing, std::string temporary, std::FILE* file);
    std::string path_, temporary_;
    Existing existing_;
    struct Close {
        void operator()(std::FILE* f) const { std::fclose(f); }
    };
    std::unique_ptr<std::FILE, Close> file_;
};

/// Whether a new file may have this name: it is not there, or is a regular file that may be replaced.
Result<void> mayBecome(const std::string& path, NewFile::Existing existing);

}  // namespace cruscotto
