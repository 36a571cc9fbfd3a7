#pragma once

#include <memory>
#include <optional>
#include <string>

#include "core/base/result.h"
#include "core/run/run_settler.h"
#include "core/run/sqlite.h"

namespace cruscotto {

/// Opens a run to read it, with what a hostile file's schema could do by itself switched off. Errors: it is not there,
/// is no run, or of another format.
Result<sqlite::Database> openRunToRead(const std::string& path);

/// The file of a run that is being written: the database, its write-ahead log, and what there is when somebody removes
/// the file meanwhile. What stands in it is the run writer's. Confined to one thread; does not move, since SQLite knows
/// its address.
class RunFile {
public:
    /// Opens the file, which must be there. SQLite's verdict; after another one than SQLITE_OK only problem() may be
    /// asked.
    static int open(const std::string& path, sqlite::Database& db);

    explicit RunFile(std::string path) : path_(std::move(path)) {}
    ~RunFile();
    RunFile(const RunFile&) = delete;
    RunFile& operator=(const RunFile&) = delete;

    /// Opens it and begins its log, with a first commit: later ones need not wait for the log's head to be confirmed.
    Result<void> begin();
    [[nodiscard]] sqlite3* db() const { return db_.get(); }
    /// The file or its folder was removed while it is recorded.
    [[nodiscard]] bool removed() const;
    /// What was recorded is still there as long as the file is open, and is written anew. Statements made for the
    /// database so far must be gone.
    Result<void> writeAnew();
    /// After each commit: the log is brought to the disk in the background.
    void committed();
    /// Leaves no log beside a run that is closed in order.
    void endLog();
    /// Stops settling what is in the log; committed() does nothing from here on.
    void stopSettling() { settler_.reset(); }
    /// The last commits are written, but the disk does not confirm them.
    [[nodiscard]] std::optional<Error> trouble() const { return settler_ ? settler_->trouble() : std::nullopt; }
    [[nodiscard]] std::uint64_t bytesOnDisk() const { return bytesOnDisk_; }
    [[nodiscard]] Error failed(const char* what) const;

private:
    void watch();
    void placeIndex();
    void startSettling();

    std::string path_;
    sqlite::Database db_;
    int file_ = -1;  ///< of the run, to see whether it still has a name
    std::unique_ptr<RunSettler> settler_;
    std::size_t logBytes_ = 0;
    std::uint64_t bytesOnDisk_ = 0;
};

}  // namespace cruscotto
