#include <algorithm>
#include <array>

#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kThreadFigures[] = {
    {"name", "thread mode", "thread mode of a core"},
    {"core", "core", "the core"},
    {"count", "count", "stretches, cut by a gap or not"},
    {"total", "time", "time in thread mode, as far as it is known"},
    {"share", "share", "of the time in which it is known what ran"},
};
constexpr std::string_view kThreadColumns[] = {"name", "core", "count", "total", "share"};
constexpr std::string_view kThreadInstances[] = {"index", "begin_ns", "end_ns", "duration_ns"};

Time end_of(const CoreTrail& core, std::size_t change) {
    return change + 1 < core.change_time.size() ? core.change_time[change + 1] : core.end;
}

// What runs where no handler does: solid where it has the core, a thread where handlers have it.
class ThreadMode final : public PlainLane {
  public:
    ThreadMode(const Trail& trail, std::size_t index)
        : PlainLane(trail, {trail.cores[index].running_name(0), trail.cores[index].name + " core", index, Shape::states, Ink::running}),
          core_(trail.cores[index]) {}
    std::size_t size(std::size_t) const override { return 0; }
    Span span(std::size_t, std::size_t) const override { return {}; }
    Range touching(std::size_t, Time, Time) const override { return {0, 0}; }
    bool stirs(Time, Time) const override { return true; }
    std::string empty_text() const override {
        if (core_.thread_seen) return {};
        if (!core_.m_profile) return "not seen: no return from a handler in this recording";
        return core_.change_time.empty() ? "no exception trace in this recording: enable DWT_CTRL.EXCTRCENA"
                                         : "not seen: no return to thread mode in this recording";
    }
    std::size_t states_between(Time from, Time to) const override {
        return core_.change_time.lower_bound(to) - core_.change_time.upper_bound(from);
    }
    void each_state(Time from, Time to, const EachState& each) const override {
        const std::size_t first = core_.change_time.upper_bound(from), last = core_.change_time.lower_bound(to);
        for (std::size_t k = first == 0 ? 0 : first - 1; k < last; ++k) {
            LaneState s{core_.change_time[k], end_of(core_, k)};
            s.at = k;
            s.look = core_.change_running[k] == 0                         ? LaneState::runs
                     : core_.change_running[k] == ContextChange::kUnknown ? LaneState::unknown
                                                                          : LaneState::cut_into;
            each(s);
        }
    }
    void each_running_part(Time from, Time to, const EachPart& each) const override { each(from, to); }
    double running_share(Time from, Time to) const override {
        const auto at = core_.change_at(from);
        if (from > core_.end || to <= from) return 0;  // of several cores one may be known further than another
        if (!at || (core_.change_running[*at] == ContextChange::kUnknown && end_of(core_, *at) >= to)) return 0;
        return 1 -
               std::clamp(static_cast<double>(core_.handler_time(from, to).ps) / static_cast<double>((to - from).ps),
                          0.0, 1.0);
    }
    Told told(Time t, const std::optional<std::pair<std::size_t, std::size_t>>&) const override {
        return {name(), {moment_text(t)}};
    }

  private:
    const CoreTrail& core_;
};

class Threads final : public LaneKind {
  public:
    std::string_view id() const override { return "threads"; }
    int order() const override { return 140; }
    int rank() const override { return 30; }
    std::string_view one() const override { return "a thread mode"; }
    std::span<const FigureInfo> figures() const override { return kThreadFigures; }
    std::span<const std::string_view> columns() const override { return kThreadColumns; }
    bool told(const Trail& trail) const override {
        return std::any_of(trail.cores.begin(), trail.cores.end(), [](const CoreTrail& c) { return c.thread_seen; });
    }
    std::string_view advice() const override { return "it is told by exception packets: enable DWT_CTRL.EXCTRCENA"; }
    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (std::size_t c = 0; c < of.trail.cores.size(); ++c) {
            const CoreTrail& core = of.trail.cores[c];
            if (!core.thread_seen) continue;
            std::uint64_t count = 0;
            Time total, known;
            for (std::size_t k = 0; k < core.change_time.size(); ++k) {
                const Time length = end_of(core, k) - core.change_time[k];
                if (core.change_running[k] != ContextChange::kUnknown) known += length;
                if (core.change_running[k] != 0) continue;
                ++count;
                total += length;
            }
            all.push_back(
                {c,
                 {core.running_name(0) + " on " + core.name, core.name, count, core.timed ? Cell(total) : Cell(),
                  known.ps > 0 ? Cell(Share{static_cast<double>(total.ps) / static_cast<double>(known.ps)}) : Cell()}});
        }
        return all;
    }
    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t c = 0; c < trail.cores.size(); ++c)
            if (trail.cores[c].thread_seen) all.push_back({trail.cores[c].running_name(0) + " on " + trail.cores[c].name, "", c});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kThreadInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const CoreTrail& core = trail.cores[index];
        const auto time = [&core](Time t) { return core.timed ? Cell(t) : Cell(); };
        std::uint64_t n = 0;
        for (std::size_t k = 0; k < core.change_time.size(); ++k) {
            if (core.change_running[k] != 0) continue;
            const Time begin = core.change_time[k], end = end_of(core, k);
            const std::array<Cell, std::size(kThreadInstances)> row = {n++, time(begin), time(end), time(end - begin)};
            if (!each(row)) return;
        }
    }
    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (std::size_t c = 0; c < trail.cores.size(); ++c) {
            const bool followed = std::any_of(trail.steps.begin(), trail.steps.end(),
                                              [c](const StepTrail& s) { return s.core_index == c; });
            const bool has_tasks = c < trail.tasks.cores.size() && trail.tasks.cores[c].present;
            if ((!followed || trail.cores[c].thread_seen) && (!has_tasks || !trail.streams.empty())) all.push_back(c);
        }
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.cores.size()) return nullptr;
        return std::make_unique<ThreadMode>(trail, index);
    }
    // The nest of handlers ends in thread mode: the interrupts say it.
    std::vector<Phrase> moment(const Trail&, std::size_t, Time) const override { return {}; }
};

}  // namespace

const LaneKind& threads_kind() {
    static const Threads kind;
    return kind;
}

}  // namespace mt
