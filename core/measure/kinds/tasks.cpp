#include "measure/tasks.h"

#include <array>

#include "measure/kinds/kinds.h"

namespace mt {
namespace {

constexpr FigureInfo kFigures[] = {
    {"name", "task", "task"},
    {"number", "no", "its number in the operating system"},
    {"core", "", "core on which it ran last"},
    {"priority", "priority", "base priority; a higher one is more urgent"},
    {"idle", "", "whether it is the idle task"},
    {"count", "jobs", "whole jobs"},
    {"left_out", "left out", "jobs whose begin or end was not seen"},
    {"open", "", "jobs that had not ended at the end of the recording"},
    {"total", "", "all processor time that was observed"},
    {"own", "", "the same"},
    {"min", "", "least processor time of a job"},
    {"mean", "run mean", "mean processor time of a job"},
    {"max", "run most", "greatest processor time of a job"},
    {"stddev", "", "standard deviation"},
    {"p95", "", "95 % of the jobs take no more"},
    {"p99", "", "99 % of the jobs take no more"},
    {"period_min", "", "shortest time from ready to ready"},
    {"period_mean", "", "mean time from ready to ready"},
    {"period_max", "", "longest time from ready to ready"},
    {"response_min", "", "shortest time from ready to the job's end"},
    {"response_mean", "response mean", "mean time from ready to the job's end"},
    {"response_max", "response most", "longest time from ready to the job's end"},
    {"response", "", "from ready to the job's end, all figures"},
    {"start_latency", "", "from ready to the first instruction"},
    {"start_period", "", "from start to start"},
    {"preemptions", "", "times that a more urgent task took the core during a job"},
    {"share", "share", "of the observed time of its core"},
};
constexpr std::string_view kInstances[] = {"index",       "ready_ns",    "start_ns", "end_ns",  "run_ns",
                                           "response_ns", "preemptions", "core",     "left_out"};

class Tasks final : public ActivityKind {
  public:
    std::string_view id() const override { return "tasks"; }
    std::string_view one() const override { return "a task"; }
    std::span<const FigureInfo> figures() const override { return kFigures; }
    bool told(const Trail& trail) const override { return !trail.tasks.tasks.empty(); }
    std::string_view advice() const override {
        return "they come from an operating system's events: record them, or give a ctf stream";
    }

    std::vector<std::vector<Cell>> rows(const Measured& of) const override {
        std::vector<std::vector<Cell>> all;
        for (const TaskRow& r : task_rows(of.trail)) {
            std::vector<Cell> row = {r.name,      std::uint64_t{r.id},
                                     r.core_name, r.priority_known ? Cell(std::int64_t{r.priority}) : Cell(),
                                     r.idle,      r.run.count,
                                     r.left_out,  r.open,
                                     r.cpu,       r.cpu};
            add_lengths(row, r.run, true);
            add_lengths(row, r.period, false);
            add_lengths(row, r.response, false);
            for (const Figures* f : {&r.response, &r.latency, &r.start_period}) row.push_back(figures_cell(*f));
            row.emplace_back(r.preemptions);
            row.emplace_back(Share{r.share});
            all.push_back(std::move(row));
        }
        return all;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.tasks.size(); ++i) all.push_back({trail.tasks.tasks[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kInstances; }
    void each_instance(const Trail& trail, std::size_t index, const EachRow& each) const override {
        const TaskLane& lane = trail.tasks.tasks[index];
        for (std::size_t i = 0; i < lane.jobs.size(); ++i) {
            const TaskJob& j = lane.jobs[i];
            const char* left_out = (j.flags & TaskJob::kOpen) != 0        ? "not ended"
                                   : (j.flags & TaskJob::kUncertain) != 0 ? "begin may be lost"
                                                                          : "";
            const std::array<Cell, std::size(kInstances)> row = {
                std::uint64_t{i},
                j.ready,
                (j.flags & TaskJob::kStarted) != 0 ? Cell(j.start) : Cell(),
                j.end,
                j.run,
                j.response(),
                std::uint64_t{j.preemptions},
                j.core < trail.cores.size() ? trail.cores[j.core].name : std::string(),
                left_out};
            if (!each(row)) return;
        }
    }
};

}  // namespace

const ActivityKind& tasks_kind() {
    static const Tasks kind;
    return kind;
}

}  // namespace mt
