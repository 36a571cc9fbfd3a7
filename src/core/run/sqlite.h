#pragma once

#include <sqlite3.h>

#include <cerrno>
#include <memory>
#include <span>
#include <string>
#include <system_error>

#include "core/base/result.h"

/// A thin skin over SQLite's C interface for the run store. Confined to one thread at a time.
namespace cruscotto::sqlite {

struct CloseDatabase {
    void operator()(sqlite3* db) const { sqlite3_close_v2(db); }
};
using Database = std::unique_ptr<sqlite3, CloseDatabase>;

/// What SQLite says went wrong just now, with what the system said to it: "disk I/O error: Disk quota exceeded".
/// Precondition: errno was 0 when it began, or is of it.
inline std::string problemOf(sqlite3* db) {
    // SQLite keeps the system's number in some cases only; a COMMIT is none of them.
    const int system = sqlite3_system_errno(db) != 0 ? sqlite3_system_errno(db) : errno;
    std::string words = sqlite3_errmsg(db);
    if ((sqlite3_errcode(db) & 0xFF) == SQLITE_IOERR && system != 0)
        words += ": " + std::generic_category().message(system);
    return words;
}

/// A prepared statement. Bind with bind(1-based, value), then step().
class Statement {
public:
    Statement() = default;
    Statement(sqlite3* db, const char* sql) {
        sqlite3_prepare_v3(db, sql, -1, SQLITE_PREPARE_PERSISTENT, &s_, nullptr);
    }
    Statement(Statement&& other) noexcept : s_(std::exchange(other.s_, nullptr)) {}
    Statement& operator=(Statement&& other) noexcept {
        std::swap(s_, other.s_);
        return *this;
    }
    ~Statement() { sqlite3_finalize(s_); }

    [[nodiscard]] bool valid() const { return s_ != nullptr; }
    Statement& bind(int i, std::int64_t v) { return sqlite3_bind_int64(s_, i, v), *this; }
    Statement& bind(int i, double v) { return sqlite3_bind_double(s_, i, v), *this; }
    Statement& bind(int i, const std::string& v) {
        return sqlite3_bind_text(s_, i, v.data(), static_cast<int>(v.size()), SQLITE_TRANSIENT), *this;
    }
    /// The bytes must stay as they are until the next step() has returned.
    Statement& bind(int i, std::span<const std::byte> v) {
        return sqlite3_bind_blob64(s_, i, v.data(), v.size(), SQLITE_STATIC), *this;
    }
    Statement& bindNull(int i) { return sqlite3_bind_null(s_, i), *this; }
    /// True while there is a row.
    bool step() { return s_ && (result_ = sqlite3_step(s_)) == SQLITE_ROW; }
    /// For statements without rows: runs once and makes ready for the next time.
    bool run() {
        if (!s_) return false;
        const int r = sqlite3_step(s_);
        sqlite3_reset(s_);
        return r == SQLITE_DONE || r == SQLITE_ROW;
    }
    void reset() { sqlite3_reset(s_); }
    /// After step() said false: whether that was the end, and not an error.
    [[nodiscard]] bool ended() const { return result_ == SQLITE_DONE; }
    [[nodiscard]] std::int64_t integer(int column) const { return sqlite3_column_int64(s_, column); }
    [[nodiscard]] double real(int column) const { return sqlite3_column_double(s_, column); }
    [[nodiscard]] bool isNull(int column) const { return sqlite3_column_type(s_, column) == SQLITE_NULL; }
    [[nodiscard]] std::string string(int column) const {
        const auto* p = reinterpret_cast<const char*>(sqlite3_column_text(s_, column));
        return p ? std::string(p, static_cast<std::size_t>(sqlite3_column_bytes(s_, column))) : std::string();
    }
    /// Valid until the next step().
    [[nodiscard]] std::span<const std::byte> blob(int column) const {
        const auto* p = static_cast<const std::byte*>(sqlite3_column_blob(s_, column));
        return {p, p ? static_cast<std::size_t>(sqlite3_column_bytes(s_, column)) : 0};
    }

private:
    sqlite3_stmt* s_ = nullptr;
    int result_ = SQLITE_OK;
};

inline bool execute(sqlite3* db, const char* sql) {
    return sqlite3_exec(db, sql, nullptr, nullptr, nullptr) == SQLITE_OK;
}

}  // namespace cruscotto::sqlite
