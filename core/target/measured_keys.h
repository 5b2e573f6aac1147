// Keys of the target file about what other devices measured: files laid beside the trace, streams of samples, and how
// their clocks are brought to the recording's.
#pragma once

#include <filesystem>

#include "target/target_file.h"
#include "target/toml_table.h"

namespace mt {

/// Where keys stand, and where what is wrong with them is told.
struct KeyPlace {
    const std::string& path;
    const std::filesystem::path& folder;
    std::optional<Problem>& problem;
    std::vector<std::string>& warnings;
};

SignalsSpec read_signals(TomlTable& t, const KeyPlace& place);
StopwatchSpec read_stopwatch(TomlTable& t, const KeyPlace& place);
/// The keys of an event: of, core, at, value, crosses, rising.
EventSpec read_event(TomlTable& t);
PolledParameters read_polled(TomlTable& t, const KeyPlace& place);
/// names = { 0 = "idle", 0x20000400 = "track" }: what values stand for.
std::map<std::uint64_t, std::string> read_names(TomlTable& t);
SamplesParameters read_samples(TomlTable& t, const KeyPlace& place);

}  // namespace mt
