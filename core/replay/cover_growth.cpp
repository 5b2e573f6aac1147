#include "replay/cover_growth.h"

#include <algorithm>
#include <unordered_set>

#include "replay/step_window.h"

namespace mt {
namespace {

// Keeps about every second point, and the last.
void thin(std::vector<CoverGrowth::Point>& points) {
    std::size_t kept = 0;
    for (std::size_t i = 0; i < points.size(); i += 2) points[kept++] = points[i];
    if (points.size() % 2 == 0) points[kept++] = points.back();
    points.resize(kept);
}

}  // namespace

CoverGrowth cover_growth(const Recording& recording, const StepTrail& steps, Progress& progress,
                         std::size_t most_points) {
    CoverGrowth out;
    const Code& code = *steps.code;
    std::vector<bool> ran(code.slot_count()), called(steps.functions ? steps.functions->size() : 0);
    std::unordered_set<std::uint64_t> runs;  // of the program's runs, those that were met
    std::size_t pieces = 0;
    out.whole = true;
    each_step_piece(recording, steps, 0, [&](const StepPiece& p) {
        if (++pieces % 65'536 == 0) progress.report(p.step, steps.steps);
        if (progress.cancelled()) {
            out.whole = false;
            return false;
        }
        if (!runs.insert(std::uint64_t{p.run.first} << 32 | p.run.last).second) return true;
        const std::uint64_t before = out.run;
        std::uint32_t nth = 0;
        for (std::uint32_t slot = p.run.first; slot < code.slot_count(); slot = code.next(slot), ++nth) {
            if (const std::uint32_t f = steps.functions ? steps.functions->at(slot) : 0; !ran[slot] && f != 0) {
                ran[slot] = true;
                ++out.run;
                if (f < called.size() && !called[f]) {
                    called[f] = true;
                    out.firsts.push_back({f, p.step + nth, p.time_of(std::min(nth, p.run.count - 1))});
                }
            }
            if (slot >= p.run.last) break;
        }
        if (out.run == before) return true;
        out.points.push_back({p.begin, out.run});
        if (out.points.size() > most_points) thin(out.points);
        return true;
    });
    return out;
}

}  // namespace mt
