#include <array>

#include "measure/kinds/kinds.h"
#include "measure/tasks.h"

namespace mt {
namespace {

constexpr FigureInfo kFigures[] = {
    {"name", "lock", "lock"},
    {"number", "no", "its number in the operating system"},
    {"count", "held", "whole holds"},
    {"left_out", "left out", "holds whose end was not seen"},
    {"total", "", "time of all whole holds"},
    {"own", "", "the same"},
    {"min", "", "shortest hold"},
    {"mean", "held mean", "mean hold"},
    {"max", "held most", "longest hold"},
    {"stddev", "", "standard deviation"},
    {"p95", "", "95 % of the holds are no longer"},
    {"p99", "", "99 % of the holds are no longer"},
    {"response_min", "", "shortest wait for it"},
    {"response_mean", "wait mean", "mean wait for it"},
    {"response_max", "wait most", "longest wait for it"},
    {"wait", "", "waits for it, all figures"},
    {"contention", "waits", "times that somebody had to wait"},
    {"never_granted", "", "waits that had not ended at the end of the recording"},
    {"share", "share", "of the time known in which it was held"},
    {"longest_wait", "", "who waited longest, for whom, and when"},
};
constexpr std::string_view kInstances[] = {"index", "begin_ns", "end_ns", "duration_ns", "task", "left_out"};

Cell longest_wait(const TaskTrail& tasks, const LockLane& lane) {
    std::optional<LockWait> longest;
    for (std::size_t i = 0; i < lane.waits.size(); ++i)
        if (lane.waits[i].whole() &&
            (!longest || lane.waits[i].end - lane.waits[i].begin > longest->end - longest->begin))
            longest = lane.waits[i];
    if (!longest) return {};
    return Cell::of({{"task", tasks.task_name(longest->task)},
                     {"holder", tasks.task_name(longest->holder)},
                     {"begin_ns", longest->begin},
                     {"end_ns", longest->end}});
}

class Locks final : public ActivityKind {
  public:
    std::string_view id() const override { return "locks"; }
    std::string_view one() const override { return "a lock"; }
    std::span<const FigureInfo> figures() const override { return kFigures; }
    // An operating system that is traced without any lock says so with an empty table.
    bool told(const Trail& trail) const override { return !trail.tasks.streams.empty(); }
    std::string_view advice() const override {
        return "they come from an operating system's events: record them, or give a ctf stream";
    }

    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
        for (const LockRow& r : lock_rows(of.trail)) {
            std::vector<Cell> row = {r.name, std::uint64_t{r.id}, r.hold.count, r.left_out, r.hold.sum, r.hold.sum};
            add_lengths(row, r.hold, true);
            add_lengths(row, r.wait, false);
            row.insert(row.end(), {figures_cell(r.wait), Cell(r.contention), Cell(r.never_got), Cell(Share{r.share}),
                                   longest_wait(of.trail.tasks, of.trail.tasks.locks[r.lock])});
            all.push_back(std::move(row));
        }
        return all;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.locks.size(); ++i) all.push_back({trail.tasks.locks[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kInstances; }
    void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const override {
        const LockLane& lane = trail.tasks.locks[index];
        for (std::size_t i = 0; i < lane.holds.size(); ++i) {
            const LockHold& h = lane.holds[i];
            const std::array<Cell, std::size(kInstances)> row = {std::uint64_t{i},
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

const ActivityKind& locks_kind() {
    static const Locks kind;
    return kind;
}

}  // namespace mt
