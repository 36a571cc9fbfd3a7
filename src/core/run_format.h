#pragma once

#include <cstddef>
#include <cstring>
#include <span>
#include <vector>

#include "core/pyramid.h"

/// What the run file's writer and reader agree on; docs/run-format.md is the full story. Frozen.
namespace cruscotto::runformat {

inline constexpr int version = 1;
inline constexpr int applicationId = 0x43525543;  ///< "CRUC", SQLite's application_id

/// 64 KiB pages and a rollback journal: the fastest that was measured for large blobs, and one file when closed.
inline constexpr const char* schema = R"(
PRAGMA page_size = 65536;
PRAGMA journal_mode = TRUNCATE;
PRAGMA synchronous = NORMAL;
PRAGMA application_id = 0x43525543;
PRAGMA user_version = 1;
BEGIN;
CREATE TABLE run(key TEXT PRIMARY KEY, value);
INSERT INTO run VALUES ('format','cruscotto-run'), ('version',1), ('state','recording');
CREATE TABLE bench(at_ns INTEGER NOT NULL, json TEXT NOT NULL);
CREATE TABLE anchor(at_ns INTEGER NOT NULL, unix_ns INTEGER NOT NULL);
CREATE TABLE scan_group(id INTEGER PRIMARY KEY, device TEXT NOT NULL, name TEXT NOT NULL, rate_hz REAL NOT NULL);
CREATE TABLE signal(id INTEGER PRIMARY KEY, key TEXT NOT NULL, group_id INTEGER NOT NULL, type INTEGER NOT NULL);
CREATE TABLE definition(signal_id INTEGER NOT NULL, from_ns INTEGER NOT NULL, json TEXT NOT NULL);
CREATE TABLE block(id INTEGER PRIMARY KEY, group_id INTEGER NOT NULL, first_index INTEGER NOT NULL, n INTEGER NOT NULL,
                   t0_ns INTEGER NOT NULL, dt_ns REAL NOT NULL, times BLOB);
CREATE TABLE samples(block_id INTEGER NOT NULL, signal_id INTEGER NOT NULL, data BLOB NOT NULL);
CREATE INDEX samples_of_block ON samples(block_id);
CREATE TABLE quality(block_id INTEGER NOT NULL, signal_id INTEGER NOT NULL, begin INTEGER NOT NULL, end INTEGER NOT NULL,
                     quality INTEGER NOT NULL);
CREATE INDEX quality_of_block ON quality(block_id);
CREATE TABLE gap(group_id INTEGER NOT NULL, before_index INTEGER NOT NULL, from_ns INTEGER NOT NULL, to_ns INTEGER NOT NULL,
                 lost INTEGER NOT NULL, cause TEXT NOT NULL);
CREATE TABLE pyramid(signal_id INTEGER NOT NULL, level INTEGER NOT NULL, first_bucket INTEGER NOT NULL, n INTEGER NOT NULL,
                     data BLOB NOT NULL);
CREATE TABLE event(at_ns INTEGER NOT NULL, kind TEXT NOT NULL, words TEXT NOT NULL);
CREATE TABLE mark(id INTEGER PRIMARY KEY, at_ns INTEGER NOT NULL, words TEXT NOT NULL);
COMMIT;
)";

/// begin_ns int64, min, max, mean float64, count uint32: 36 bytes a bucket, little endian, no padding.
inline constexpr std::size_t bucketBytes = 36;

inline std::vector<std::byte> packBuckets(std::span<const Bucket> buckets) {
    std::vector<std::byte> out(buckets.size() * bucketBytes);
    std::byte* p = out.data();
    for (const Bucket& b : buckets) {
        std::memcpy(p, &b.begin.ns, 8);
        std::memcpy(p + 8, &b.summary.min, 8);
        std::memcpy(p + 16, &b.summary.max, 8);
        std::memcpy(p + 24, &b.summary.mean, 8);
        std::memcpy(p + 32, &b.summary.count, 4);
        p += bucketBytes;
    }
    return out;
}

inline std::vector<Bucket> unpackBuckets(std::span<const std::byte> data) {
    std::vector<Bucket> out(data.size() / bucketBytes);
    const std::byte* p = data.data();
    for (Bucket& b : out) {
        std::memcpy(&b.begin.ns, p, 8);
        std::memcpy(&b.summary.min, p + 8, 8);
        std::memcpy(&b.summary.max, p + 16, 8);
        std::memcpy(&b.summary.mean, p + 24, 8);
        std::memcpy(&b.summary.count, p + 32, 4);
        p += bucketBytes;
    }
    return out;
}

}  // namespace cruscotto::runformat
