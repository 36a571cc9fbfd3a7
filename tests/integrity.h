#pragma once

#include <gtest/gtest.h>
#include <sqlite3.h>

#include <optional>
#include <string>

#include "core/run/run_reader.h"

namespace cruscotto::test {

/// What SQLite itself says of the file: "ok", or what is wrong.
inline std::string integrity(const std::string& path) {
    sqlite3* db = nullptr;
    std::string verdict = "cannot be opened";
    if (sqlite3_open(path.c_str(), &db) == SQLITE_OK)
        sqlite3_exec(
            db, "PRAGMA integrity_check",
            [](void* to, int, char** values, char**) {
                *static_cast<std::string*>(to) = values[0];
                return 0;
            },
            &verdict, nullptr);
    sqlite3_close(db);
    return verdict;
}

/// What is there is whole: every block decodes, and they follow each other.
inline void expectWhole(RunReader& reader) {
    for (const RunGroup& g : reader.info().groups) {
        auto blocks = reader.blocks(g.id);
        std::optional<std::uint64_t> next;
        while (const BlockPtr b = blocks.next()) {
            if (next && !b->gapBefore) ASSERT_EQ(b->firstIndex, *next);
            next = b->firstIndex + b->size();
        }
        EXPECT_EQ(blocks.damaged(), 0U);
    }
}

}  // namespace cruscotto::test
