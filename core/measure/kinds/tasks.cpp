#include <algorithm>
#include "measure/tasks.h"

#include <array>

#include "measure/kinds/kinds.h"
#include "measure/kinds/plain_lane.h"

namespace mt {
namespace {

constexpr FigureInfo kTaskFigures[] = {
    {"name", "task", "task"},
    {"number", "no", "its number in the operating system"},
    {"core", "", "core on which it ran last", "core"},
    {"priority", "priority", "base priority; a higher one is more urgent"},
    {"idle", "", "whether it is the idle task"},
    {"count", "jobs", "whole jobs"},
    {"left_out", "excluded", "jobs whose begin or end was not seen"},
    {"open", "", "jobs that had not ended at the end of the recording"},
    {"total", "", "all processor time that was observed"},
    {"own", "", "the same"},
    {"min", "", "least processor time of a job"},
    {"mean", "run mean", "mean processor time of a job"},
    {"max", "run max", "greatest processor time of a job"},
    {"stddev", "", "standard deviation"},
    {"p95", "", "95 % of the jobs take no more"},
    {"p99", "", "99 % of the jobs take no more"},
    {"period_min", "", "shortest time from ready to ready", "period min"},
    {"period_mean", "", "mean time from ready to ready", "period mean"},
    {"period_max", "", "longest time from ready to ready", "period max"},
    {"response_min", "", "shortest time from ready to the job's end"},
    {"response_mean", "response mean", "mean time from ready to the job's end"},
    {"response_max", "response most", "longest time from ready to the job's end"},
    {"response", "", "from ready to the job's end, all figures"},
    {"start_latency", "", "from ready to the first instruction"},
    {"start_period", "", "from start to start"},
    {"preemptions", "", "times that a more urgent task took the core during a job", "preempted"},
    {"share", "share", "of the observed time of its core"},
    {"response_p99", "", "99 % of the responses are no longer", "response 99 %"},
    {"start_max", "", "longest time from ready to the first instruction", "start latency max"},
    {"first_run_ns", "", "when it ran first, from the start of the recording", "first run"},
};
// Who holds the lock that a task waits for at a moment, if that is known.
std::optional<std::uint32_t> holder_at(const TaskTrail& tasks, std::size_t task, std::uint32_t object, Time t) {
    const LockLane* lock = tasks.lock(object);
    if (lock == nullptr) return std::nullopt;
    for (std::size_t w = lock->waits.partition_point([t](const LockWait& x) { return x.end < t; });
         w < lock->waits.size(); ++w)
        if (lock->waits[w].task == task && lock->waits[w].begin <= t)
            return lock->waits[w].holder < tasks.tasks.size() ? std::optional(lock->waits[w].holder) : std::nullopt;
    return std::nullopt;
}

constexpr std::string_view kTaskInstances[] = {"index",       "ready_ns",    "start_ns", "end_ns",  "run_ns",
                                               "response_ns", "preemptions", "core",     "left_out"};

// What a task does, and its jobs.
class TaskStates final : public PlainLane {
  public:
    TaskStates(const Trail& trail, std::size_t index)
        : PlainLane(trail, {trail.tasks.tasks[index].name, note_of(trail.tasks.tasks[index]),
                            trail.tasks.tasks[index].core, Shape::states, Ink::running}),
          index_(index),
          lane_(trail.tasks.tasks[index]) {}

    std::size_t size(std::size_t) const override { return lane_.jobs.size(); }
    Span span(std::size_t, std::size_t i) const override {
        const TaskJob& j = lane_.jobs[i];
        Span s{j.ready, j.end, {}, {}};
        if ((j.flags & TaskJob::kUncertain) != 0) s.flags |= Span::kCutBegin;
        if ((j.flags & TaskJob::kOpen) != 0) s.flags |= Span::kCutEnd;
        return s;
    }
    Range touching(std::size_t, Time from, Time to) const override {
        return touching_of(
            lane_.jobs.size(), from, to, [this](std::size_t i) { return lane_.jobs[i].ready; },
            [this](std::size_t i) { return lane_.jobs[i].end; });
    }
    std::size_t longest(std::size_t, std::size_t first, std::size_t last) const override {
        return lane_.longest_response.argmax(
            first, last, [this](std::size_t i) { return lane_.jobs[i].whole() ? lane_.jobs[i].response() : Time{}; });
    }
    // It stirs if it does anything but wait for its next job.
    bool stirs(Time from, Time to) const override {
        const auto [first, last] = lane_.touching(from, to);
        if (last - first > 3) return true;
        for (std::size_t i = first; i < last; ++i)
            if (const TaskState s = lane_.stretches[i].state;
                s != TaskState::waits_next_job && s != TaskState::absent && s != TaskState::unknown)
                return true;
        return false;
    }
    void each_edge(Time from, Time to, const std::function<void(Time)>& each) const override {
        const Time t{from.ps + (to.ps - from.ps) / 2};
        const std::size_t next = lane_.stretches.partition_point([t](const TaskStretch& s) { return s.begin < t; });
        if (next < lane_.stretches.size()) each(lane_.stretches[next].begin);
        if (next > 0) each(lane_.stretches[next - 1].begin);
    }
    std::optional<Time> busy(Time from, Time to) const override { return lane_.running_time(from, to); }
    std::vector<std::string> lengths() const override {
        if (trail_.tasks.cores[lane_.core].only_switches) return {"time on the core", "running time", "time held up"};
        return {"response", "running time", "time held up"};
    }
    Time length(std::size_t, std::size_t i, std::size_t which) const override {
        const TaskJob& j = lane_.jobs[i];
        return which == 0 ? j.response() : which == 1 ? j.run : j.response() - j.run;
    }

    std::size_t states_between(Time from, Time to) const override {
        const auto [first, last] = lane_.touching(from, to);
        return last - first;
    }
    void each_state(Time from, Time to, const EachState& each) const override {
        const auto [first, last] = lane_.touching(from, to);
        for (std::size_t i = first; i < last; ++i) {
            const TaskStretch& s = lane_.stretches[i];
            LaneState state{s.begin, end_of(i)};
            state.at = i;
            state.faint = lane_.idle;
            switch (s.state) {
                case TaskState::running:
                    state.look = LaneState::runs;
                    break;
                case TaskState::ready:
                    state.look = LaneState::held_off;
                    break;
                case TaskState::waits_lock:
                    state.look = LaneState::waits_for_lock;
                    break;
                case TaskState::waits_data:
                case TaskState::waits_time:
                case TaskState::waits_next_job:
                    state.look = LaneState::waits;
                    break;
                default:
                    break;
            }
            if (state.end > from) each(state);
        }
    }
    std::string state_label(const LaneState& state) const override {
        const TaskStretch& s = lane_.stretches[state.at];
        if (s.state == TaskState::waits_lock || s.state == TaskState::waits_data)
            return "waits for " + trail_.tasks.object_name(s.object);
        return s.state == TaskState::ready && !lane_.idle ? "ready" : "";
    }
    double running_share(Time from, Time to) const override {
        to = std::min(to, trail_.end);
        if (to <= from) return 0;
        return std::min(1.0,
                        static_cast<double>(lane_.running_time(from, to).ps) / static_cast<double>((to - from).ps));
    }
    // Interrupts cut in.
    void each_running_part(Time from, Time to, const EachPart& each) const override {
        const CoreTrail& core = trail_.cores[core_at(from)];
        const std::size_t first = core.change_time.upper_bound(from), last = core.change_time.lower_bound(to);
        constexpr std::size_t kMost = 4096;  // more cannot be told apart
        if (last > first + kMost) return each(from, to);
        Time at = from;
        bool handler = core.change_at(from) && ContextChange::is_handler(core.running_at(from));
        for (std::size_t k = first; k <= last; ++k) {
            const Time until = k < last ? core.change_time[k] : to;
            if (!handler && until > at) each(at, until);
            at = until;
            handler = k < last && ContextChange::is_handler(core.change_running[k]);
        }
    }
    Told told(Time t, const std::optional<std::pair<std::size_t, std::size_t>>&) const override {
        Told told{lane_.name, {}};
        if (lane_.priority_known) told.title += lane_.idle ? ", idle" : ", priority " + std::to_string(lane_.priority);
        const std::size_t i = lane_.stretch_at(t);
        if (i == lane_.stretches.size()) {
            told.lines.push_back("nothing is known of it yet");
            return told;
        }
        told.lines.push_back(state_at(t, i));
        if (const auto j = lane_.job_from(t); j < lane_.jobs.size() && lane_.jobs[j].ready <= t) tell_job(j, told);
        return told;
    }

  private:
    static std::string note_of(const TaskLane& lane) {
        std::string note = lane.idle             ? "idle"
                           : lane.priority_known ? "task, priority " + std::to_string(lane.priority)
                                                 : "task";
        return lane.migrates ? note + ", several cores" : note;
    }
    Time end_of(std::size_t i) const {
        return i + 1 < lane_.stretches.size() ? lane_.stretches[i + 1].begin : trail_.end;
    }
    std::size_t core_at(Time t) const {
        const std::size_t i = lane_.stretch_at(t);
        return i < lane_.stretches.size() ? lane_.stretches[i].core : lane_.core;
    }
    std::string state_at(Time t, std::size_t i) const {
        const TaskTrail& tasks = trail_.tasks;
        const TaskStretch& s = lane_.stretches[i];
        std::string text(task_state_name(s.state));
        if (s.state == TaskState::waits_lock) {
            text += ": " + tasks.object_name(s.object);
            if (const auto holder = holder_at(tasks, index_, s.object, t))
                text += ", held by " + tasks.task_name(*holder);
        } else if (s.state == TaskState::waits_data) {
            text += ": " + tasks.object_name(s.object);
        } else if (s.state == TaskState::ready && s.object != kNobody) {
            const bool lost = i > 0 && lane_.stretches[i - 1].state == TaskState::running;
            text += lost ? ", " + tasks.actor_name(s.object) + " took the core"
                         : ", made so by " + tasks.actor_name(s.object);
        }
        return text + " for " + duration_text(end_of(i) - s.begin) + ", from " + moment_text(s.begin);
    }
    void tell_job(std::size_t j, Told& told) const {
        const TaskJob& job = lane_.jobs[j];
        told.lines.push_back("job " + count_text(j + 1) + " of " + count_text(lane_.jobs.size()) + ": ready " +
                             moment_text(job.ready));
        told.lines.push_back("response " + duration_text(job.response()) + ", running " + duration_text(job.run) +
                             ", preempted by tasks " + plural(job.preemptions, "time", "times"));
        const JobParts parts = parts_of(trail_, index_, job.ready, job.end);
        const std::pair<Time, const char*> all[] = {
            {parts.own, "its own work"},       {parts.others, "other tasks"},
            {parts.lock, "waiting for locks"}, {parts.data, "waiting for data or time"},
            {parts.interrupts, "interrupts"},  {parts.kernel, "the kernel"}};
        for (const auto& [length, what] : all)
            if (length.ps > 0) told.lines.push_back("  " + duration_text(length) + " " + what);
        if (!job.whole())
            told.lines.emplace_back((job.flags & TaskJob::kOpen) != 0
                                        ? "not ended when the recording ended: excluded from the figures"
                                        : "its begin may be lost: excluded from the figures");
    }

    std::size_t index_;
    const TaskLane& lane_;
};

class Tasks final : public LaneKind {
  public:
    std::string_view id() const override { return "tasks"; }
    int order() const override { return 20; }
    int rank() const override { return 40; }
    std::string_view one() const override { return "a task"; }
    std::span<const FigureInfo> figures() const override { return kTaskFigures; }
    bool told(const Trail& trail) const override { return !trail.tasks.tasks.empty(); }
    std::string_view advice() const override {
        return "they come from an operating system's events: record them, or give a ctf stream";
    }

    std::vector<MeasuredRow> rows(const Measured& of) const override {
        std::vector<MeasuredRow> all;
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
            const TaskLane& lane = of.trail.tasks.tasks[r.task];
            row.insert(row.end(),
                       {Cell(r.response.p99), Cell(r.latency.greatest), lane.ran ? Cell(lane.first_run) : Cell()});
            all.push_back({r.task, std::move(row)});
        }
        return all;
    }

    std::span<const PanelFigure> panel(const Trail& trail, std::uint64_t activity) const override {
        static constexpr PanelFigure kJobs[] = {{"response_min", "min"},   {"response_mean", "mean"},
                                                {"response_p99", "P99"},   {"response_max", "max"},
                                                {"mean", "running, mean"}, {"share", "share"}};
        // With task switches alone, a stretch on the core is all that is known.
        static constexpr PanelFigure kStretches[] = {{"min", "min"}, {"mean", "mean"},          {"p99", "P99"},
                                                     {"max", "max"}, {"mean", "running, mean"}, {"share", "share"}};
        return trail.tasks.cores[trail.tasks.tasks[activity].core].only_switches
                   ? std::span<const PanelFigure>(kStretches)
                   : kJobs;
    }
    std::string summary(const Trail& trail, const MeasuredRow& row) const override {
        const TaskLane& lane = trail.tasks.tasks[row.activity];
        if (lane.idle) return "idle: what no task needs";
        const std::string count = cell_text(*cell_of(*this, row, "count")),
                          left_out = cell_text(*cell_of(*this, row, "left_out")) + " excluded";
        if (trail.tasks.cores[lane.core].only_switches)
            return "running time, " + count + " stretches on the core, " + left_out;
        return "response, " + count + " jobs, " + left_out + "; " + job_rule_text(lane.rule);
    }
    // The most urgent first; idle last.
    std::vector<std::uint64_t> lanes(const Trail& trail) const override {
        std::vector<std::uint64_t> all;
        for (const std::size_t t : trail.tasks.order()) {
            const TaskLane& lane = trail.tasks.tasks[t];
            if (!lane.stretches.empty() && lane.core < trail.tasks.cores.size() && trail.tasks.cores[lane.core].present)
                all.push_back(t);
        }
        return all;
    }
    std::unique_ptr<const Lane> lane(const Trail& trail, std::uint64_t index) const override {
        if (index >= trail.tasks.tasks.size()) return nullptr;
        return std::make_unique<TaskStates>(trail, index);
    }
    // Which task has the core, who else is ready, and who waits for whom.
    std::vector<Phrase> moment(const Trail& trail, std::size_t core, Time t) const override {
        const TaskTrail& tasks = trail.tasks;
        if (core >= tasks.cores.size() || !tasks.cores[core].present) return {};
        const auto link = [&](std::size_t task) {
            const TaskLane& lane = tasks.tasks[task];
            Said said{lane.name};
            if (!lane.jobs.empty())
                said.link = SpanRef{{this, task}, 0, std::min(lane.job_from(t), lane.jobs.size() - 1)};
            return said;
        };
        Phrase running, ready, waiting;
        for (const std::size_t i : tasks.order()) {
            const TaskLane& lane = tasks.tasks[i];
            const std::size_t at = lane.stretch_at(t);
            if (at == lane.stretches.size()) continue;
            const TaskStretch& s = lane.stretches[at];
            const std::string since = duration_text(t - s.begin);
            if (s.core != core) continue;
            if (s.state == TaskState::running)
                running = lane.idle ? Phrase{{"idle for " + since}} : Phrase{link(i), {" running for " + since}};
            if (s.state == TaskState::ready && !lane.idle) {
                ready.push_back({ready.empty() ? "ready: " : ", "});
                ready.push_back(link(i));
                ready.push_back({" " + since});
            }
            if (s.state == TaskState::waits_lock) {
                waiting.push_back({waiting.empty() ? "waiting: " : ", "});
                waiting.push_back(link(i));
                waiting.push_back({" for " + tasks.object_name(s.object)});
                if (const auto holder = holder_at(tasks, i, s.object, t)) {
                    waiting.push_back({", held by "});
                    waiting.push_back(link(*holder));
                }
            }
        }
        std::vector<Phrase> all;
        for (Phrase* p : {&running, &ready, &waiting})
            if (!p->empty()) all.push_back(std::move(*p));
        if (all.empty()) all.push_back({{"running task unknown"}});
        return all;
    }

    std::vector<Name> names(const Trail& trail) const override {
        std::vector<Name> all;
        for (std::size_t i = 0; i < trail.tasks.tasks.size(); ++i) all.push_back({trail.tasks.tasks[i].name, "", i});
        return all;
    }
    std::span<const std::string_view> instance_columns() const override { return kTaskInstances; }
    void each_instance(const Trail& trail, std::uint64_t index, const EachRow& each) const override {
        const TaskLane& lane = trail.tasks.tasks[index];
        for (std::size_t i = 0; i < lane.jobs.size(); ++i) {
            const TaskJob& j = lane.jobs[i];
            const char* left_out = (j.flags & TaskJob::kOpen) != 0        ? "not ended"
                                   : (j.flags & TaskJob::kUncertain) != 0 ? "begin may be lost"
                                                                          : "";
            const std::array<Cell, std::size(kTaskInstances)> row = {
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

const LaneKind& tasks_kind() {
    static const Tasks kind;
    return kind;
}

}  // namespace mt
