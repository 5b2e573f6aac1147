#include "replay/backtrace.h"

#include "replay/step_window.h"

namespace mt {
namespace {

constexpr std::size_t kMostLevels = 64;  ///< each costs decoding from a checkpoint

// Which instruction was executed as `step`, and how deep the stack was.
struct Stood {
    std::uint32_t slot = Code::kNowhere;
    std::size_t depth = 0;
};

Stood stood_at(const Recording& recording, const StepTrail& trail, std::uint64_t step) {
    const StepWindow w = step_window(recording, trail, step, 1);
    for (const StepPiece& p : w.pieces) {
        if (step < p.step || step >= p.step + p.run.count) continue;
        std::uint32_t slot = p.run.first;
        for (std::uint64_t s = p.step; s < step; ++s) slot = trail.code->next(slot);
        return {slot, p.depth};
    }
    return {};
}

}  // namespace

std::vector<TraceFrame> backtrace(const Recording& recording, const StepTrail& trail, std::uint64_t step) {
    std::vector<TraceFrame> frames;
    Stood here = stood_at(recording, trail, step);
    if (here.slot == Code::kNowhere) return frames;
    const InlineTable& inlines = *trail.inlines;
    for (std::size_t level = std::min({here.depth, trail.levels.size(), kMostLevels}); level-- > 0;) {
        const auto i = trail.levels[level].begun_by(step);
        if (!i) break;
        const CallSpan span = trail.levels[level][trail.first_piece(level, *i)];
        TraceFrame frame;
        frame.slot = here.slot;
        frame.step = step;
        frame.level = level;
        frame.entered = span.begin;
        if (here.slot != Code::kNowhere)
            if (const auto line = recording.line_of(trail.core_index, here.slot)) {
                frame.file = line->file;
                frame.line = line->line;
            }
        // The line is that of the innermost; each that holds another stands where it calls that.
        for (std::uint32_t in = inlines.at(here.slot); in < inlines.size(); in = inlines[in].parent) {
            TraceFrame inner = frame;
            inner.name = inlines[in].name;
            inner.inlined = true;
            frames.push_back(std::move(inner));
            frame.file = inlines[in].file;
            frame.line = inlines[in].line;
        }
        frame.name = (*trail.functions)[static_cast<std::uint32_t>(span.function)].name;
        frame.handler = (span.flags & CallFrame::kHandler) != 0;
        frame.seen = (span.flags & (CallFrame::kCutBegin | CallFrame::kContinued)) == 0;
        const bool called = frame.seen && span.step > 0;
        frames.push_back(std::move(frame));
        if (level == 0) break;
        // Before its first instruction stood whoever called it, or was interrupted.
        here = called ? stood_at(recording, trail, span.step - 1) : Stood{};
        step = span.step > 0 ? span.step - 1 : 0;
    }
    return frames;
}

std::string backtrace_text(const std::vector<TraceFrame>& frames, std::size_t most) {
    std::string text;
    for (std::size_t i = 0; i < frames.size() && i < most; ++i)
        text += (i == 0 ? "" : " ◂ ") + frames[i].name + (frames[i].inlined ? " (inlined)" : "");
    return text + (frames.size() > most ? " ◂ …" : "");
}

}  // namespace mt
