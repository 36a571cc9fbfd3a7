#pragma once

#include <sqlite3.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <map>
#include <memory>
#include <mutex>
#include <random>
#include <string>
#include <string_view>
#include <vector>

namespace cruscotto::test {

/// A disk that can be filled, held up, write-protected and cut off from power, under everything that SQLite writes
/// while an object of this lives. Files go through to the real ones; beside them it knows of each what the disk has
/// confirmed, and what has been written since.
class TestDisk {
public:
    TestDisk() {
        current() = this;
        real_ = sqlite3_vfs_find(nullptr);
        vfs_ = *real_;
        vfs_.zName = "test-disk";
        vfs_.szOsFile = static_cast<int>(sizeof(File)) + real_->szOsFile;
        vfs_.pNext = nullptr;
        vfs_.xOpen = &TestDisk::open;
        vfs_.xDelete = &TestDisk::remove;
        sqlite3_vfs_register(&vfs_, 1);
    }
    ~TestDisk() {
        sqlite3_vfs_unregister(&vfs_);
        sqlite3_vfs_register(real_, 1);
        current() = nullptr;
    }
    TestDisk(const TestDisk&) = delete;
    TestDisk& operator=(const TestDisk&) = delete;

    std::atomic<bool> full{false};  ///< nothing that makes a file longer is written
    std::atomic<bool> writeProtected{false};
    /// While false, whoever asks the disk to confirm something waits.
    std::atomic<bool> confirming{true};
    void confirmAgain() {
        confirming = true;
        confirming.notify_all();
    }

    /// What the disk has confirmed of one file, in pages that copies of it share.
    class Pages {
    public:
        void assign(std::string_view bytes) {
            pages_.clear();
            length_ = 0;
            put(0, bytes);
        }
        void put(std::size_t at, std::string_view bytes) {
            if (length_ < at + bytes.size()) resize(at + bytes.size());
            while (!bytes.empty()) {
                const std::size_t n = std::min(bytes.size(), SIZE - at % SIZE);
                auto& page = pages_[at / SIZE];
                // Only this disk's own thread writes; who holds the page elsewhere keeps it as it was.
                if (page.use_count() != 1) page = std::make_shared<Page>(page ? *page : Page{});
                std::memcpy(page->data() + at % SIZE, bytes.data(), n);
                at += n;
                bytes.remove_prefix(n);
            }
        }
        void resize(std::size_t length) {
            if (length < length_ && length % SIZE != 0) {
                auto& last = pages_[length / SIZE];
                last = std::make_shared<Page>(last ? *last : Page{});
                std::fill(last->begin() + static_cast<std::ptrdiff_t>(length % SIZE), last->end(), '\0');
            }
            pages_.resize((length + SIZE - 1) / SIZE);
            length_ = length;
        }
        void writeTo(const std::filesystem::path& path) const {
            std::ofstream out(path, std::ios::binary);
            for (std::size_t i = 0; i < pages_.size(); ++i) {
                const Page empty{};
                out.write((pages_[i] ? *pages_[i] : empty).data(),
                          static_cast<std::streamsize>(std::min(SIZE, length_ - i * SIZE)));
            }
        }

    private:
        static constexpr std::size_t SIZE = 4096;
        using Page = std::array<char, SIZE>;
        std::vector<std::shared_ptr<Page>> pages_;  // null: zeros
        std::size_t length_ = 0;
    };
    struct Change {
        std::size_t at = 0;
        std::shared_ptr<const std::string> bytes;  // null: the file was cut to `at`
    };
    struct Content {
        bool there = false;
        Pages confirmed;
        std::vector<Change> since;
    };
    /// What the disk held at one moment: cheap to take, so that taking it does not slow down who writes.
    using Moment = std::map<std::string, Content>;

    [[nodiscard]] Moment now() {
        const std::lock_guard lock(mutex_);
        return files_;
    }
    /// Puts into `folder` what the disk may hold if the power went away at `moment`: all that was confirmed, and of the
    /// rest, a sector of 4 KiB each, what `keep` says (the chance to have been written).
    static void cutPower(Moment moment, const std::string& folder, double keep, unsigned seed) {
        std::minstd_rand random(seed);
        std::bernoulli_distribution kept(keep);
        for (auto& [path, content] : moment) {
            if (!content.there) continue;
            for (const Change& c : content.since) {
                if (!c.bytes) {
                    if (kept(random)) content.confirmed.resize(c.at);
                    continue;
                }
                for (std::size_t done = 0; done < c.bytes->size();) {
                    const std::size_t n = std::min(c.bytes->size() - done, 4096 - (c.at + done) % 4096);
                    if (kept(random)) content.confirmed.put(c.at + done, std::string_view(*c.bytes).substr(done, n));
                    done += n;
                }
            }
            content.confirmed.writeTo(std::filesystem::path(folder) / std::filesystem::path(path).filename());
        }
    }

private:
    struct File {
        sqlite3_file base;
        sqlite3_io_methods methods;
        sqlite3_file* real;
        std::string* path;  // null: a file that SQLite deletes by itself
    };

    static TestDisk*& current() {
        static TestDisk* disk = nullptr;
        return disk;
    }
    static File* of(sqlite3_file* f) { return reinterpret_cast<File*>(f); }
    static sqlite3_file* realOf(sqlite3_file* f) { return of(f)->real; }
    static int open(sqlite3_vfs*, const char* name, sqlite3_file* f, int flags, int* outFlags) {
        TestDisk& d = *current();
        File* file = of(f);
        std::memset(static_cast<void*>(file), 0, static_cast<std::size_t>(d.vfs_.szOsFile));
        file->real = reinterpret_cast<sqlite3_file*>(file + 1);
        const int r = d.real_->xOpen(d.real_, name, file->real, flags, outFlags);
        if (r != SQLITE_OK) return r;
        if (name && !(flags & SQLITE_OPEN_DELETEONCLOSE)) {
            file->path = new std::string(name);
            const std::lock_guard lock(d.mutex_);
            Content& content = d.files_[name];
            if (!content.there) {
                // What is there already has been confirmed by whoever made it.
                std::ifstream before(name, std::ios::binary);
                content = {true, {}, {}};
                content.confirmed.assign(std::string{std::istreambuf_iterator<char>(before), {}});
            }
        }
        sqlite3_io_methods& m = file->methods;
        m.iVersion = 2;
        m.xClose = [](sqlite3_file* x) {
            delete of(x)->path;
            return realOf(x)->pMethods->xClose(realOf(x));
        };
        m.xRead = [](sqlite3_file* x, void* to, int n, sqlite3_int64 at) {
            return realOf(x)->pMethods->xRead(realOf(x), to, n, at);
        };
        m.xWrite = &TestDisk::write;
        m.xTruncate = &TestDisk::cut;
        m.xSync = &TestDisk::sync;
        m.xFileSize = [](sqlite3_file* x, sqlite3_int64* n) { return realOf(x)->pMethods->xFileSize(realOf(x), n); };
        m.xLock = [](sqlite3_file* x, int l) { return realOf(x)->pMethods->xLock(realOf(x), l); };
        m.xUnlock = [](sqlite3_file* x, int l) { return realOf(x)->pMethods->xUnlock(realOf(x), l); };
        m.xCheckReservedLock = [](sqlite3_file* x, int* l) {
            return realOf(x)->pMethods->xCheckReservedLock(realOf(x), l);
        };
        m.xFileControl = [](sqlite3_file* x, int op, void* arg) {
            return op == SQLITE_FCNTL_SIZE_HINT ? SQLITE_OK : realOf(x)->pMethods->xFileControl(realOf(x), op, arg);
        };
        m.xSectorSize = [](sqlite3_file* x) { return realOf(x)->pMethods->xSectorSize(realOf(x)); };
        // A sector that is being written when the power goes may be lost, but its neighbours are not touched.
        m.xDeviceCharacteristics = [](sqlite3_file*) { return SQLITE_IOCAP_POWERSAFE_OVERWRITE; };
        m.xShmMap = [](sqlite3_file* x, int i, int n, int w, void volatile** p) {
            return realOf(x)->pMethods->xShmMap(realOf(x), i, n, w, p);
        };
        m.xShmLock = [](sqlite3_file* x, int o, int n, int fl) {
            return realOf(x)->pMethods->xShmLock(realOf(x), o, n, fl);
        };
        m.xShmBarrier = [](sqlite3_file* x) { realOf(x)->pMethods->xShmBarrier(realOf(x)); };
        m.xShmUnmap = [](sqlite3_file* x, int del) { return realOf(x)->pMethods->xShmUnmap(realOf(x), del); };
        file->base.pMethods = &file->methods;
        return SQLITE_OK;
    }
    static int write(sqlite3_file* f, const void* from, int n, sqlite3_int64 at) {
        TestDisk& d = *current();
        if (d.writeProtected) return SQLITE_READONLY;
        const std::lock_guard lock(d.mutex_);
        if (d.full) {
            sqlite3_int64 size = 0;
            realOf(f)->pMethods->xFileSize(realOf(f), &size);
            if (at + n > size) return SQLITE_FULL;
        }
        if (of(f)->path)
            d.files_[*of(f)->path].since.push_back(
                {static_cast<std::size_t>(at),
                 std::make_shared<const std::string>(static_cast<const char*>(from), static_cast<std::size_t>(n))});
        return realOf(f)->pMethods->xWrite(realOf(f), from, n, at);
    }
    static int cut(sqlite3_file* f, sqlite3_int64 size) {
        TestDisk& d = *current();
        const std::lock_guard lock(d.mutex_);
        if (of(f)->path) d.files_[*of(f)->path].since.push_back({static_cast<std::size_t>(size), nullptr});
        return realOf(f)->pMethods->xTruncate(realOf(f), size);
    }
    static int sync(sqlite3_file* f, int) {
        TestDisk& d = *current();
        std::size_t known = 0;
        if (of(f)->path) {
            const std::lock_guard lock(d.mutex_);
            known = d.files_[*of(f)->path].since.size();
        }
        d.confirming.wait(false);
        if (!of(f)->path) return SQLITE_OK;
        const std::lock_guard lock(d.mutex_);
        Content& content = d.files_[*of(f)->path];
        known = std::min(known, content.since.size());
        for (std::size_t i = 0; i < known; ++i) {
            const Change& c = content.since[i];
            if (c.bytes)
                content.confirmed.put(c.at, *c.bytes);
            else
                content.confirmed.resize(c.at);
        }
        content.since.erase(content.since.begin(), content.since.begin() + static_cast<std::ptrdiff_t>(known));
        return SQLITE_OK;
    }
    static int remove(sqlite3_vfs*, const char* name, int syncFolder) {
        TestDisk& d = *current();
        const std::lock_guard lock(d.mutex_);
        d.files_[name] = {};
        return d.real_->xDelete(d.real_, name, syncFolder);
    }

    sqlite3_vfs* real_ = nullptr;
    sqlite3_vfs vfs_{};
    std::mutex mutex_;
    Moment files_;  // guarded by mutex_
};

}  // namespace cruscotto::test
