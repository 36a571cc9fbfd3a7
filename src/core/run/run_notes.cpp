#include "core/run/run_notes.h"

#include "core/run/run_format.h"
#include "core/run/sqlite.h"

namespace cruscotto {

Result<void> describeRun(const std::string& path, const RunNotes& notes, const std::vector<RunMark>& marks) {
    // Whatever is wrong with the file is found out, and said, by the reader.
    if (auto reader = RunReader::open(path); !reader) return reader.error();
    sqlite3* raw = nullptr;
    const int opened = sqlite3_open_v2(path.c_str(), &raw, SQLITE_OPEN_READWRITE | SQLITE_OPEN_NOMUTEX, nullptr);
    const sqlite::Database db(raw);
    const auto failed = [&] {
        return failure("The notes of {0} could not be changed ({1}). May you write to it?", path, sqlite3_errmsg(raw));
    };
    if (opened != SQLITE_OK) return failed();
    sqlite3_busy_timeout(raw, runformat::busyMs);
    sqlite3_db_config(raw, SQLITE_DBCONFIG_ENABLE_TRIGGER, 0, nullptr);
    if (!sqlite::execute(raw, "BEGIN IMMEDIATE")) return failed();
    bool ok = true;
    sqlite::Statement fact(raw, "INSERT OR REPLACE INTO run VALUES (?,?)");
    for (const auto& [key, words] : runNoteKeys) ok = ok && fact.bind(1, std::string(key)).bind(2, notes.*words).run();
    ok = ok && sqlite::execute(raw, "DELETE FROM mark");
    sqlite::Statement mark(raw, "INSERT INTO mark(at_ns,words) VALUES (?,?)");
    for (const RunMark& m : marks) ok = ok && mark.bind(1, m.at.ns).bind(2, m.words).run();
    if (ok && sqlite::execute(raw, "COMMIT")) return {};
    const Error error = failed();
    sqlite::execute(raw, "ROLLBACK");
    return error;
}

}  // namespace cruscotto
