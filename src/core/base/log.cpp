#include "core/base/log.h"

#include "core/base/guarded.h"

#include <spdlog/sinks/null_sink.h>
#include <spdlog/sinks/rotating_file_sink.h>
#include <spdlog/spdlog.h>

#include <pwd.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>

namespace cruscotto {

namespace {
Mutex mutex;
std::shared_ptr<spdlog::logger> current GUARDED_BY(mutex);

std::shared_ptr<spdlog::logger> logger() {
    const Lock lock(mutex);
    return current;
}
}  // namespace

std::string defaultLogPath() {
    const char* state = std::getenv("XDG_STATE_HOME");
    if (state && *state == '/') return std::string(state) + "/cruscotto/cruscotto.log";
    const char* home = std::getenv("HOME");
    // A folder for all, as /tmp, would let others choose what is written through.
    if (!home || *home != '/') {
        const passwd* self = getpwuid(getuid());
        home = self ? self->pw_dir : nullptr;
    }
    return home && *home == '/' ? std::string(home) + "/.local/state/cruscotto/cruscotto.log" : std::string();
}

Result<void> logTo(const std::string& path) {
    if (path.empty()) return {};
    try {
        std::filesystem::create_directories(std::filesystem::path(path).parent_path());
        auto made = std::make_shared<spdlog::logger>(
            "cruscotto", std::make_shared<spdlog::sinks::rotating_file_sink_mt>(path, 1 << 20, 3));
        made->set_pattern("%Y-%m-%dT%H:%M:%S.%e%z %l %v");
        made->flush_on(spdlog::level::info);
        const Lock lock(mutex);
        current = std::move(made);
    } catch (const std::exception& e) {
        return failure("The log {0} cannot be written: {1}", path, e.what());
    }
    return {};
}

void logInfo(const std::string& line) {
    if (const auto l = logger()) l->info("{}", line);
}
void logWarning(const std::string& line) {
    if (const auto l = logger()) l->warn("{}", line);
}

}  // namespace cruscotto
