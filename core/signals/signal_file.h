// Signals that a device outside the chip measured and wrote to a file: VCD, CSV and TSV, ASAM MDF 4.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "model/values.h"

namespace mt {

/// What a file holds, on the clock of the device that wrote it. Plain data.
struct SignalFile {
    std::string format;            ///< "VCD", "CSV", "MDF"
    std::vector<ValueLane> lanes;  ///< times from the file's zero; `source` is the scope or group that a name is in
    std::vector<std::string> warnings;  ///< what could not be read, a sentence each, with the place
    Time end;                           ///< up to where the file tells anything
};

/// Which signals are wanted: by name, or by scope and name with a dot between. Empty: all.
using SignalChoice = std::vector<std::string>;
bool is_chosen(const SignalChoice& choice, const std::string& scope, const std::string& name);

/// More than these are read only if they are chosen by name.
inline constexpr std::size_t kMostSignals = 4096;

/// Times of a file lie within so many picoseconds (46 days) of its zero; what lies beyond is left out.
inline constexpr std::int64_t kFarthestPs = 4'000'000'000'000'000'000;

/// What the first bytes say the file is: "VCD", "MDF", or "CSV" for any other text; empty for what is no text.
std::string signal_format_of(std::span<const std::uint8_t> bytes);

/// Reads a whole file. A Problem if it is none of these formats or holds nothing that can be used; what is damaged in
/// it ends where the damage begins, with a warning.
Result<SignalFile> read_signal_file(const std::string& path, const SignalChoice& choice, Progress* progress = nullptr);

// The formats, of bytes in memory; `path` is used in messages only.
Result<SignalFile> read_vcd(std::span<const std::uint8_t> bytes, const std::string& path, const SignalChoice& choice,
                            Progress* progress = nullptr);
Result<SignalFile> read_csv_signals(std::span<const std::uint8_t> bytes, const std::string& path,
                                    const SignalChoice& choice, Progress* progress = nullptr);
Result<SignalFile> read_mdf(std::span<const std::uint8_t> bytes, const std::string& path, const SignalChoice& choice,
                            Progress* progress = nullptr);

}  // namespace mt
