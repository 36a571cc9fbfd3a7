#include "core/base/new_file.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <optional>

namespace cruscotto {

namespace {

Error notWritten(const std::string& path, int error) {
    if (error == ENOSPC || error == EDQUOT || error == EFBIG)
        return failure("{0} could not be written to the end ({1}). Make room, or choose another disk.", path,
                       std::strerror(error));
    return failure("{0} cannot be written ({1}). Is the folder there, and may you write to it?", path,
                   std::strerror(error));
}

/// What has the name now; nothing where nothing has.
std::optional<struct stat> there(const std::string& path) {
    struct stat found {};
    if (lstat(path.c_str(), &found) != 0) return std::nullopt;
    return found;
}

mode_t usualMode() {
    const mode_t mask = umask(0);
    umask(mask);
    return 0666 & ~mask;
}

}  // namespace

Result<void> mayBecome(const std::string& path, NewFile::Existing existing) {
    const auto found = there(path);
    if (!found) {
        if (errno == ENOENT) return {};
        return notWritten(path, errno);
    }
    if (!S_ISREG(found->st_mode))
        return failure("{0} is no ordinary file, but a {1}; it is not replaced. Choose another name.", path,
                       S_ISDIR(found->st_mode)   ? "folder"
                       : S_ISLNK(found->st_mode) ? "link"
                                                 : "device or the like");
    if (existing == NewFile::Existing::refuse)
        return failure("{0} is there already. Choose another name, or say that it may be replaced (--force).", path);
    return {};
}

NewFile::NewFile(std::string path, Existing existing, std::string temporary, std::FILE* file)
    : path_(std::move(path)), temporary_(std::move(temporary)), existing_(existing), file_(file) {}

NewFile::NewFile(NewFile&& other) noexcept
    : path_(std::move(other.path_)),
      temporary_(std::exchange(other.temporary_, {})),
      existing_(other.existing_),
      file_(std::move(other.file_)) {}

NewFile::~NewFile() {
    file_.reset();
    if (!temporary_.empty()) (void)::unlink(temporary_.c_str());
}

Result<NewFile> NewFile::create(const std::string& path, Existing existing) {
    if (auto may = mayBecome(path, existing); !may) return may.error();
    const std::filesystem::path target(path);
    // Short, whatever the target is called: a name may have 255 bytes.
    std::string name = (target.parent_path() / ".cruscotto-XXXXXX").string();
    const int fd = mkostemp(name.data(), O_CLOEXEC);
    if (fd < 0) return notWritten(path, errno);
    if (const auto before = there(path)) {
        (void)!fchown(fd, before->st_uid, before->st_gid);  // who may not give it away keeps it
        fchmod(fd, before->st_mode & 07777);
    } else {
        fchmod(fd, usualMode());
    }
    std::FILE* file = fdopen(fd, "wb");
    if (!file) {
        const int error = errno;
        ::close(fd);
        ::unlink(name.c_str());
        return notWritten(path, error);
    }
    return NewFile(path, existing, std::move(name), file);
}

bool NewFile::write(std::string_view bytes) {
    return std::fwrite(bytes.data(), 1, bytes.size(), file_.get()) == bytes.size();
}

Result<void> NewFile::put() {
    if (std::fflush(file_.get()) != 0 || std::ferror(file_.get()) || fsync(fileno(file_.get())) != 0)
        return notWritten(path_, errno != 0 ? errno : EIO);
    file_.reset();
    if (auto may = mayBecome(path_, existing_); !may) return may;
    const int renamed = existing_ == Existing::refuse
                            ? renameat2(AT_FDCWD, temporary_.c_str(), AT_FDCWD, path_.c_str(), RENAME_NOREPLACE)
                            : std::rename(temporary_.c_str(), path_.c_str());
    // Not every file system knows how to refuse; then what was seen a moment ago must do.
    if (renamed != 0 && (errno != EINVAL || std::rename(temporary_.c_str(), path_.c_str()) != 0))
        return notWritten(path_, errno);
    temporary_.clear();
    // The name too survives a power cut.
    const auto folder = std::filesystem::path(path_).parent_path();
    if (const int fd = ::open(folder.empty() ? "." : folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC); fd >= 0) {
        fsync(fd);
        ::close(fd);
    }
    return {};
}

}  // namespace cruscotto
