// Where columns keep their elements: on the heap at first, then in a file that has no name, so that a recording of
// any length takes a bounded part of the machine's memory and the system may write the rest out.
#pragma once

#include <cstddef>

namespace mt {

/// Bytes that stay on the heap, of all columns together.
inline constexpr std::size_t kHeapForColumns = std::size_t{288} << 20;

/// Room for `bytes`, aligned for any column element, not initialised. Any thread. The file stands in the
/// person's cache folder; if it cannot grow (a full disk), the heap is used on.
void* allocate_chunk(std::size_t bytes);
/// Gives back what `allocate_chunk` gave. Any thread.
void free_chunk(void* chunk, std::size_t bytes) noexcept;

/// How many bytes stand in the file now.
std::size_t chunk_bytes_in_file();
/// For tests: what may stay on the heap from now on.
void set_heap_for_columns(std::size_t bytes);

}  // namespace mt
