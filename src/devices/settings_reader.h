#pragma once

#include <initializer_list>
#include <map>
#include <nlohmann/json.hpp>
#include <optional>
#include <string>

#include "core/base/result.h"
#include "core/bench/bench.h"

namespace cruscotto {

/// A setting of pairs as it is typed: "name = text", one a line.
nlohmann::ordered_json pairsFromLines(const std::string& lines);
/// What somebody else calls it, such that it can stand for a name there.
std::string pairName(std::string called);

/// A device's settings, read key by key. What is missing has its default; what is there and wrong has its default too,
/// and an error that names the key. The first error is kept.
class SettingsReader {
public:
    /// An empty text is an object with nothing in it.
    explicit SettingsReader(const JsonText& settings);

    std::string word(const char* key, const char* otherwise = "");
    /// Bounds included. NaN cannot be.
    double number(const char* key, double otherwise, double least, double most);
    /// Precondition: bounds that an int holds.
    int whole(const char* key, int otherwise, int least, int most);
    int oneOf(const char* key, int otherwise, std::initializer_list<int> all);
    /// Which of the words it is.
    std::size_t choice(const char* key, std::size_t otherwise, std::initializer_list<const char*> words);
    /// True, or the word true.
    bool flag(const char* key);
    /// An object of names and texts.
    std::map<std::string, std::string> pairs(const char* key, std::size_t most);

    /// For what only this kind of device has. An object, empty where the settings are none.
    [[nodiscard]] const nlohmann::json& json() const { return json_; }
    void fail(Error error);
    /// The first thing that is wrong.
    [[nodiscard]] Result<void> result() const;

private:
    const nlohmann::json* find(const char* key) const;
    nlohmann::json json_;
    std::optional<Error> error_;
};

}  // namespace cruscotto
