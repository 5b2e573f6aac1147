#include <array>

#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"
#include "measure/tasks.h"

namespace mt {
namespace {

constexpr FigureInfo kLockFigures[] = {
    {"name", "lock", "lock"},
    {"number", "no", "its number in the operating system"},
    {"count", "held", "whole holds"},
    {"left_out", "excluded", "holds whose end was not seen"},
    {"total", "", "time of all whole holds"},
    {"own", "", "the same"},
    {"min", "", "shortest hold"},
    {"mean", "held mean", "mean hold"},
    {"max", "held most", "longest hold"},
    {"stddev", "", "standard deviation"},
    {"p95", "", "95 % of the holds are no longer"},
    {"p99", "", "99 % of the holds are no longer", "held 99 %"},
    {"response_min", "", "shortest wait for it"},
    {"response_mean", "wait mean", "mean wait for it"},
    {"response_max", "wait most", "longest wait for it"},
    {"wait", "", "waits for it, all figures"},
    {"contention", "waits", "times that somebody had to wait"},
    {"never_granted", "", "waits that had not ended at the end of the recording", "never acquired"},
    {"share", "share", "of the time known in which it was held"},
    {"longest_wait", "", "who waited longest, for whom, and when"},
};
constexpr std::string_view kLockInstances[] = {"index", "begin_ns", "end_ns", "duration_ns", "task", "left_out"};

std::optional<LockWait> longest_wait_of(const LockLane& lane) {
    std::optional<LockWait> longest;
    for (std::size_t i = 0; i < lane.waits.size(); ++i)
        if (lane.waits[i].whole() &&
            (!longest || lane.waits[i].end - lane.waits[i].begin > longest->end - longest->begin))
            longest = lane.waits[i];
    return longest;
}

Cell longest_wait(const TaskTrail& tasks, const LockLane& lane) {
    const auto longest = longest_wait_of(lane);
    if (!longest) return {};
    return Cell::of({{"task", tasks.task_name(longest->task)},
                     {"holder", tasks.task_name(longest->holder)},
                     {"begin_ns", longest->begin},
                     {"end_ns", longest->end}});
}

class LockBars final : public PlainLane {
  public:
    LockBars(const Trail& trail, const LockLane& lane)
        : PlainLane(
              trail,
              {lane.name, lane.contention > 0 ? "lock, waited for " + plural(lane.contention, "time", "times") : "lock",
               0, Shape::bars, Ink::waiting}),
          lane_(lane) {}
    std::size_t size(std::size_t) const override { return lane_.holds.size(); }
    Span span(std::size_t, std::size_t i) const override {
        const LockHold& h = lane_.holds[i];
        Span s{h.begin, h.end, {}, {}};
        if ((h.flags & LockHold::kCut) != 0) s.flags |= Span::kCutEnd;
        s.hue = h.task;
        return s;
    }
    Range touching(std::size_t, Time from, Time to) const override {
        return touching_of(
            lane_.holds.size(), from, to, [this](std::size_t i) { return lane_.holds[i].begin; },
            [this](std::size_t i) { return lane_.holds[i].end; });
    }
    std::string label(std::size_t, std::size_t i) const override { return trail_.tasks.task_name(lane_.holds[i].task); }
    Told told(Time t, const std::optional<std::pair<std::size_t, std::size_t>>& span) const override {
        if (!span) return nothing_at(t, "nobody holds it");
        const LockHold& h = lane_.holds[span->second];
        Told told{lane_.name,
                  {"held by " + trail_.tasks.task_name(h.task) + " " + stretch_text(this->span(0, span->second))}};
        for (std::size_t w = lane_.waits.partition_point([&](const LockWait& x) { return x.end < h.begin; });
             w < lane_.waits.size() && told.lines.size() < 6; ++w)
            if (const LockWait& x = lane_.waits[w]; x.begin < h.end && x.task != h.task)
                told.lines.push_back(trail_.tasks.task_name(x.task) + " waits for " + duration_text(x.end - x.begin));
        if (h.flags != 0) told.lines.push_back(kLeftOutEnd);
        return told;
    }

  private:
    const LockLane& lane_;
};

class Locks final : public LaneKind {
  public:
    std::string_view id() const override { return "locks"; }
    int order() const override { return 40; }
    int rank() const override { return kAcrossCores + 20; }
    std::string_view one() const override { return "a lock"; }
    std::span<const FigureInfo> figures() const override { return kLockFigures; }
    // An operating system that is traced without any lock says so with an empty table.
    bool told(const Trail& trail) const override { return !trail.tasks.streams.empty(); }
    std::string_view advice() const override {
        return "they come from an operating system's events: record them, or give a ctf stream";
    }

    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
        for (const LockRow& r : lock_rows(of.trail)) {
            std::vector<Cell> row = {r.name, std::uint64_t{r.id}, r.hold.count, r.left_out, r.hold.sum, r.hold.sum};
            add_lengths(row, r.hold, true);
            add_lengths(row, r.wait, false);
            row.insert(row.end(), {figures_cell(r.wait), Cell(r.contention), Cell(r.never_got), Cell(Share{r.share}),
                                   longest_wait(of.trail.tasks, of.trail.tasks.locks[r.lock])});
            all.push_back({r.lock, std::move(row)});
        }
        return all;
    }

    std::span<const PanelFigure> panel(const Trail&, std::uint64_t) const override {
        static constexpr PanelFigure kAll[] = {
            {"mean", "held, mean"},          {"max", "held, most"},          {"count", "holds"},
            {"response_mean", "wait, mean"}, {"response_max", "wait, most"}, {"contention", "waits"}};
        return kAll;
    }
    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (std::size_t i = 0; i < trail.tasks.locks.size(); ++i)
            if (!trail.tasks.locks[i].holds.empty()) all.push_back(i);
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.tasks.locks.size()) return nullptr;
        return std::make_unique<LockBars>(trail, trail.tasks.locks[index]);
    }
    // While somebody waited longest for it; if nobody did, while it was held longest.
    std::optional<SpanRef> worst(const Trail& trail, std::uint64_t activity) const override {
        const LockLane& of = trail.tasks.locks[activity];
        const auto longest = longest_wait_of(of);
        if (!longest) return LaneKind::worst(trail, activity);
        const auto [first, last] = LockBars(trail, of).touching(0, longest->begin, longest->end);
        if (first == last) return LaneKind::worst(trail, activity);
        return SpanRef{{this, activity}, 0, first};
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.locks.size(); ++i) all.push_back({trail.tasks.locks[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kLockInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const LockLane& lane = trail.tasks.locks[index];
        for (std::size_t i = 0; i < lane.holds.size(); ++i) {
            const LockHold& h = lane.holds[i];
            const std::array<Cell, std::size(kLockInstances)> row = {std::uint64_t{i},
                                                                     h.begin,
                                                                     h.end,
                                                                     h.end - h.begin,
                                                                     trail.tasks.task_name(h.task),
                                                                     h.flags != 0 ? "end not seen" : ""};
            if (!each(row)) return;
        }
    }
};

}  // namespace

const LaneKind& locks_kind() {
    static const Locks kind;
    return kind;
}

}  // namespace mt
