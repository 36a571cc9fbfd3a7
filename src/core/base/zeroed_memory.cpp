#include "core/base/zeroed_memory.h"

#include <sys/mman.h>

#include <cstdlib>
#include <new>

namespace cruscotto {

namespace {
constexpr std::size_t large = std::size_t{1} << 17;
}  // namespace

void* zeroedMemory(std::size_t bytes) {
    if (bytes < large) {
        if (void* memory = std::calloc(bytes, 1)) return memory;
        throw std::bad_alloc();
    }
    void* memory = mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
    if (memory == MAP_FAILED) throw std::bad_alloc();
    return memory;
}

void freeZeroedMemory(void* memory, std::size_t bytes) {
    if (!memory) return;
    if (bytes < large)
        std::free(memory);
    else
        munmap(memory, bytes);
}

}  // namespace cruscotto
