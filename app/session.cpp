#include "session.h"

#include <QMetaObject>

#include "job_rule_store.h"
#include "measure/kinds/kinds.h"

namespace mt::app {
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
            take_trail(trail);
            if (first) replace_open(r);
            emit grew();
        });
        shown = true;
    };
    auto trail = read_trail(**recording, *progress, show);
    if (!trail) return fail(trail.error());
    show(*trail);
    auto findings = find_all(**recording, **trail, judging.get());
    if (judging->cancelled()) return;
    const ClockCheck clock = (*trail)->cores.empty() ? ClockCheck::unchecked : clock_check(**trail, 0);
    const Measured of{**trail, (*recording)->functions};
    std::map<const LaneKind*, std::vector<MeasuredRow>> figures;
    for (const LaneKind* kind : LaneKinds::all())
        if (kind != &functions_kind()) figures[kind] = kind->rows(of);
    post(turn, [this, figures = std::move(figures), clock, findings = std::move(findings)]() mutable {
        clock_ = clock;
        figures_ = std::move(figures);
        findings_ = std::move(findings);
        busy_ = false;
        emit finished();
    });
    if (judging->cancelled()) return;
    post(turn, [this, rows = functions_kind().rows(of)]() mutable {
        figures_[&functions_kind()] = std::move(rows);
        emit measured();
    });
}

void Session::take_trail(std::shared_ptr<const Trail> trail) {
    trail_ = std::move(trail);
    lanes_ = std::make_shared<const LaneBook>(trail_);
}

// Another recording is shown from now on; what was found in the one before goes with it.
void Session::replace_open(std::shared_ptr<const Recording> recording) {
    recording_ = std::move(recording);
    findings_.clear();
    figures_.clear();
    clock_ = ClockCheck::unchecked;
    emit opened();
}

void Session::take_live(std::shared_ptr<const Recording> recording, std::shared_ptr<const Trail> trail, bool first) {
    take_trail(std::move(trail));
    if (first) {
        give_up();
        ++turn_;
        busy_ = false;
        live_ = true;
        replace_open(std::move(recording));
    }
    emit grew();
}

const std::vector<MeasuredRow>& Session::figures(const LaneKind& kind) const {
    static const std::vector<MeasuredRow> none;
    const auto found = figures_.find(&kind);
    return found == figures_.end() ? none : found->second;
}

const MeasuredRow* Session::figures(const LaneKind& kind, std::uint64_t activity) const {
    const auto& rows = figures(kind);
    const auto found =
        std::find_if(rows.begin(), rows.end(), [activity](const MeasuredRow& r) { return r.activity == activity; });
    return found == rows.end() ? nullptr : &*found;
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
