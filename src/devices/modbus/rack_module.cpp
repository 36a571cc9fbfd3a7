#include "devices/modbus/rack_module.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "core/base/whole_file.h"
#include "core/chain/common_stages.h"

namespace cruscotto {

namespace {

/// In the format that a user's own file has.
constexpr std::array<std::pair<const char*, const char*>, 4> shipped{{
    {"analog-in-8", R"({"format":"cruscotto-module","version":1,"title":"8 analog inputs, 10 V or 20 mA",
      "size":{"input":8,"holding":16},
      "channels":[{"name":"AI{n}","count":8,"table":"input","address":0,"type":"i16",
                   "codes":[-27648,27648],"values":[-10,10],"unit":"V"}],
      "settings":[{"name":"type{n}","count":8,"title":"Input type of AI{n}","of":"AI{n}","table":"holding","address":0,
                   "choices":{"off":0,"10 V":1,"0 to 10 V":2,"4 to 20 mA":3}},
                  {"name":"filter{n}","count":8,"title":"Filter time of AI{n}","of":"AI{n}","table":"holding","address":8,
                   "unit":"ms","low":0,"high":10000}]})"},
    {"digital-in-16", R"({"format":"cruscotto-module","version":1,"title":"16 digital inputs, 24 V",
      "size":{"discrete":16,"holding":1},
      "channels":[{"name":"DI{n}","count":16,"table":"discrete","address":0}],
      "settings":[{"name":"filter","title":"Filter time of all inputs","of":"*","table":"holding","address":0,
                   "choices":{"none":0,"0.1 ms":1,"1 ms":2,"3 ms":3,"10 ms":4,"20 ms":5}}]})"},
    {"relay-out-8", R"({"format":"cruscotto-module","version":1,"title":"8 relays",
      "size":{"coil":8,"holding":1},
      "channels":[{"name":"DO{n}","count":8,"table":"coil","address":0,"out":true}],
      "settings":[{"name":"watchdog","title":"Relays open when nobody asks for so long; 0: never","table":"holding",
                   "address":0,"unit":"ms","low":0,"high":60000}]})"},
    {"counter-in-2", R"({"format":"cruscotto-module","version":1,"title":"2 pulse counters, 32 bit",
      "size":{"input":4,"holding":2},
      "channels":[{"name":"CT{n}","count":2,"table":"input","address":0,"type":"u32","counter":true}],
      "settings":[{"name":"edge{n}","count":2,"title":"CT{n} counts","of":"CT{n}","table":"holding","address":0,
                   "choices":{"rising edges":0,"falling edges":1,"both edges":2}}]})"},
}};

std::string numbered(std::string pattern, int n) {
    if (const std::size_t at = pattern.find("{n}"); at != std::string::npos) pattern.replace(at, 3, std::to_string(n));
    return pattern;
}

using Json = nlohmann::ordered_json;

std::string word(const Json& j, const char* key) {
    const auto it = j.find(key);
    return it != j.end() && it->is_string() ? it->get<std::string>() : "";
}
double number(const Json& j, const char* key, double otherwise) {
    const auto it = j.find(key);
    return it != j.end() && it->is_number() ? it->get<double>() : otherwise;
}
bool flag(const Json& j, const char* key) {
    const auto it = j.find(key);
    return it != j.end() && it->is_boolean() && it->get<bool>();
}
bool two(const Json& j, const char* key, double& a, double& b) {
    const auto it = j.find(key);
    if (it == j.end() || !it->is_array() || it->size() != 2 || !(*it)[0].is_number() || !(*it)[1].is_number())
        return false;
    a = (*it)[0].get<double>();
    b = (*it)[1].get<double>();
    return true;
}

/// The point that an entry of a list describes, its n-th.
Result<ModbusPoint> pointOf(const Json& entry, const std::map<ModbusTable, int>& size, int n) {
    const std::string name = numbered(word(entry, "name"), n);
    if (name.empty()) return failure("Each of \"channels\" and \"settings\" needs a \"name\".");
    const double address = number(entry, "address", -1);
    if (!(address >= 0 && address <= 65535) || address != static_cast<int>(address))
        return failure("{0}: \"address\" must be a whole number from 0 to 65535.", name);
    std::string words = fmt::format("{} {}", word(entry, "table"), static_cast<int>(address));
    if (const std::string type = word(entry, "type"); !type.empty()) words += " " + type;
    if (const std::string order = word(entry, "order"); !order.empty()) words += " " + order;
    if (flag(entry, "out")) words += " out";
    if (flag(entry, "counter")) words += " counter";
    auto point = modbusPoint(name, words);
    if (!point) return point;
    ModbusPoint& p = point.value();
    p.address = static_cast<std::uint16_t>(p.address + p.words() * static_cast<std::size_t>(n - 1));
    const auto it = size.find(p.table);
    if (it == size.end() || p.address + p.words() > static_cast<std::size_t>(it->second))
        return failure("{0} lies outside of what \"size\" says of the table \"{1}\".", name, modbusTableName(p.table));
    return point;
}

}  // namespace

bool RackModule::Setting::isOf(const std::string& channel) const {
    if (!of.ends_with('*')) return !of.empty() && of == channel;
    return channel.starts_with(std::string_view(of).substr(0, of.size() - 1));
}

Text moduleText(const RackModule& module, const std::string& name) {
    return text(CRUSCOTTO_TEXT("{0} ({1})"), module.title.english(), name);
}

Result<RackModule> readRackModule(const std::string& text) {
    JsonFault fault;
    const Json j = parseOrderedJson(text, &fault);
    if (!j.is_object()) return failure("The module's description is not JSON: {0}.", fault.words);
    if (word(j, "format") != "cruscotto-module") return failure("\"format\" must be cruscotto-module.");
    if (number(j, "version", 0) != 1) return failure("This version of the module's description is not known; 1 is.");
    RackModule out;
    out.title = word(j, "title");
    const auto size = j.find("size");
    if (size == j.end() || !size->is_object())
        return failure("\"size\" must say how many addresses it takes in each table.");
    for (const auto& [name, n] : size->items()) {
        auto table = modbusPoint(name, name + " 0");
        if (!table || !n.is_number_unsigned() || n.get<std::uint64_t>() > 65536)
            return failure(
                "\"size\" has the tables coil, discrete, holding and input, each with a number up to 65536.");
        out.size[table.value().table] = n.get<int>();
    }
    for (const char* list : {"channels", "settings"}) {
        const auto it = j.find(list);
        if (it == j.end()) continue;
        if (!it->is_array() || it->size() > 256) return failure("\"{0}\" must be a list of at most 256.", list);
        for (const Json& entry : *it) {
            if (!entry.is_object()) return failure("Each of \"{0}\" is an object in braces.", list);
            const double count = number(entry, "count", 1);
            if (!(count >= 1 && count <= 1024)) return failure("\"count\" must be 1 to 1024.");
            for (int n = 1; n <= static_cast<int>(count); ++n) {
                auto point = pointOf(entry, out.size, n);
                if (!point) return point.error();
                const Text title = numbered(word(entry, "title"), n);
                if (list == std::string("channels")) {
                    RackModule::ChannelInfo c{point.value(), title, {}};
                    double x1 = 0, x2 = 0, y1 = 0, y2 = 0;
                    if (two(entry, "codes", x1, x2) && two(entry, "values", y1, y2)) {
                        if (x1 == x2) return failure("{0}: the two \"codes\" must differ.", c.point.name);
                        const std::string unit = word(entry, "unit");
                        c.chain = {twoPoints(x1, y1, x2, y2, unit.empty() ? "1" : unit, "")};
                        if (const auto said = entry.find("accuracy"); said != entry.end()) {
                            const double reading = number(*said, "of-reading", 0),
                                         full = number(*said, "of-full-scale", 0);
                            if (!said->is_object() || !(reading >= 0 && reading <= 100 && full >= 0 && full <= 100))
                                return failure(
                                    "{0}: \"accuracy\" has \"of-reading\" and \"of-full-scale\", in percent.",
                                    c.point.name);
                            c.chain.push_back(
                                Stage::of("accuracy", {{"of-reading", reading},
                                                       {"of-full-scale", full},
                                                       {"full-scale", std::max(std::fabs(y1), std::fabs(y2))},
                                                       {"note", std::string("as its module's description says")}}));
                        }
                    }
                    out.channels.push_back(std::move(c));
                    continue;
                }
                RackModule::Setting s{point.value(), title, word(entry, "unit"), {}, {}, {}, {}};
                s.key = word(entry, "name");
                if (const std::size_t at = s.key.find("{n}"); at != std::string::npos) s.key.erase(at, 3);
                s.of = numbered(word(entry, "of"), n);
                if (!s.of.empty() && s.of != "*" &&
                    std::ranges::none_of(out.channels, [&](const auto& c) { return c.point.name == s.of; }))
                    return failure("{0}: \"of\" must be one of the module's channels, or * for all of them.",
                                   s.point.name);
                if (const auto choices = entry.find("choices"); choices != entry.end()) {
                    if (!choices->is_object() || choices->empty() || choices->size() > 256)
                        return failure("{0}: \"choices\" must be words with their codes.", s.point.name);
                    for (const auto& [choice, code] : choices->items()) {
                        if (!code.is_number_integer()) return failure("{0}: a choice has no code.", s.point.name);
                        s.choices.emplace_back(choice, code.get<int>());
                    }
                }
                const double low = number(entry, "low", 0), high = number(entry, "high", 0);
                if (high > low) s.limits = Scale{low, high};
                out.settings.push_back(std::move(s));
            }
        }
    }
    return out;
}

Result<RackModule> rackModule(const std::string& name) {
    for (const auto& [known, text] : shipped)
        if (name == known) return readRackModule(text);
    if (name.find('/') == std::string::npos) {
        std::string all;
        for (const std::string& known : rackModuleNames()) all += (all.empty() ? "" : ", ") + known;
        return failure("No module \"{0}\" is known. Use one of: {1}; or the path of a description.", name, all);
    }
    const auto description = readWholeFile(name, 1'000'000);
    if (!description) return description.error();
    auto module = readRackModule(description.value());
    if (!module) return failure("{0}: {1}", name, module.error().english());
    return module;
}

std::vector<std::string> rackModuleNames() {
    std::vector<std::string> out;
    for (const auto& [name, text] : shipped) out.emplace_back(name);
    return out;
}

Result<Rack> assembleRack(const std::map<int, std::string>& slots) {
    Rack rack;
    std::map<ModbusTable, int> next;
    for (const auto& [slot, name] : slots) {
        auto module = rackModule(name);
        if (!module) return failure("Slot {0}: {1}", slot, module.error().english());
        const auto place = [&, number = slot](ModbusPoint& p) {
            p.name = std::to_string(number) + "." + p.name;
            const int address = p.address + next[p.table];
            p.address = static_cast<std::uint16_t>(address);
            return address + static_cast<int>(p.words()) <= 65536;
        };
        bool fits = true;
        for (RackModule::ChannelInfo& c : module.value().channels) {
            fits = place(c.point) && fits;
            rack.channels.push_back(std::move(c));
        }
        for (RackModule::Setting& s : module.value().settings) {
            fits = place(s.point) && fits;
            if (!s.of.empty()) s.of = std::to_string(slot) + "." + s.of;
            rack.settings.push_back(std::move(s));
        }
        if (!fits) return failure("Slot {0}: with it the rack has more than 65536 addresses in a table.", slot);
        for (const auto& [table, n] : module.value().size) next[table] += n;
    }
    return rack;
}

}  // namespace cruscotto
