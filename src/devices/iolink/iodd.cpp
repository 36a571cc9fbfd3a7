#include "devices/iolink/iodd.h"
#include "core/base/parsed.h"
#include "core/base/whole_file.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <map>
#include <pugixml.hpp>
#include <set>

namespace cruscotto {

namespace {

using pugi::xml_node;
constexpr std::size_t largestFile = 20'000'000, mostValues = 500, mostParameters = 2000;

std::optional<double> number(const char* s) {
    const std::string_view text = s;
    double v = 0;
    if (text.starts_with("0x") || text.starts_with("0X")) {
        std::uint64_t whole = 0;
        if (!parsed(text.substr(2), whole, 16)) return std::nullopt;
        return static_cast<double>(whole);
    }
    if (!parsed(text, v) || !std::isfinite(v)) return std::nullopt;
    return v;
}
double numberOr(const xml_node& n, const char* attribute, double otherwise) {
    return number(n.attribute(attribute).as_string()).value_or(otherwise);
}
/// A whole number in these bounds, whatever stands there.
int wholeOr(const xml_node& n, const char* attribute, int otherwise) {
    return static_cast<int>(std::clamp(numberOr(n, attribute, otherwise), -1e6, 1e6));
}
std::size_t countOr(const xml_node& n, const char* attribute, double otherwise) {
    return static_cast<std::size_t>(std::clamp(numberOr(n, attribute, otherwise), 0., 4096.));
}

/// How a value is shown, where a menu or the process data's references say so.
struct Shown {
    double gradient = 1, offset = 0;
    std::string unit;
};

/// Names of which no two are the same: "Level", "Level 2" ...
class Names {
public:
    std::string own(const std::string& name) {
        std::string out = name;
        for (int& next = next_.try_emplace(name, 2).first->second; !taken_.insert(out).second; ++next)
            out = name + " " + std::to_string(next);
        return out;
    }

private:
    std::set<std::string> taken_;
    std::map<std::string, int> next_;  // the number to try, by the name that was asked for
};

class Reader {
public:
    explicit Reader(const xml_node& device) : device_(device) {
        const xml_node texts = device.child("ExternalTextCollection").child("PrimaryLanguage");
        for (const xml_node& t : texts.children("Text"))
            texts_[t.attribute("id").as_string()] = t.attribute("value").as_string();
        const xml_node function = device.child("ProfileBody").child("DeviceFunction");
        for (const xml_node& t : function.child("DatatypeCollection").children("Datatype"))
            types_[t.attribute("id").as_string()] = t;
        const xml_node interface = function.child("UserInterface");
        for (const xml_node& data : interface.child("ProcessDataRefCollection").children("ProcessDataRef"))
            for (const xml_node& info : data.children()) {
                const std::string item = std::string_view(info.name()) == "ProcessDataRecordItemInfo"
                                             ? info.attribute("subindex").as_string()
                                             : "0";
                shown_[std::string(data.attribute("processDataId").as_string()) + "/" + item] = shownBy(info);
            }
        for (const xml_node& menu : interface.child("MenuCollection").children("Menu"))
            for (const xml_node& ref : menu.children()) {
                const std::string_view kind = ref.name();
                if (kind != "VariableRef" && kind != "RecordItemRef") continue;
                shown_.try_emplace(std::string(ref.attribute("variableId").as_string()) + "/" +
                                       ref.attribute("subindex").as_string("0"),
                                   shownBy(ref));
            }
    }

    Result<Iodd> read() {
        Iodd out;
        const xml_node identity = device_.child("ProfileBody").child("DeviceIdentity");
        const auto vendor = number(identity.attribute("vendorId").as_string()),
                   id = number(identity.attribute("deviceId").as_string());
        if (!vendor || !id)
            return failure(
                "It does not say which sensor it is of: DeviceIdentity with vendorId and deviceId is missing.");
        out.vendorId = static_cast<std::uint32_t>(std::clamp(*vendor, 0., 65535.));
        out.deviceId = static_cast<std::uint32_t>(std::clamp(*id, 0., 16777215.));
        out.vendor = identity.attribute("vendorName").as_string();
        out.device = textOf(identity.child("DeviceName"));
        const xml_node function = device_.child("ProfileBody").child("DeviceFunction");
        for (const xml_node& data : function.child("ProcessDataCollection").children("ProcessData")) {
            // Of layouts that a parameter chooses between, the first is taken.
            if (!out.in.empty() || !out.out.empty()) break;
            const std::string name = data.attribute("id").as_string();
            processData(data.child("ProcessDataIn"), out.in, out.inBits);
            processData(data.child("ProcessDataOut"), out.out, out.outBits);
        }
        const xml_node variables = function.child("VariableCollection");
        Names names;
        for (const xml_node& v : variables.children("Variable")) parameter(v, wholeOr(v, "index", -1), out, names);
        for (const xml_node& v : variables.children("StdVariableRef")) {
            const std::string_view which = v.attribute("id").as_string();
            if (which == "V_SystemCommand") {
                for (const xml_node& c : v.children()) {
                    const auto value = number(c.attribute("value").as_string());
                    if (!value || *value < 0 || *value > 255) continue;
                    const int code = static_cast<int>(*value);
                    std::string words = textOf(c);
                    if (words.empty()) words = standardCommand(code);
                    if (!words.empty()) out.commands.emplace_back(code, words);
                }
            } else if (which == "V_ApplicationSpecificTag") {
                IoddParameter p;
                p.value.name = "Application tag";
                p.value.type = IoddValue::Type::text;
                p.value.bits = 8 * 32;
                p.index = 24;
                p.writable = std::string_view(v.attribute("accessRights").as_string("rw")) != "ro";
                out.parameters.push_back(p);
            }
        }
        if (out.in.empty() && out.out.empty() && out.parameters.empty())
            return failure("It describes neither process data nor parameters.");
        return out;
    }

private:
    Shown shownBy(const xml_node& n) const {
        Shown out{numberOr(n, "gradient", 1), numberOr(n, "offset", 0), {}};
        if (n.attribute("unitCode")) out.unit = ioddUnit(wholeOr(n, "unitCode", 0));
        return out;
    }
    std::string textOf(const xml_node& n) const {
        const char* id =
            n.child("Name") ? n.child("Name").attribute("textId").as_string() : n.attribute("textId").as_string();
        const auto it = texts_.find(id);
        return it == texts_.end() ? "" : it->second;
    }
    static std::string standardCommand(int code) {
        switch (code) {
            case 128:
                return "Device reset";
            case 129:
                return "Application reset";
            case 130:
                return "Restore factory settings";
            case 131:
                return "Back to box";
            default:
                return "";
        }
    }
    /// The type that stands within, or the one that is referred to.
    xml_node typeOf(const xml_node& n) const {
        for (const char* name : {"Datatype", "SimpleDatatype"})
            if (const xml_node t = n.child(name)) return t;
        const auto it = types_.find(n.child("DatatypeRef").attribute("datatypeId").as_string());
        return it == types_.end() ? xml_node{} : it->second;
    }
    static std::string kindOf(const xml_node& type) {
        const std::string kind = type.attribute("xsi:type").as_string();
        const std::size_t colon = kind.find(':');
        return colon == std::string::npos ? kind : kind.substr(colon + 1);
    }
    bool value(const xml_node& type, IoddValue& out) const {
        const std::string kind = kindOf(type);
        out.bits = countOr(type, "bitLength", 8);
        if (kind == "BooleanT") {
            out.type = IoddValue::Type::boolean;
            out.bits = 1;
        } else if (kind == "UIntegerT") {
            out.type = IoddValue::Type::unsignedWhole;
        } else if (kind == "IntegerT") {
            out.type = IoddValue::Type::signedWhole;
        } else if (kind == "Float32T") {
            out.type = IoddValue::Type::real;
            out.bits = 32;
        } else if (kind == "StringT") {
            out.type = IoddValue::Type::text;
            out.bits = 8 * countOr(type, "fixedLength", 1);
        } else {
            return false;
        }
        if (out.type != IoddValue::Type::text && (out.bits < 1 || out.bits > 64)) return false;
        for (const xml_node& s : type.children("SingleValue")) {
            const std::string_view v = s.attribute("value").as_string();
            const auto n = v == "true"    ? std::optional<double>(1)
                           : v == "false" ? std::optional<double>(0)
                                          : number(s.attribute("value").as_string());
            const std::string words = textOf(s);
            if (n && std::fabs(*n) < 9e15 && !words.empty() && out.words.size() < 256)
                out.words.emplace_back(static_cast<std::int64_t>(*n), words);
        }
        if (const xml_node range = type.child("ValueRange")) {
            const auto low = number(range.attribute("lowerValue").as_string()),
                       high = number(range.attribute("upperValue").as_string());
            if (low && high && *low < *high) out.limits = Scale{*low, *high};
        }
        return true;
    }
    void take(const std::string& key, IoddValue& out) const {
        const auto it = shown_.find(key);
        if (it == shown_.end()) return;
        out.gradient = it->second.gradient == 0 ? 1 : it->second.gradient;
        out.offset = it->second.offset;
        out.unit = it->second.unit;
    }
    void processData(const xml_node& n, std::vector<IoddValue>& out, std::size_t& bits) const {
        if (!n) return;
        bits = std::min<std::size_t>(countOr(n, "bitLength", 0), 256);
        const std::string id = n.attribute("id").as_string();
        const xml_node type = typeOf(n);
        Names names;
        const auto add = [&](IoddValue v, std::string name) {
            if (v.type == IoddValue::Type::text || v.bitOffset + v.bits > bits || out.size() >= mostValues) return;
            if (name.empty()) name = "Value " + std::to_string(out.size() + 1);
            v.name = names.own(name);  // what a terminal is called
            out.push_back(std::move(v));
        };
        if (kindOf(type) == "RecordT") {
            for (const xml_node& item : type.children("RecordItem")) {
                IoddValue v;
                if (!value(typeOf(item), v)) continue;
                v.bitOffset = countOr(item, "bitOffset", 0);
                take(id + "/" + item.attribute("subindex").as_string(), v);
                add(std::move(v), textOf(item));
            }
        } else if (IoddValue v; value(type, v)) {
            take(id + "/0", v);
            add(std::move(v), textOf(n));
        }
    }
    void parameter(const xml_node& n, int index, Iodd& out, Names& names) const {
        if (index < 0 || index > 65535 || out.parameters.size() >= mostParameters) return;
        const std::string id = n.attribute("id").as_string(), access = n.attribute("accessRights").as_string("rw");
        IoddParameter p;
        p.index = index;
        p.readable = access != "wo";
        p.writable = access != "ro";
        const std::string name = textOf(n).empty() ? id : textOf(n);
        const xml_node type = typeOf(n);
        const auto add = [&](const std::string& called) {
            p.value.name = names.own(called);
            out.parameters.push_back(p);
        };
        if (kindOf(type) == "RecordT") {
            for (const xml_node& item : type.children("RecordItem")) {
                p.value = {};
                if (!value(typeOf(item), p.value) || out.parameters.size() >= mostParameters) continue;
                p.subindex = wholeOr(item, "subindex", 0);
                if (p.subindex < 1 || p.subindex > 255) continue;
                take(id + "/" + std::to_string(p.subindex), p.value);
                const std::string part = textOf(item);
                add(part.empty() ? name + " " + std::to_string(p.subindex) : name + ", " + part);
            }
        } else if (value(type, p.value)) {
            take(id + "/0", p.value);
            add(name);
        }
    }

    xml_node device_;
    std::map<std::string, std::string> texts_;
    std::map<std::string, xml_node> types_;
    std::map<std::string, Shown> shown_;  // by "id/subindex"
};

}  // namespace

SampleType IoddValue::sampleType() const {
    switch (type) {
        case Type::boolean:
            return SampleType::bit;
        case Type::real:
            return SampleType::float32;
        case Type::signedWhole:
            return bits <= 16 ? SampleType::int16 : bits <= 32 ? SampleType::int32 : SampleType::float64;
        case Type::unsignedWhole:
            return bits <= 15 ? SampleType::int16 : bits <= 32 ? SampleType::uint32 : SampleType::float64;
        case Type::text:
            break;
    }
    return SampleType::float64;
}

std::optional<double> IoddValue::raw(std::string_view bytes) const {
    if (type == Type::text || bitOffset + bits > 8 * bytes.size()) return std::nullopt;
    std::uint64_t out = 0;
    for (std::size_t i = 0; i < bits; ++i) {
        const std::size_t bit = bitOffset + bits - 1 - i;
        const auto byte = static_cast<std::uint8_t>(bytes[bytes.size() - 1 - bit / 8]);
        out = out << 1 | (byte >> (bit % 8) & 1U);
    }
    if (type == Type::real) return std::bit_cast<float>(static_cast<std::uint32_t>(out));
    if (type == Type::signedWhole) {
        if (bits > 0 && bits < 64 && (out >> (bits - 1) & 1U) != 0) out |= ~std::uint64_t{0} << bits;
        return static_cast<double>(static_cast<std::int64_t>(out));
    }
    return static_cast<double>(out);
}

void IoddValue::put(double value, std::string& bytes) const {
    std::uint64_t out = 0;
    if (type == Type::real) {
        out = std::bit_cast<std::uint32_t>(static_cast<float>(value));
    } else {
        const double span = std::ldexp(1.0, static_cast<int>(bits));
        const bool isSigned = type == Type::signedWhole;
        // The highest that a double can say: beyond 53 bits that is less than all ones.
        const double end = isSigned ? span / 2 : span, top = bits > 53 ? std::nextafter(end, 0.) : end - 1;
        const double held = std::isnan(value) ? 0 : std::clamp(std::round(value), isSigned ? -end : 0, top);
        out = isSigned ? static_cast<std::uint64_t>(static_cast<std::int64_t>(held)) : static_cast<std::uint64_t>(held);
    }
    for (std::size_t i = 0; i < bits; ++i) {
        const std::size_t bit = bitOffset + i;
        char& byte = bytes[bytes.size() - 1 - bit / 8];
        const auto mask = static_cast<std::uint8_t>(1U << (bit % 8));
        byte = static_cast<char>((out >> i & 1U) != 0 ? static_cast<std::uint8_t>(byte) | mask
                                                      : static_cast<std::uint8_t>(byte) & ~mask);
    }
}

Result<Iodd> readIodd(std::string_view xml) {
    pugi::xml_document document;
    if (xml.size() > largestFile) return failure("The description is larger than 20 MB.");
    const auto parsed = document.load_buffer(xml.data(), xml.size());
    if (!parsed) return failure("It is no XML: at byte {0}, {1}.", parsed.offset, std::string(parsed.description()));
    const xml_node device = document.child("IODevice");
    if (!device)
        return failure("It is no IO device description: its first element is \"{0}\", not IODevice.",
                       std::string(document.document_element().name()).substr(0, 100));
    return Reader(device).read();
}

Result<Iodd> loadIodd(const std::string& path) {
    const auto xml = readWholeFile(path, largestFile);
    if (!xml) return xml.error();
    auto read = readIodd(xml.value());
    if (!read) return failure("{0}: {1}", path, read.error().english());
    return read;
}

std::string ioddUnit(int code) {
    static const std::map<int, std::string> units{
        {1000, "K"},     {1001, "Cel"}, {1002, "[degF]"}, {1005, "deg"},  {1010, "m"},     {1012, "cm"},
        {1013, "mm"},    {1034, "m3"},  {1038, "L"},      {1054, "s"},    {1056, "ms"},    {1058, "min"},
        {1059, "h"},     {1061, "m/s"}, {1077, "Hz"},     {1081, "kHz"},  {1085, "{rpm}"}, {1088, "kg"},
        {1089, "g"},     {1130, "Pa"},  {1132, "MPa"},    {1133, "kPa"},  {1137, "bar"},   {1138, "mbar"},
        {1141, "[psi]"}, {1186, "W"},   {1190, "kW"},     {1209, "A"},    {1211, "mA"},    {1240, "V"},
        {1243, "mV"},    {1281, "Ohm"}, {1342, "%"},      {1349, "m3/h"}, {1351, "L/s"},   {1352, "L/min"}};
    if (const auto it = units.find(code); it != units.end()) return it->second;
    return "{unit " + std::to_string(code) + "}";
}

bool losesConnection(int command) {
    return command == 128 || command == 130 || command == 131;
}

}  // namespace cruscotto
