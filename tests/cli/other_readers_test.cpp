// The Python reader that ships as an example, against the C++ one, sample by sample.
#include <nlohmann/json.hpp>

#include <cstdlib>

#include "core/export/run_export.h"
#include "core/run/run_replay.h"
#include "core/run/run_version.h"
#include "engine/engine.h"
#include "support.h"
#include "test_stages.h"

namespace cruscotto {
namespace {

using test::TempFolder;

constexpr const char* python = "/usr/bin/python3";

/// The reader writes every signal's times and raw samples into files of the folder.
int readByPython(const TempFolder& folder, const std::string& run) {
    const std::string script = "import sys; sys.path.insert(0, '" + std::string(test::sourceFolder) +
                               "/examples/python'); import cruscotto_run; r = cruscotto_run.Run('" + run +
                               "')\nfor k in r.signals:\n    t, v = r.samples(k)\n    t.astype('<i8').tofile('" +
                               folder.file("") + "/' + k + '.times'); v.tofile('" + folder.file("") +
                               "/' + k + '.samples'); assert r.definition(k)['id'] == k\n";
    test::writeFile(folder.file("read.py"), script);
    return std::system((std::string(python) + " -B " + folder.file("read.py")).c_str());
}

void expectTheSame(const TempFolder& folder, const std::string& path) {
    auto opened = RunReader::open(path);
    ASSERT_TRUE(opened.ok());
    RunReader& reader = *opened.value();
    for (const RunSignal& signal : reader.info().signals) {
        std::string times, samples;
        auto blocks = reader.blocks(signal.group, {RunReader::Part{}.span, {signal.id}});
        while (const BlockPtr block = blocks.next()) {
            const auto bytes = bytesOf(block->columns[0]);
            samples.append(reinterpret_cast<const char*>(bytes.data()), bytes.size());
            for (std::size_t i = 0; i < block->size(); ++i) {
                const std::int64_t t = block->timeOf(i).ns;
                times.append(reinterpret_cast<const char*>(&t), sizeof t);
            }
        }
        EXPECT_FALSE(samples.empty()) << signal.key;
        EXPECT_TRUE(test::readFile(folder.file(signal.key + ".samples")) == samples) << signal.key;
        EXPECT_TRUE(test::readFile(folder.file(signal.key + ".times")) == times) << signal.key;
    }
}

TEST(PythonReader, ReadsEverySampleOfEveryKind) {
    TempFolder folder;
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = seconds(7);
    auto engine = Engine::startRecorded(test::exampleBench("pump-bench"), folder.file("a.run"), options);
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    engine.value()->stop();
    ASSERT_EQ(readByPython(folder, folder.file("a.run")), 0);
    expectTheSame(folder, folder.file("a.run"));
}

TEST(PythonReader, SeesTheChainAsItWasCorrectedLast) {
    TempFolder folder;
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = seconds(2);
    Bench bench = test::exampleBench("pump-bench");
    auto engine = Engine::startRecorded(bench, folder.file("a.run"), options);
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    engine.value()->stop();
    SignalSpec corrected = *bench.signal("vibration");
    corrected.chain.emplace_back(slopeOffset(2, 0, "[g]"));
    struct : Progress {
        void advance(std::uint64_t, std::uint64_t) override {}
        [[nodiscard]] bool cancelled() const override { return false; }
    } quietly;
    ASSERT_TRUE(addRunVersion(folder.file("a.run"), {corrected}, "", 1, quietly).ok());
    ASSERT_EQ(readByPython(folder, folder.file("a.run")), 0);
    const std::string script = "import sys\nsys.path.insert(0, '" + std::string(test::sourceFolder) +
                               "/examples/python')\nimport cruscotto_run\nr = cruscotto_run.Run('" +
                               folder.file("a.run") +
                               "')\nassert r.definition('vibration')['chain'][-1]['slope'] == 2\n"
                               "assert r.definition('spare')['id'] == 'spare'\n";
    test::writeFile(folder.file("chain.py"), script);
    EXPECT_EQ(std::system((std::string(python) + " -B " + folder.file("chain.py")).c_str()), 0);
}

TEST(PythonReader, ReadsARunThatIsStillBeingRecorded) {
    TempFolder folder;
    Bench bench = test::exampleBench("pump-bench");
    auto engine = Engine::startRecorded(bench, folder.file("a.run"));
    ASSERT_TRUE(engine.ok());
    ASSERT_TRUE(test::eventually([&] { return engine.value()->recording().samples > 5000; }));
    ASSERT_EQ(readByPython(folder, folder.file("a.run")), 0);
    EXPECT_GT(test::readFile(folder.file("vibration.samples")).size(), 100U);
    ASSERT_TRUE(test::eventually([&] { return engine.value()->recording().samples > 10'000; }))
        << "the recording was not held up";
    EXPECT_EQ(engine.value()->stopRecording().lost, 0U);
}

/// What h5py sees in an exported file, against the readings themselves.
TEST(Hdf5Export, OpensElsewhereWithEveryReadingAndItsUnit) {
    TempFolder folder;
    EngineOptions options;
    options.pace = Pace::asFastAsPossible;
    options.until = seconds(36);  // more than a chunk of the file and less than two
    auto engine = Engine::startRecorded(test::exampleBench("pump-bench"), folder.file("a.run"), options);
    ASSERT_TRUE(engine.ok());
    engine.value()->wait();
    engine.value()->stop();
    struct : Progress {
        void advance(std::uint64_t done, std::uint64_t total) override { last = {done, total}; }
        [[nodiscard]] bool cancelled() const override { return stop; }
        std::pair<std::uint64_t, std::uint64_t> last;
        bool stop = false;
    } progress;
    ExportOptions part;
    part.from = seconds(1);
    part.to = seconds(35);
    part.signals = {"outlet-pressure", "flow", "guard-door", "drive"};
    const auto result = exportRun(folder.file("a.run"), folder.file("a.h5"), part, progress);
    ASSERT_TRUE(result.ok()) << result.error().english();
    EXPECT_EQ(progress.last.first, progress.last.second);
    EXPECT_EQ(result.value().samples[0], (std::pair<std::string, std::uint64_t>("outlet-pressure", 34'000)));
    test::writeFile(folder.file("read.py"),
                    "import h5py, json\nf = h5py.File('" + folder.file("a.h5") + "', 'r')\n" +
                        "g = f['box analog']\nd = g['outlet-pressure']\n"
                        "assert d.attrs['unit'] == b'bar' and d.attrs['dt'] == 0.001 and d.attrs['t0'] == 1.0\n"
                        "assert json.loads(d.attrs['chain'])['name'] == 'Outlet pressure'\n"
                        "assert b'50 samples' in d.attrs['calibration']\n"
                        "assert g.attrs['t0_ns'] == 1000000000 and g['pieces'][0].tolist() == [0, 1e9, 1e6]\n"
                        "q = g['outlet-pressure_quality']\n"
                        "assert q.shape == d.shape and q.dtype == 'uint8' and b'2 out of range' in q.attrs['meaning']\n"
                        "assert f['box counter']['flow'].shape == (3400,)\n"
                        "d[:].astype('<f8').tofile('" +
                        folder.file("out") + "')\n");
    ASSERT_EQ(std::system((std::string(python) + " -B " + folder.file("read.py")).c_str()), 0);
    auto opened = RunReader::open(folder.file("a.run"));
    const RunSignal* signal = opened.value()->info().signal("outlet-pressure");
    RunReplay replay(*opened.value(), signal->group, {RunReader::Part{}.span, {signal->id}});
    std::string expected;
    for (RunReplay::Step step; replay.next(step);)
        for (std::size_t i = 0; i < step.block->size(); ++i)
            if (const Instant t = step.block->timeOf(i); t.ns >= 1'000'000'000 && t.ns < 35'000'000'000)
                expected.append(reinterpret_cast<const char*>(&step.readings[0].values[i]), 8);
    EXPECT_TRUE(test::readFile(folder.file("out")) == expected);

    ExportOptions slow;
    slow.signals = {"drive"};
    ASSERT_TRUE(exportRun(folder.file("a.run"), folder.file("slow.h5"), slow, progress).ok());
    EXPECT_LT(std::filesystem::file_size(folder.file("slow.h5")), 30'000U) << "two samples need no large chunk";

    progress.stop = true;
    EXPECT_FALSE(exportRun(folder.file("a.run"), folder.file("b.h5"), {}, progress).ok());
    EXPECT_FALSE(std::filesystem::exists(folder.file("b.h5"))) << "a cancelled one leaves nothing behind";
    EXPECT_TRUE(test::leftBehind(folder).empty()) << test::leftBehind(folder);
    progress.stop = false;
    EXPECT_FALSE(exportRun(folder.file("a.run"), "/nonexistent/b.h5", {}, progress).ok());
}

}  // namespace
}  // namespace cruscotto
