// What a debugger reads of a core that stands, kept with the recording: states of the past begin and end with it.
// docs/formats/target-file.md, [core.began] and [core.stopped].
#pragma once

#include <chrono>
#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "control/debug_server.h"
#include "target/core_state.h"
#include "target/image.h"
#include "target/target_edit.h"
#include "target/target_file.h"

namespace mt {

/// Memory as [first, second).
using MemoryRange = std::pair<std::uint64_t, std::uint64_t>;

/// What a recipe calls memory: "0x20000000..0x20001fff" or the name of a variable. A Problem that names what is not there.
Result<MemoryRange> memory_range(const std::string& text, const Image* image);

/// What of a core's state is read. REQUIRES of its members: the core stands.
struct StateReader {
    /// Nothing: around the stack, and what the program may write, until `patience` is over.
    std::optional<std::vector<MemoryRange>> memory;
    std::chrono::milliseconds patience{1000};

    /// What memory cannot be read is left out.
    Result<CoreState> read(DebugServer& server, const CoreSpec& core) const;
};

/// Writes it below `folder`/states, as files that the core's name and `when` ("began", "stopped") name.
Result<CoreSpec::State> keep_state(const CoreState& state, const std::string& folder, const std::string& core, const std::string& when);

/// What a target file says of a state that was kept, with paths relative to `folder`. `table`: "core.began", "core.stopped".
std::vector<KeyChange> state_keys(const CoreSpec::State& state, const std::string& table, std::size_t core, const std::string& folder);

}  // namespace mt
