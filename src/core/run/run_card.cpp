#include "core/run/run_card.h"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <sstream>

#include "core/run/run_file.h"

namespace cruscotto {

using sqlite::Statement;

namespace {
std::string folded(std::string words) {
    // Letters beyond ASCII are compared as they are written.
    for (char& c : words)
        if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
    return words;
}
}  // namespace

std::string RunCard::fileName() const {
    return std::filesystem::path(path).stem().string();
}

std::string RunCard::title() const {
    return notes.title.empty() ? fileName() : notes.title;
}

std::string RunCard::began() const {
    if (beganUnixNs <= 0) return {};
    constexpr std::int64_t second = 1'000'000'000;
    const auto whole = static_cast<std::time_t>(beganUnixNs / second);
    std::tm local{};
    if (!localtime_r(&whole, &local)) return {};
    return fmt::format("{:%Y-%m-%d %H:%M}", local);
}

RunCard readRunCard(const std::string& path) {
    RunCard out;
    out.path = path;
    auto opened = openRunToRead(path);
    if (!opened) {
        out.problem = opened.error().message;
        return out;
    }
    sqlite3* const db = opened.value().get();
    if (Statement pages(db, "SELECT page_count * page_size FROM pragma_page_count, pragma_page_size"); pages.step())
        out.bytes = static_cast<std::uint64_t>(pages.integer(0));
    for (Statement fact(db, "SELECT key, value FROM run LIMIT 1000"); fact.step();) {
        const std::string key = fact.string(0);
        if (key == "bench") out.bench = fact.string(1);
        if (key == "state") out.closed = fact.string(1) == "closed";
        for (const auto& [name, words] : runNoteKeys)
            if (key == name) out.notes.*words = fact.string(1);
    }
    // One look at the index for each layout, however many blocks there are.
    Span span{};
    bool any = false;
    Statement ends(db,
                   "SELECT (SELECT min(t0_ns) FROM block WHERE layout_id = l.id), (SELECT max(end_ns) FROM block WHERE "
                   "layout_id = l.id AND t0_ns = (SELECT max(t0_ns) FROM block WHERE layout_id = l.id)) FROM layout l");
    while (ends.step()) {
        const Span one{{ends.integer(0)}, {ends.integer(1)}};
        if (ends.isNull(0) || ends.isNull(1) || !plausible(one.from) || !plausible(one.to) || one.to < one.from)
            continue;
        span = any ? Span{std::min(span.from, one.from), std::max(span.to, one.to)} : one;
        any = true;
    }
    out.length = span.to - span.from;
    if (Statement anchor(db, "SELECT at_ns, unix_ns FROM anchor ORDER BY rowid LIMIT 1"); anchor.step()) {
        const WallAnchor tied{{anchor.integer(0)}, anchor.integer(1)};
        if (plausible(tied)) out.beganUnixNs = tied.unixNs + (any ? (span.from - tied.at).ns : 0);
    }
    if (Statement count(db, "SELECT count(DISTINCT key) FROM signal"); count.step())
        out.signals = static_cast<std::size_t>(count.integer(0));
    if (Statement count(db, "SELECT count(*) FROM mark"); count.step())
        out.markCount = static_cast<std::size_t>(count.integer(0));
    for (Statement mark(db, "SELECT words FROM mark ORDER BY at_ns LIMIT 100"); mark.step();)
        out.marks.push_back(mark.string(0));
    return out;
}

std::vector<std::string> runsIn(const std::string& folder, std::size_t most) {
    namespace fs = std::filesystem;
    std::vector<std::pair<fs::file_time_type, std::string>> all;
    std::error_code ec;
    constexpr int deepest = 8;
    for (fs::recursive_directory_iterator it(folder, fs::directory_options::skip_permission_denied, ec), end;
         !ec && it != end; it.increment(ec)) {
        if (it.depth() >= deepest) it.disable_recursion_pending();
        std::error_code own;
        if (it->path().extension() != ".run" || !it->is_regular_file(own)) continue;
        all.emplace_back(it->last_write_time(own), it->path().string());
        if (all.size() >= most) break;
    }
    std::ranges::sort(all, std::greater{});
    std::vector<std::string> out;
    out.reserve(all.size());
    for (auto& [when, path] : all) out.push_back(std::move(path));
    return out;
}

bool isDay(const std::string& text) {
    constexpr std::string_view form = "dddd-dd-dd";
    if (text.size() != form.size()) return false;
    for (std::size_t i = 0; i < form.size(); ++i)
        if (form[i] == 'd' ? text[i] < '0' || text[i] > '9' : text[i] != '-') return false;
    const int month = std::stoi(text.substr(5, 2)), day = std::stoi(text.substr(8, 2));
    return month >= 1 && month <= 12 && day >= 1 && day <= 31;
}

bool found(const RunCard& card, const RunSearch& search) {
    const std::string began = card.began(), day = began.substr(0, 10);
    if (!search.since.empty() && (day.empty() || day < search.since)) return false;
    if (!search.until.empty() && (day.empty() || day > search.until)) return false;
    std::string all = card.fileName() + '\n' + card.bench + '\n' + began;
    for (const auto& [key, words] : runNoteKeys) all += '\n' + card.notes.*words;
    for (const std::string& mark : card.marks) all += '\n' + mark;
    all = folded(std::move(all));
    std::istringstream words(folded(search.words));
    for (std::string word; words >> word;)
        if (all.find(word) == std::string::npos) return false;
    return true;
}

}  // namespace cruscotto
