#include "replay/step_search.h"

#include <algorithm>
#include <string>
#include <unordered_set>

namespace mt {
namespace {

// Steps of a piece at which one of the wanted instructions is executed: the first at or behind `least`, or the last
// before `most`.
class Wanted {
  public:
    Wanted(const Code& code, std::vector<std::uint32_t> slots) : code_(code), slots_(std::move(slots)) {
        std::sort(slots_.begin(), slots_.end());
    }
    std::optional<std::uint64_t> first_in(const StepPiece& p, std::uint64_t least) const {
        for (auto s = std::lower_bound(slots_.begin(), slots_.end(), p.run.first); s != slots_.end(); ++s) {
            if (*s > p.run.last) break;
            if (const auto step = step_of(p, *s); step && *step >= least) return step;
        }
        return std::nullopt;
    }
    std::optional<std::uint64_t> last_in(const StepPiece& p, std::uint64_t most) const {
        std::optional<std::uint64_t> found;
        for (auto s = std::lower_bound(slots_.begin(), slots_.end(), p.run.first); s != slots_.end(); ++s) {
            if (*s > p.run.last) break;
            if (const auto step = step_of(p, *s); step && *step < most) found = step;
        }
        return found;
    }

  private:
    std::optional<std::uint64_t> step_of(const StepPiece& p, std::uint32_t slot) const {
        std::uint64_t step = p.step;
        std::uint32_t at = p.run.first;
        while (at < slot && at < p.run.last) {
            at = code_.next(at);
            ++step;
        }
        if (at != slot) return std::nullopt;  // between two instructions
        return step;
    }
    const Code& code_;
    std::vector<std::uint32_t> slots_;
};

}  // namespace

std::optional<std::uint64_t> next_execution(const Recording& recording, const StepTrail& trail,
                                            std::vector<std::uint32_t> slots, std::uint64_t from,
                                            const Progress& progress) {
    const Wanted wanted(*trail.code, std::move(slots));
    std::optional<std::uint64_t> found;
    each_step_piece(recording, trail, from + 1, [&](const StepPiece& p) {
        found = wanted.first_in(p, from + 1);
        return !found && !progress.cancelled();
    });
    return found;
}

std::optional<std::uint64_t> next_new_line(const Recording& recording, const StepTrail& trail, std::uint64_t from,
                                           const Progress& progress) {
    const Code& code = *trail.code;
    std::vector<bool> ran(code.slot_count());
    std::unordered_set<std::uint64_t> runs;  // of the program's runs, those that were met
    std::unordered_set<std::string> lines;
    // Whether the line of an instruction runs for the first time with it.
    const auto is_new = [&](std::uint32_t slot) {
        if (ran[slot]) return false;
        ran[slot] = true;
        const auto line = recording.line_of(trail.core_index, slot);
        return line && line->line > 0 && lines.insert(line->file + ":" + std::to_string(line->line)).second;
    };
    std::optional<std::uint64_t> found;
    each_step_piece(recording, trail, 0, [&](const StepPiece& p) {
        if (progress.cancelled()) return false;
        if (!runs.insert(std::uint64_t{p.run.first} << 32 | p.run.last).second) return true;
        std::uint64_t step = p.step;
        for (std::uint32_t slot = p.run.first; slot < code.slot_count(); slot = code.next(slot), ++step) {
            if (is_new(slot) && step > from) {
                found = step;
                return false;
            }
            if (slot >= p.run.last) break;
        }
        return true;
    });
    return found;
}

std::optional<std::size_t> next_different_call(const Recording& recording, const StepTrail& trail, std::size_t level,
                                               std::size_t index, const Progress& progress) {
    const CallLevel& calls = trail.levels[level];
    const auto function = calls[index].function;
    const Code& code = *trail.code;
    std::optional<std::size_t> found;
    std::optional<std::uint64_t> given;  // what the given call's way comes to
    std::size_t now = index;
    bool inside = false;
    std::uint64_t way = 0;
    std::uint32_t last = Code::kNowhere;
    std::uint16_t handlers = 0;
    each_step_piece(recording, trail, calls[index].step, [&](const StepPiece& p) {
        if (inside && p.step > calls[now].step && p.begin >= calls[now].end()) {
            inside = false;
            if (!given)
                given = way;
            else if (way != *given)
                found = now;
            ++now;
        }
        if (found || progress.cancelled()) return false;
        if (!inside) {
            while (now < calls.size() &&
                   (calls[now].function != function || !calls[now].whole() || calls[now].step < p.step))
                ++now;
            if (now == calls.size()) return false;
            if (calls[now].step != p.step) return true;
            inside = true;
            way = 0;
            last = Code::kNowhere;
            handlers = p.handlers;
        }
        if (p.handlers != handlers) return true;
        // Only where it does not simply go on: a run that was cut by an interrupt is the same way.
        if (last != Code::kNowhere && code.next(last) != p.run.first)
            way = (way ^ (std::uint64_t{last} << 32 | p.run.first)) * 0x9E37'79B9'7F4A'7C15u;
        last = p.run.last;
        return true;
    });
    return found;
}

std::optional<std::uint64_t> previous_execution(const Recording& recording, const StepTrail& trail,
                                                std::vector<std::uint32_t> slots, std::uint64_t from,
                                                const Progress& progress) {
    const Wanted wanted(*trail.code, std::move(slots));
    std::optional<std::uint64_t> found;
    std::uint64_t until = from;
    std::size_t n = trail.checkpoints.partition_point([from](const StepCheckpoint& c) { return c.step < from; });
    while (n > 0 && !found && !progress.cancelled()) {
        const std::uint64_t begin = trail.checkpoints[--n].step;
        each_step_piece(recording, trail, begin, [&](const StepPiece& p) {
            if (p.step >= until || progress.cancelled()) return false;
            if (const auto step = wanted.last_in(p, until)) found = step;
            return true;
        });
        until = begin;
    }
    return found;
}

}  // namespace mt
