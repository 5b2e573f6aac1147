#include "session.h"

#include <QMetaObject>

#include "job_rule_store.h"

namespace mt::app {
namespace {
constexpr std::size_t kBins = 36;
}

Session::Session(QObject* parent) : QObject(parent) {}

Session::~Session() {
    ++turn_;
    give_up();
    for (auto& w : workers_) w.join();
}

template <class F>
void Session::post(quint64 turn, F what) {
    QMetaObject::invokeMethod(
        this,
        [this, turn, what = std::move(what)]() mutable {
            if (turn == turn_) what();
        },
        Qt::QueuedConnection);
}

void Session::open(const QString& path) {
    job_rules_ = kept_job_rules(path);
    start(path);
}

void Session::set_job_rule(const std::string& task, const JobRule& rule) {
    if (!recording_ || live_) return;
    JobRule own;  // of the target file, before those changed by hand
    const std::vector<TaskSpec>& all = recording_->target.tasks;
    for (std::size_t i = 0; i + job_rules_.size() < all.size(); ++i)
        if (all[i].name == task) own = all[i].rule;
    std::erase_if(job_rules_, [&](const TaskSpec& t) { return t.name == task; });
    if (rule != own) job_rules_.push_back({task, rule});
    const QString path = QString::fromStdString(recording_->input);
    keep_job_rules(path, job_rules_);
    start(path);
}

void Session::start(const QString& path) {
    give_up();
    progress_ = std::make_shared<Progress>();
    judging_ = std::make_shared<Progress>();
    const quint64 turn = ++turn_;
    busy_ = true;
    emit opening(path);
    workers_.emplace_back(
        [this, file = path.toStdString(), turn, progress = progress_, judging = judging_, rules = job_rules_] {
            const auto fail = [&](const std::string& what, const std::string& advice) {
                post(turn, [this, problem = Problem{what, file, advice}] {
                    busy_ = false;
                    emit failed(problem);
                });
            };
            try {
                work(file, turn, progress, judging, rules);
            } catch (const std::bad_alloc&) {
                fail("not enough memory", "close other programs, or open a part of it");
            } catch (const std::exception& e) {
                fail(std::string("this went wrong inside: ") + e.what(), "please report it with the file");
            }
        });
}

// Nobody waits for this turn's result any more: neither decoding nor judging need go on.
void Session::give_up() {
    if (progress_) progress_->cancel();
    if (judging_) judging_->cancel();
}

void Session::cancel() {
    if (progress_) progress_->cancel();
}

// On a worker: touches no member but through post().
void Session::work(const std::string& path, quint64 turn, std::shared_ptr<Progress> progress,
                   std::shared_ptr<Progress> judging, const std::vector<TaskSpec>& rules) {
    auto recording = open_recording(path);
    if (recording && !rules.empty()) {
        auto changed = std::make_shared<Recording>(**recording);
        changed->target.tasks.insert(changed->target.tasks.end(), rules.begin(), rules.end());
        recording = std::shared_ptr<const Recording>(std::move(changed));
    }
    const auto fail = [&](const Problem& problem) {
        post(turn, [this, problem] {
            busy_ = false;
            emit failed(problem);
        });
    };
    if (!recording) return fail(recording.error());
    // What was open stays open until the new one has shown that it can be decoded.
    bool shown = false;
    const auto show = [&](std::shared_ptr<const Trail> trail) {
        post(turn, [this, first = !shown, r = *recording, trail = std::move(trail)] {
            trail_ = trail;
            if (first) replace_open(r);
            emit grew();
        });
        shown = true;
    };
    auto trail = read_trail(**recording, *progress, show);
    if (!trail) return fail(trail.error());
    show(*trail);
    auto rows = interrupt_rows(**trail, judging.get());
    auto findings = find_all(**recording, **trail, judging.get());
    if (judging->cancelled()) return;
    const ClockCheck clock = (*trail)->cores.empty() ? ClockCheck::unchecked : clock_check(**trail, 0);
    std::map<std::pair<std::size_t, std::size_t>, Distribution> distributions;
    for (const auto& r : rows)
        distributions[{r.core, r.lane}] = duration_distribution((*trail)->cores[r.core].lanes[r.lane], kBins);
    std::vector<TaskRow> of_tasks;
    std::vector<LockRow> of_locks;
    std::vector<QueueRow> of_queues;
    std::vector<StateRow> of_states;
    std::vector<Distribution> responses;
    if ((*trail)->tasks.present()) {
        of_tasks = mt::task_rows(**trail);
        of_locks = mt::lock_rows(**trail);
        of_queues = mt::queue_rows(**trail);
        of_states = mt::state_rows(**trail);
        for (const auto& lane : (*trail)->tasks.tasks) {
            std::vector<Time> lengths;
            for (std::size_t i = 0; i < lane.jobs.size(); ++i)
                if (lane.jobs[i].whole()) lengths.push_back(lane.jobs[i].response());
            responses.push_back(distribution_of(lengths, kBins));
        }
    }
    post(turn, [this, of_tasks = std::move(of_tasks), of_locks = std::move(of_locks), of_queues = std::move(of_queues),
                of_states = std::move(of_states), responses = std::move(responses), clock, rows = std::move(rows),
                findings = std::move(findings), distributions = std::move(distributions)]() mutable {
        clock_ = clock;
        rows_ = std::move(rows);
        task_rows_ = std::move(of_tasks);
        lock_rows_ = std::move(of_locks);
        queue_rows_ = std::move(of_queues);
        state_rows_ = std::move(of_states);
        task_distributions_ = std::move(responses);
        findings_ = std::move(findings);
        distributions_ = std::move(distributions);
        busy_ = false;
        emit finished();
    });
}

// Another recording is shown from now on; what was found in the one before goes with it.
void Session::replace_open(std::shared_ptr<const Recording> recording) {
    recording_ = std::move(recording);
    findings_.clear();
    rows_.clear();
    task_rows_.clear();
    lock_rows_.clear();
    queue_rows_.clear();
    state_rows_.clear();
    task_distributions_.clear();
    clock_ = ClockCheck::unchecked;
    distributions_.clear();
    emit opened();
}

void Session::take_live(std::shared_ptr<const Recording> recording, std::shared_ptr<const Trail> trail, bool first) {
    trail_ = std::move(trail);
    if (first) {
        give_up();
        ++turn_;
        busy_ = false;
        live_ = true;
        replace_open(std::move(recording));
    }
    emit grew();
}

const Distribution* Session::distribution(std::size_t core, std::size_t lane) const {
    const auto found = distributions_.find({core, lane});
    return found == distributions_.end() ? nullptr : &found->second;
}

const Distribution* Session::task_distribution(std::size_t task) const {
    return task < task_distributions_.size() ? &task_distributions_[task] : nullptr;
}

void Session::save(const QString& folder, bool replace) {
    if (!recording_) return;
    auto r = recording_;
    workers_.emplace_back([this, r, folder, replace] {
        Progress progress;
        const auto outcome = save_recording(*r, folder.toStdString(), replace, progress);
        QMetaObject::invokeMethod(
            this,
            [this, outcome, folder] {
                if (outcome)
                    emit saved(folder);
                else
                    emit save_failed(outcome.error());
            },
            Qt::QueuedConnection);
    });
}

}  // namespace mt::app
