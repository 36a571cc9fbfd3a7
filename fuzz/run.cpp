// The run reader, on a good run of which the input changes some bytes: 4 bytes where, 1 what, again and again; a first
// byte of 255 cuts the file off there. Refused or partly read, never a crash or a hang.
#include "core/bench/bench.h"
#include "core/run/run_reader.h"
#include "core/run/run_writer.h"

#include <unistd.h>

#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

using namespace cruscotto;

namespace {

/// A folder that goes with the process.
struct Folder {
    std::string path;
    Folder() {
        std::string pattern = (std::filesystem::temp_directory_path() / "cruscotto-fuzz-XXXXXX").string();
        path = mkdtemp(pattern.data());
    }
    ~Folder() {
        std::error_code ec;
        std::filesystem::remove_all(path, ec);
    }
};
const std::string& folder() {
    static const Folder one;
    return one.path;
}

std::string goodRun() {
    const std::string path = folder() + "/good.run";
    Bench bench;
    bench.name = "Fuzzed";
    bench = withDevice(bench, {"box", "Box", "sim-io-box", "", ""});
    SignalSpec s;
    s.id = s.name = "in";
    s.device = "box";
    s.terminal = "AI0";
    bench = withSignal(bench, s);
    auto writer = RunWriter::create(path, bench, {});
    if (!writer) std::abort();
    auto group = std::make_shared<ScanGroup>();
    group->device = "box";
    group->name = "analog";
    group->rateHz = 1000;
    group->channels = {{"AI0", SampleType::int16, ChannelKind::analogInput}};
    for (std::uint64_t i = 0; i < 8; ++i) {
        auto block = std::make_shared<Block>();
        block->group = group;
        block->firstIndex = i * 400 + (i > 4 ? 100 : 0);
        block->t0 = {static_cast<std::int64_t>(block->firstIndex) * 1'000'000};
        block->dtNs = 1e6;
        std::vector<std::int16_t> v(400);
        for (std::size_t k = 0; k < v.size(); ++k) v[k] = static_cast<std::int16_t>(k * 37 % 501);
        block->columns.emplace_back(v);
        block->quality = {{{3, 9, Quality::clipped}}};
        if (i == 5) block->gapBefore = Gap{{2'000'000'000}, block->t0, 100, "Lost."};
        writer.value()->add(block, {{0, "in"}}, {{0, {2, {block->t0, {0, 1, 0.5, 400}}}}});
        if (!writer.value()->commit()) std::abort();
    }
    writer.value()->addMark({5}, "a mark");
    if (!writer.value()->close()) std::abort();
    std::ostringstream bytes;
    bytes << std::ifstream(path, std::ios::binary).rdbuf();
    return bytes.str();
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    static const std::string good = goodRun();
    std::string bytes = good;
    for (; size >= 5; data += 5, size -= 5) {
        std::uint32_t at = 0;
        std::memcpy(&at, data, 4);
        at %= static_cast<std::uint32_t>(good.size());
        if (data[3] == 255)
            bytes.resize(std::min<std::size_t>(bytes.size(), at));
        else if (at < bytes.size())
            bytes[at] = static_cast<char>(data[4]);
    }
    const std::string path = folder() + "/now.run";
    std::ofstream(path, std::ios::binary) << bytes;
    auto reader = RunReader::open(path);
    if (!reader) {
        if (reader.error().english().empty()) std::abort();
        return 0;
    }
    for (const RunGroup& g : reader.value()->info().groups) {
        auto blocks = reader.value()->blocks(g.id);
        while (const BlockPtr b = blocks.next())
            if (b->columns.size() != b->group->channels.size()) std::abort();
    }
    return 0;
}
