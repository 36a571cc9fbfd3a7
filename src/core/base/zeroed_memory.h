#pragma once

#include <cstddef>

namespace cruscotto {

/// Zeros, of which a page takes memory only from when it is first written to; given back to the system at once when it
/// is freed. What is large comes from the system itself: the heap may hand out pages that were used before and have to
/// be cleared one by one, which takes time and memory for rings that are never filled.
/// Throws std::bad_alloc.
void* zeroedMemory(std::size_t bytes);
/// Precondition: of zeroedMemory(), with the same size; or null.
void freeZeroedMemory(void* memory, std::size_t bytes);

}  // namespace cruscotto
