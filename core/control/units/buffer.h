// Trace out of a buffer on the chip: TMC and ETB through their read register, ETR and RISC-V RAM sinks in memory or
// through theirs, MTB in RAM.
#pragma once

#include <chrono>
#include <cstdint>
#include <optional>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "control/units/discover.h"
#include "control/units/target_memory.h"

namespace mt {

/// What a buffer held, oldest byte first. Plain data.
struct BufferContents {
    std::vector<std::uint8_t> bytes;
    bool wrapped = false;  ///< it overwrote what was older
    std::string text;      ///< "4.1 kB out of the TMC, which had wrapped"
};

/// The unit of the core in which trace is kept: one that is on, else the only one. Null if there is none.
const Unit* trace_buffer(const CoreUnits& units);

/// Stops the buffer (so that what is on its way gets in), and reads it from its oldest byte on. It stays stopped.
/// `unit` as it was discovered; its pointers are read anew. `encoder`: what feeds a RAM sink of RISC-V; it is stopped
/// first, for its last packet is not whole before. May be null. At most kMostBufferBytes.
inline constexpr std::uint64_t kMostBufferBytes = std::uint64_t{256} << 20;
Result<BufferContents> read_trace_buffer(TargetMemory& memory, const Unit& unit, const Unit* encoder,
                                         std::chrono::milliseconds patience, Progress* progress = nullptr);
/// Empties a stopped buffer and lets it, and what feeds it, take trace again.
Result<void> restart_trace_buffer(TargetMemory& memory, const Unit& unit, const Unit* encoder,
                                  std::chrono::milliseconds patience);

/// Where a scatter list leads (DDI 0461 2.2.4): each entry is a word, bits 31:4 the
/// page's address bits 39:12, bits 1:0 what it is: 1 the last page, 2 a page, 3 the next table. Pages of 4 KiB in
/// order, at most `most`; a list in a circle is a Problem.
Result<std::vector<std::uint64_t>> scatter_pages(TargetMemory& memory, std::uint64_t table, std::size_t most);

}  // namespace mt
