#pragma once

#include <cstddef>
#include <cstdint>
#include <cstring>
#include <span>
#include <vector>

#include "core/bench/bench.h"
#include "core/signal/pyramid.h"

/// What the run file's writer and reader agree on; docs/run-format.md is the full story. Frozen.
namespace cruscotto::runformat {

inline constexpr int version = 3;
inline constexpr int applicationId = 0x43525543;                     ///< "CRUC", SQLite's application_id
inline constexpr std::int64_t largestBlock = std::int64_t{1} << 26;  ///< samples of one channel
/// A block is closed when its samples take this much, so that a moment can be read without reading minutes.
inline constexpr std::size_t blockBytes = std::size_t{2} << 20;
/// Summaries are stored from this level of the pyramid on; finer ones are soon worked out from the samples.
inline constexpr int firstStoredLevel = 2;

inline constexpr int pageBytes = 16384;
inline constexpr int busyMs = 1500;  ///< how long a commit waits for somebody who reads

inline constexpr const char* pages = "PRAGMA page_size = 16384";
/// While recording, a write-ahead log: what is committed survives a kill although the disk has not confirmed it yet,
/// and readers do not hold up the writer. Closed, one file.
inline constexpr const char* journal =
    "PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL; PRAGMA wal_autocheckpoint = 0";
inline constexpr const char* schema = R"(
PRAGMA application_id = 0x43525543;
PRAGMA user_version = 3;
BEGIN;
CREATE TABLE run(key TEXT PRIMARY KEY, value);
INSERT INTO run VALUES ('format','cruscotto-run'), ('version',3), ('state','recording');
CREATE TABLE bench(at_ns INTEGER NOT NULL, json TEXT NOT NULL);
CREATE TABLE anchor(at_ns INTEGER NOT NULL, unix_ns INTEGER NOT NULL);
CREATE TABLE scan_group(id INTEGER PRIMARY KEY, device TEXT NOT NULL, name TEXT NOT NULL, rate_hz REAL NOT NULL);
CREATE TABLE signal(id INTEGER PRIMARY KEY, key TEXT NOT NULL, group_id INTEGER NOT NULL, type INTEGER NOT NULL);
CREATE TABLE definition(signal_id INTEGER NOT NULL, from_index INTEGER NOT NULL, from_ns INTEGER NOT NULL, json TEXT NOT NULL);
CREATE TABLE layout(id INTEGER PRIMARY KEY, group_id INTEGER NOT NULL, signals TEXT NOT NULL);
CREATE TABLE block(id INTEGER PRIMARY KEY, layout_id INTEGER NOT NULL, first_index INTEGER NOT NULL, n INTEGER NOT NULL,
                   t0_ns INTEGER NOT NULL, end_ns INTEGER NOT NULL, dt_ns REAL, data BLOB NOT NULL);
CREATE INDEX block_of_layout ON block(layout_id, t0_ns, end_ns, n);
CREATE TABLE quality(block_id INTEGER NOT NULL, signal_id INTEGER NOT NULL, begin INTEGER NOT NULL, end INTEGER NOT NULL,
                     quality INTEGER NOT NULL);
CREATE INDEX quality_of_block ON quality(block_id);
CREATE TABLE gap(group_id INTEGER NOT NULL, before_index INTEGER NOT NULL, from_ns INTEGER NOT NULL, to_ns INTEGER NOT NULL,
                 lost INTEGER NOT NULL, quality INTEGER NOT NULL, cause TEXT NOT NULL);
CREATE TABLE pyramid(signal_id INTEGER NOT NULL, level INTEGER NOT NULL, data BLOB NOT NULL);
CREATE INDEX pyramid_of_signal ON pyramid(signal_id, level);
CREATE TABLE event(at_ns INTEGER NOT NULL, kind TEXT NOT NULL, words TEXT NOT NULL);
CREATE TABLE mark(id INTEGER PRIMARY KEY, at_ns INTEGER NOT NULL, words TEXT NOT NULL);
COMMIT;
)";

/// Readings that were worked out again: from a version on, a signal's definitions and summaries are those of another
/// id; and the readings of a computed one are there under that id, float64, by the number of their first sample.
inline constexpr const char* versionTables = R"(
CREATE TABLE IF NOT EXISTS version(id INTEGER PRIMARY KEY, made_unix_ns INTEGER NOT NULL, words TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS version_signal(version_id INTEGER NOT NULL, signal_id INTEGER NOT NULL, as_id INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS version_block(as_id INTEGER NOT NULL, first_index INTEGER NOT NULL, data BLOB NOT NULL,
                                         PRIMARY KEY(as_id, first_index)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS version_quality(as_id INTEGER NOT NULL, first_index INTEGER NOT NULL, begin INTEGER NOT NULL,
                                           end INTEGER NOT NULL, quality INTEGER NOT NULL);
CREATE INDEX IF NOT EXISTS version_quality_of_block ON version_quality(as_id, first_index);
)";

/// The parts of a block's data: the times of an unclocked block (int64), then the columns of its layout.
/// First byte 0: all parts raw, one after the other. First byte 1: before each part its packing (one byte) and its
/// length (uint32).
enum class BlockForm : std::uint8_t { plain = 0, packed = 1 };

/// begin_ns int64, min, max, mean, squares float64, count uint32, worst uint8, three zeros: 48 bytes a bucket, little
/// endian.
inline constexpr std::size_t bucketBytes = 48;

inline std::vector<std::byte> packBuckets(std::span<const Bucket> buckets) {
    std::vector<std::byte> out(buckets.size() * bucketBytes);
    std::byte* p = out.data();
    for (const Bucket& b : buckets) {
        std::memcpy(p, &b.begin.ns, 8);
        std::memcpy(p + 8, &b.summary.min, 8);
        std::memcpy(p + 16, &b.summary.max, 8);
        std::memcpy(p + 24, &b.summary.mean, 8);
        std::memcpy(p + 32, &b.summary.squares, 8);
        std::memcpy(p + 40, &b.summary.count, 4);
        p[44] = static_cast<std::byte>(b.worst);
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
        std::memcpy(&b.summary.squares, p + 32, 8);
        std::memcpy(&b.summary.count, p + 40, 4);
        b.worst = qualityFromNumber(std::to_integer<int>(p[44]));
        p += bucketBytes;
    }
    return out;
}

}  // namespace cruscotto::runformat
