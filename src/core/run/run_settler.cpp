#include "core/run/run_settler.h"

#include <chrono>

#include "core/run/sqlite.h"

namespace cruscotto {

namespace {

/// The journal is moved into the run when it is this large, or this old.
constexpr std::size_t moveBytes = std::size_t{16} << 20;
constexpr auto moveEvery = std::chrono::seconds(5);

/// Makes the disk confirm what is in the journal, through SQLite's own file.
int confirm(sqlite3* db) {
    sqlite3_file* journal = nullptr;
    if (const int r = sqlite3_file_control(db, "main", SQLITE_FCNTL_JOURNAL_POINTER, static_cast<void*>(&journal));
        r != SQLITE_OK)
        return r;
    if (!journal || !journal->pMethods) return SQLITE_OK;
    return journal->pMethods->xSync(journal, SQLITE_SYNC_NORMAL | SQLITE_SYNC_DATAONLY);
}

}  // namespace

RunSettler::RunSettler(std::string path) : path_(std::move(path)) {
    thread_ = std::thread([this] { work(); });
}

RunSettler::~RunSettler() {
    {
        const Lock lock(mutex_);
        ending_ = true;
        changed_.notify_all();
    }
    thread_.join();
}

void RunSettler::written(std::size_t journalBytes) {
    const Lock lock(mutex_);
    journalBytes_ = journalBytes;
    changed_.notify_all();
}

std::optional<Error> RunSettler::trouble() const {
    const Lock lock(mutex_);
    return trouble_;
}

void RunSettler::work() {
    sqlite3* raw = nullptr;
    const int opened = sqlite3_open_v2(path_.c_str(), &raw, SQLITE_OPEN_READWRITE | SQLITE_OPEN_NOMUTEX, nullptr);
    const sqlite::Database db(raw);
    // The first look at the database opens its journal as well.
    if (opened == SQLITE_OK) sqlite::execute(raw, "PRAGMA synchronous = NORMAL; SELECT count(*) FROM run");
    auto moved = std::chrono::steady_clock::now();
    while (true) {
        std::size_t journalBytes = 0;
        {
            Lock lock(mutex_);
            changed_.wait(lock, [&]() HOLDING(mutex_) { return ending_ || journalBytes_ > 0; });
            if (ending_) return;
            journalBytes = std::exchange(journalBytes_, 0);
        }
        int result = opened;
        const auto now = std::chrono::steady_clock::now();
        if (result == SQLITE_OK && (journalBytes > moveBytes || now - moved > moveEvery)) {
            // Confirms the journal as well. Never in the way of a commit; a reader may keep the rest of it for later.
            result = sqlite3_wal_checkpoint_v2(raw, nullptr, SQLITE_CHECKPOINT_PASSIVE, nullptr, nullptr);
            if (result == SQLITE_BUSY) result = confirm(raw);
            moved = std::chrono::steady_clock::now();
        } else if (result == SQLITE_OK) {
            result = confirm(raw);
        }
        const Lock lock(mutex_);
        if (result == SQLITE_OK)
            trouble_.reset();
        else
            trouble_ = failure("{0}: the disk does not confirm what was written ({1}).", path_, sqlite3_errstr(result));
    }
}

}  // namespace cruscotto
