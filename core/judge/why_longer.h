// Why one call, execution or job took longer than others of its kind: what each spent its time on, side by side.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/progress.h"
#include "measure/lane_kind.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// One thing that time went to.
struct Spent {
    enum class On : std::uint8_t {
        itself,    ///< neither called anything nor was preempted
        call,      ///< in a function that it called, with all below that
        handler,   ///< in an interrupt or exception that preempted it
        held_off,  ///< ready, but somebody else had the core
        waiting,   ///< for a lock, a queue, a delay
        unknown    ///< the recording does not tell
    };
    On on = On::itself;
    std::string name;  ///< of the function, handler, task, or what was waited for; empty: itself
    Time here, typical;
    std::uint64_t count_here = 0, count_typical = 0;  ///< how often
    std::optional<SpanRef> longest;                   ///< the longest of them in the one that is explained

    Time difference() const { return here - typical; }
};

/// A source line within the function itself.
struct LineSpent {
    std::string file;  ///< as the image names it
    std::uint32_t line = 0;
    Time here, typical;
    std::uint64_t count_here = 0, count_typical = 0;  ///< executed instructions
    Time difference() const { return here - typical; }
};

struct WhyLonger {
    SpanRef span, typical;
    Time length, typical_length;
    std::vector<Spent> parts;      ///< the greatest difference first; `here` sums to `length`, `typical` likewise
    std::vector<LineSpent> lines;  ///< of calls in an instruction trace; the greatest difference first
};

/// The whole span of the same activity whose length is the median; nothing where there are fewer than three. Of very
/// many a sample is looked at. Blocks: for a worker.
std::optional<SpanRef> typical_span(const Trail& trail, const SpanRef& span, const Progress* progress = nullptr);

/// Nothing for spans that were cut, that have no typical one, or that are no calls, executions or jobs. Lines cost
/// decoding both again; where either has more than 4 million instructions they are left out. Blocks: for a worker.
std::optional<WhyLonger> why_longer(const Recording& recording, const Trail& trail, const SpanRef& span,
                                    const Progress* progress = nullptr);

}  // namespace mt
