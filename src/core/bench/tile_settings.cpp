#include "core/bench/tile_settings.h"

#include <algorithm>

#include "core/base/number_text.h"

namespace cruscotto {

namespace {

using Type = TileSetting::Type;

TileSetting timeLookedAt() {
    return {"of",
            CRUSCOTTO_TEXT("Of"),
            Type::choice,
            "window",
            {{"window", CRUSCOTTO_TEXT("what the traces show")},
             {"60", CRUSCOTTO_TEXT("the last minute")},
             {"600", CRUSCOTTO_TEXT("the last ten minutes")},
             {"3600", CRUSCOTTO_TEXT("the last hour")}}};
}

const std::vector<TileSetting>& ofSpectrum() {
    static const std::vector<TileSetting> all{
        {"shows",
         CRUSCOTTO_TEXT("Shows"),
         Type::choice,
         "amplitude",
         {{"amplitude", CRUSCOTTO_TEXT("amplitude of each line")},
          {"rms", CRUSCOTTO_TEXT("RMS of each line")},
          {"power", CRUSCOTTO_TEXT("power of each line")},
          {"density", CRUSCOTTO_TEXT("power density")},
          {"octaves", CRUSCOTTO_TEXT("RMS in octaves")},
          {"third-octaves", CRUSCOTTO_TEXT("RMS in third octaves")}}},
        {"for",
         CRUSCOTTO_TEXT("To read"),
         Type::choice,
         "both",
         {{"frequency", CRUSCOTTO_TEXT("the frequency")},
          {"both", CRUSCOTTO_TEXT("something of both")},
          {"level", CRUSCOTTO_TEXT("the level")}}},
        {"resolution-hz",
         CRUSCOTTO_TEXT("Lines every"),
         Type::choice,
         "1",
         {{"0.1", CRUSCOTTO_TEXT("0.1 Hz")},
          {"0.2", CRUSCOTTO_TEXT("0.2 Hz")},
          {"0.5", CRUSCOTTO_TEXT("0.5 Hz")},
          {"1", CRUSCOTTO_TEXT("1 Hz")},
          {"2", CRUSCOTTO_TEXT("2 Hz")},
          {"5", CRUSCOTTO_TEXT("5 Hz")},
          {"10", CRUSCOTTO_TEXT("10 Hz")},
          {"50", CRUSCOTTO_TEXT("50 Hz")}}},
        {"averages",
         CRUSCOTTO_TEXT("Mean of"),
         Type::choice,
         "4",
         {{"1", CRUSCOTTO_TEXT("one spectrum")},
          {"4", CRUSCOTTO_TEXT("4 spectra")},
          {"16", CRUSCOTTO_TEXT("16 spectra")},
          {"64", CRUSCOTTO_TEXT("64 spectra")}}},
        {"hold",
         CRUSCOTTO_TEXT("Highest so far"),
         Type::choice,
         "no",
         {{"no", CRUSCOTTO_TEXT("is not kept")}, {"yes", CRUSCOTTO_TEXT("stays behind it")}}},
        {"levels",
         CRUSCOTTO_TEXT("Levels"),
         Type::choice,
         "logarithmic",
         {{"linear", CRUSCOTTO_TEXT("linear")}, {"logarithmic", CRUSCOTTO_TEXT("logarithmic")}}},
        {"frequencies",
         CRUSCOTTO_TEXT("Frequencies"),
         Type::choice,
         "linear",
         {{"linear", CRUSCOTTO_TEXT("linear")}, {"logarithmic", CRUSCOTTO_TEXT("logarithmic")}}},
        {"speed", CRUSCOTTO_TEXT("Orders of the speed"), Type::signal},
        {"base-hz", CRUSCOTTO_TEXT("Harmonics of the line at, in Hz"), Type::number},
        {"over-time",
         CRUSCOTTO_TEXT("Spectra over time, below"),
         Type::choice,
         "no",
         {{"no", CRUSCOTTO_TEXT("are not shown")},
          {"window", CRUSCOTTO_TEXT("over what the traces show")},
          {"60", CRUSCOTTO_TEXT("over the last minute")},
          {"600", CRUSCOTTO_TEXT("over the last ten minutes")}}}};
    return all;
}

const std::vector<TileSetting>& ofTrace() {
    static const std::vector<TileSetting> all{
        {"time-s", CRUSCOTTO_TEXT("Time of its own, in seconds"), Type::number},
        {"lens",
         CRUSCOTTO_TEXT("While a stretch stands"),
         Type::choice,
         "no",
         {{"no", CRUSCOTTO_TEXT("it shows the time around it too")},
          {"yes", CRUSCOTTO_TEXT("it shows the stretch alone, as a lens")}}},
        {"own-lanes", CRUSCOTTO_TEXT("In lanes of their own"), Type::kept},
        {"hold",
         CRUSCOTTO_TEXT("Stand still"),
         Type::choice,
         "no",
         {{"no", CRUSCOTTO_TEXT("no: time runs on")},
          {"rise", CRUSCOTTO_TEXT("on a rise")},
          {"fall", CRUSCOTTO_TEXT("on a fall")}}},
        {"hold-on", CRUSCOTTO_TEXT("On a signal"), Type::signal},
        {"hold-level", CRUSCOTTO_TEXT("Through the level"), Type::number},
        {"hold-before",
         CRUSCOTTO_TEXT("Time before it"),
         Type::choice,
         "25",
         {{"0", CRUSCOTTO_TEXT("none")},
          {"10", CRUSCOTTO_TEXT("a tenth")},
          {"25", CRUSCOTTO_TEXT("a quarter")},
          {"50", CRUSCOTTO_TEXT("half")},
          {"75", CRUSCOTTO_TEXT("three quarters")}}},
        {"hold-again",
         CRUSCOTTO_TEXT("And then"),
         Type::choice,
         "again",
         {{"again", CRUSCOTTO_TEXT("again and again")}, {"once", CRUSCOTTO_TEXT("no more: a single one")}}},
        {"values",
         CRUSCOTTO_TEXT("Values"),
         Type::choice,
         "linear",
         {{"linear", CRUSCOTTO_TEXT("linear")}, {"logarithmic", CRUSCOTTO_TEXT("logarithmic")}}},
        {"behind",
         CRUSCOTTO_TEXT("Behind the newest"),
         Type::choice,
         "nothing",
         {{"nothing", CRUSCOTTO_TEXT("nothing")},
          {"last", CRUSCOTTO_TEXT("the last 16, faint")},
          {"mean", CRUSCOTTO_TEXT("the mean of the last 16")},
          {"envelope", CRUSCOTTO_TEXT("the extremes of the last 16")}}}};
    return all;
}

const std::vector<TileSetting>& ofHistogram() {
    static const std::vector<TileSetting> all{
        timeLookedAt(),
        {"normal",
         CRUSCOTTO_TEXT("Normal curve"),
         Type::choice,
         "yes",
         {{"yes", CRUSCOTTO_TEXT("is drawn")}, {"no", CRUSCOTTO_TEXT("is not drawn")}}}};
    return all;
}

const std::vector<TileSetting>& ofPlane() {
    static const std::vector<TileSetting> all{
        timeLookedAt(), {"reference", CRUSCOTTO_TEXT("Reference curve: x y; x y …"), Type::words}};
    return all;
}

const std::vector<TileSetting>& ofTable() {
    static const std::vector<TileSetting> all{timeLookedAt(),
                                              {"columns",
                                               CRUSCOTTO_TEXT("Columns"),
                                               Type::several,
                                               "value,mean,lowest,highest",
                                               {{"value", CRUSCOTTO_TEXT("value")},
                                                {"mean", CRUSCOTTO_TEXT("mean")},
                                                {"spread", CRUSCOTTO_TEXT("spread")},
                                                {"lowest", CRUSCOTTO_TEXT("lowest")},
                                                {"highest", CRUSCOTTO_TEXT("highest")},
                                                {"limits", CRUSCOTTO_TEXT("limits")}}}};
    return all;
}

const std::vector<TileSetting>& ofText() {
    static const std::vector<TileSetting> all{
        {"words", CRUSCOTTO_TEXT("Words, with {signals} in braces"), Type::words}};
    return all;
}

const std::vector<TileSetting>& ofPicture() {
    static const std::vector<TileSetting> all{{"picture", CRUSCOTTO_TEXT("Photo or drawing"), Type::picture},
                                              {"pins", CRUSCOTTO_TEXT("Pins"), Type::kept}};
    return all;
}
const std::vector<TileSetting>& ofControl() {
    static const std::vector<TileSetting> all{
        {"step", CRUSCOTTO_TEXT("One step (keys + and −)"), TileSetting::Type::number}};
    return all;
}

const TileSetting* settingNamed(TileKind kind, const std::string& key) {
    for (const TileSetting& s : tileSettings(kind))
        if (s.key == key) return &s;
    return nullptr;
}

std::vector<std::string> parts(const std::string& text) {
    std::vector<std::string> out;
    std::size_t begin = 0;
    while (begin < text.size()) {
        const std::size_t end = std::min(text.find(',', begin), text.size());
        if (end > begin) out.push_back(text.substr(begin, end - begin));
        begin = end + 1;
    }
    return out;
}

}  // namespace

std::span<const TileSetting> tileSettings(TileKind kind) {
    switch (kind) {
        case TileKind::trace:
            return ofTrace();
        case TileKind::spectrum:
            return ofSpectrum();
        case TileKind::histogram:
            return ofHistogram();
        case TileKind::plane:
            return ofPlane();
        case TileKind::table:
            return ofTable();
        case TileKind::text:
            return ofText();
        case TileKind::picture:
            return ofPicture();
        case TileKind::control:
            return ofControl();
        default:
            return {};
    }
}

const std::string& settingOf(const TileSpec& tile, const std::string& key) {
    if (const auto it = tile.settings.find(key); it != tile.settings.end()) return it->second;
    static const std::string nothing;
    const TileSetting* setting = settingNamed(tile.kind, key);
    return setting ? setting->first : nothing;
}

std::optional<double> numberOf(const TileSpec& tile, const std::string& key) {
    double v = 0;
    return parseNumber(settingOf(tile, key), v) ? std::optional(v) : std::nullopt;
}

std::vector<std::string> severalOf(const TileSpec& tile, const std::string& key) {
    return parts(settingOf(tile, key));
}

Result<void> checkTileSetting(TileKind kind, const std::string& key, const std::string& value) {
    const TileSetting* setting = settingNamed(kind, key);
    if (!setting) return failure("A tile of this kind has nothing that is called \"{0}\".", key);
    const auto known = [&](const std::string& v) {
        return std::ranges::any_of(setting->choices, [&](const auto& c) { return c.first == v; });
    };
    std::string all;
    for (const auto& [name, title] : setting->choices) all += (all.empty() ? "" : ", ") + name;
    if (setting->type == Type::choice && !known(value))
        return failure("\"{0}\" is not known here. Use one of: {1}.", value, all);
    double number = 0;
    if (setting->type == Type::number && !value.empty() && !parseNumber(value, number))
        return failure("\"{0}\" is no number.", value);
    if (setting->type == Type::several)
        for (const std::string& part : parts(value))
            if (!known(part)) return failure("\"{0}\" is not known here. Use some of: {1}.", part, all);
    return {};
}

std::string filledWords(const std::string& words, const std::function<std::string(const std::string&)>& read) {
    std::string out;
    for (std::size_t i = 0; i < words.size();) {
        const std::size_t end = words[i] == '{' ? words.find('}', i) : std::string::npos;
        if (end == std::string::npos) {
            out += words[i++];
            continue;
        }
        out += read(words.substr(i + 1, end - i - 1));
        i = end + 1;
    }
    return out;
}

}  // namespace cruscotto
