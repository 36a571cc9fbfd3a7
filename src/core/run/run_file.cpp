#include "core/run/run_file.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
#include <cstdio>
#include <filesystem>

#include "core/run/run_format.h"

namespace cruscotto {

Result<sqlite::Database> openRunToRead(const std::string& path) {
    std::error_code ec;
    if (!std::filesystem::is_regular_file(path, ec)) return failure("{0} is not there, or is not a file.", path);
    sqlite3* db = nullptr;
    // Writable where that is allowed, so that SQLite can take back the half of a commit that a kill has left.
    int opened = sqlite3_open_v2(path.c_str(), &db, SQLITE_OPEN_READWRITE | SQLITE_OPEN_NOMUTEX, nullptr);
    if (opened != SQLITE_OK) {
        sqlite3_close_v2(db);
        opened = sqlite3_open_v2(path.c_str(), &db, SQLITE_OPEN_READONLY | SQLITE_OPEN_NOMUTEX, nullptr);
    }
    sqlite::Database out(db);
    if (opened != SQLITE_OK) return failure("{0} cannot be opened ({1}).", path, sqlite3_errmsg(db));
    sqlite3_busy_timeout(db, 2000);
    sqlite3_db_config(db, SQLITE_DBCONFIG_DEFENSIVE, 1, nullptr);
    sqlite3_db_config(db, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, nullptr);
    sqlite3_db_config(db, SQLITE_DBCONFIG_ENABLE_TRIGGER, 0, nullptr);
    sqlite3_db_config(db, SQLITE_DBCONFIG_ENABLE_VIEW, 0, nullptr);
    sqlite3_limit(db, SQLITE_LIMIT_LENGTH, 1 << 30);
    sqlite::Statement version(db, "SELECT value FROM run WHERE key='version'");
    if (!version.step())
        return failure("{0} is not a run, or its beginning is damaged ({1}).", path, sqlite3_errmsg(db));
    if (version.integer(0) > runformat::version)
        return failure("{0} was recorded by a newer version of Cruscotto (format {1}). Update to open it.", path,
                       version.integer(0));
    if (version.integer(0) < runformat::version)
        return failure("{0} was recorded by an early build of Cruscotto (format {1}), which is no longer read.", path,
                       version.integer(0));
    version = {};
    return out;
}

using sqlite::Statement;

RunFile::~RunFile() {
    if (file_ >= 0) ::close(file_);
}

int RunFile::open(const std::string& path, sqlite::Database& db) {
    sqlite3* raw = nullptr;
    const int opened = sqlite3_open_v2(path.c_str(), &raw, SQLITE_OPEN_READWRITE | SQLITE_OPEN_NOMUTEX, nullptr);
    db.reset(raw);
    sqlite3_busy_timeout(raw, runformat::busyMs);  // somebody who reads the run, even now, lets go of it again
    return opened;
}

Result<void> RunFile::begin() {
    if (open(path_, db_) != SQLITE_OK || !sqlite::execute(db_.get(), runformat::journal) ||
        !sqlite::execute(db_.get(),
                         "BEGIN; UPDATE run SET value='' WHERE key='state';"
                         "UPDATE run SET value='recording' WHERE key='state'; COMMIT"))
        return failed("nothing can be written");
    watch();
    startSettling();
    committed();
    return {};
}

void RunFile::watch() {
    if (file_ >= 0) ::close(file_);
    file_ = ::open(path_.c_str(), O_PATH | O_CLOEXEC);
}

bool RunFile::removed() const {
    struct stat found {};
    return file_ >= 0 && fstat(file_, &found) == 0 && found.st_nlink == 0;
}

Result<void> RunFile::writeAnew() {
    settler_.reset();
    std::error_code ec;
    std::filesystem::create_directories(std::filesystem::path(path_).parent_path(), ec);
    if (Statement copy(db_.get(), "VACUUM INTO ?"); !copy.bind(1, path_).run())
        return failure("{0} was removed while it was recorded, and cannot be written again ({1}).", path_,
                       sqlite3_errmsg(db_.get()));
    sqlite::Database again;
    if (open(path_, again) != SQLITE_OK || !sqlite::execute(again.get(), runformat::journal)) {
        // The old one still holds everything; the next commit tries again.
        const Error error = failure("{0} was removed while it was recorded, and cannot be opened again ({1}).", path_,
                                    sqlite3_errmsg(again.get()));
        std::remove(path_.c_str());
        return error;
    }
    db_ = std::move(again);
    watch();
    startSettling();
    return {};
}

Error RunFile::failed(const char* what) const {
    return failure("{0}: {1} ({2}).", path_, what, sqlite::problemOf(db_.get()));
}

/// Gives every page of the log's index, a mapped file, its place on the disk: who writes to such a page first waits
/// for the disk, and with it every thread that asks for memory, which must not be while outputs react. Without it the
/// slowest reaction of ten seconds took 1.4 to 2.5 ms beside a slow recording, with it 0.1 ms (ruleLatency).
void RunFile::placeIndex() {
    constexpr int regionBytes = 32768;  // SQLite's unit of it; one serves a log of 66 MB
    constexpr int pageBytes = 4096;
    sqlite::execute(db_.get(), "SELECT count(*) FROM run");  // opens it
    sqlite3_file* run = nullptr;
    volatile void* region = nullptr;
    sqlite3_file_control(db_.get(), "main", SQLITE_FCNTL_FILE_POINTER, static_cast<void*>(&run));
    if (!run || !run->pMethods || run->pMethods->iVersion < 2 || !run->pMethods->xShmMap) return;
    if (run->pMethods->xShmMap(run, 0, regionBytes, 1, &region) != SQLITE_OK || !region) return;
    auto* bytes = static_cast<unsigned char*>(const_cast<void*>(region));
    for (int at = 0; at < regionBytes; at += pageBytes) std::atomic_ref(bytes[at]).fetch_or(0);
}

void RunFile::startSettling() {
    placeIndex();
    settler_ = std::make_unique<RunSettler>(path_);
    sqlite3_wal_hook(
        db_.get(),
        [](void* self, sqlite3*, const char*, int pages) {
            static_cast<RunFile*>(self)->logBytes_ = static_cast<std::size_t>(pages) * runformat::pageBytes;
            return SQLITE_OK;
        },
        this);
}

void RunFile::committed() {
    if (Statement pages(db_.get(), "PRAGMA page_count"); pages.step())
        bytesOnDisk_ = static_cast<std::uint64_t>(pages.integer(0)) * runformat::pageBytes;
    if (settler_) settler_->written(logBytes_);
}

void RunFile::endLog() {
    sqlite::execute(db_.get(), "PRAGMA journal_mode = DELETE");
}

}  // namespace cruscotto
