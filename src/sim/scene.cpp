#include "sim/scene.h"

#include "sim/pump_bench.h"
#include "sim/seed_sorter.h"

namespace cruscotto::sim {

std::unique_ptr<Scene> makeScene(std::string_view name, std::uint64_t seed) {
    if (name == "pump") return std::make_unique<PumpBench>(seed);
    if (name == "seed-sorter") return std::make_unique<SeedSorter>(seed);
    return nullptr;
}

std::span<const std::string_view> sceneFaults(std::string_view name) {
    static constexpr std::string_view pump[] = {"broken-outlet-wire", "clipped-vibration", "hum", "stalled-shaft",
                                                "dry-running"};
    static constexpr std::string_view sorter[] = {"broken-thermistor", "jammed-belt", "loaded-belt", "hum"};
    if (name == "seed-sorter") return sorter;
    return pump;
}

}  // namespace cruscotto::sim
