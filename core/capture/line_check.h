// The line check: which sampling phases of a trace line read it right. The probe sends a known pattern, the
// bytes that arrive are compared with it at each phase. docs/formats/line-check.md.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "capture/source.h"
#include "control/debug_server.h"

namespace mt {

struct LinePhase {
    unsigned phase = 0;
    std::uint64_t bits = 0, wrong = 0;
    double error() const { return bits == 0 ? 1 : static_cast<double>(wrong) / static_cast<double>(bits); }
    bool clean() const { return bits > 0 && wrong == 0; }
};

struct LineCheck {
    std::vector<LinePhase> phases;
    int best = -1;        ///< the middle of the widest clean window; -1 if no phase is clean
    unsigned first = 0;   ///< of that window; it may go round the end
    unsigned window = 0;  ///< how many phases wide it is
    /// Narrower than a quarter of all phases: a little drift will spoil it.
    bool narrow() const { return window * 4 < phases.size(); }
};

/// The pattern: walking ones, walking zeros, AA 55, FF 00, 64 bytes each (the four patterns of a CoreSight
/// trace port, IHI 0029E D4.5).
std::vector<std::uint8_t> line_pattern();
/// Bits of `heard` that differ from the pattern, at the shift of the pattern where the fewest do.
LinePhase compare_with_pattern(std::span<const std::uint8_t> heard);
/// Chooses the middle of the widest run of clean phases; phases are a circle.
LineCheck choose_phase(std::vector<LinePhase> phases);

/// Measures all phases, sets the best one, and lets the trace go on. `seen` gets each phase as it is measured.
/// Without a clean phase the one with the fewest errors is set. The pattern is switched off whatever happens.
Result<LineCheck> check_line(DebugServer& server, Source& source, const std::function<void(const LinePhase&)>& seen,
                             Progress& progress);

/// Writes the chosen phase into the target file's [[stream]] as a table [stream.line], leaving every other line
/// as it is. `stream_line` is where the stream's table stands.
Result<void> store_phase(const std::string& target_path, unsigned stream_line, const LineCheck& check);

}  // namespace mt
