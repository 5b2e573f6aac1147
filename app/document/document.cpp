#include "document/document.h"

#include <QMetaObject>

#include <algorithm>

#include "document/job_rule_store.h"
#include "judge/muted.h"
#include "measure/kinds/kinds.h"
#include "recording/waymarks.h"

namespace mt::app {
Document::Document(QObject* parent) : QObject(parent) {
    connect(&analysis_, &Analysis::judged, this, [this] {
        busy_ = false;
        emit finished();
    });
    connect(&analysis_, &Analysis::measured, this, &Document::measured);
    connect(&analysis_, &Analysis::failed, this, [this](const QString& why) {
        busy_ = false;
        emit failed({"this went wrong inside: " + why.toStdString(), recording_ ? recording_->input : std::string(),
                     "please report it with the file"});
    });
}

Document::~Document() {
    ++turn_;
    give_up();
    for (auto& w : workers_) w.join();
}

template <class F>
void Document::post(quint64 turn, F what) {
    QMetaObject::invokeMethod(
        this,
        [this, turn, what = std::move(what)]() mutable {
            if (turn == turn_) what();
        },
        Qt::QueuedConnection);
}

void Document::open(const QString& path) {
    job_rules_ = kept_job_rules(path);
    draft_.reset();
    start(path);
}

void Document::open_as(const QString& path, const std::string& target_text) {
    job_rules_ = kept_job_rules(path);
    draft_ = target_text;
    start(path);
}

void Document::read_as(const std::string& target_text) {
    if (!recording_ || live_) return;
    draft_ = target_text;
    start(path_);
}

void Document::set_job_rule(const std::string& task, const JobRule& rule) {
    if (!recording_ || live_) return;
    JobRule own;  // of the target file, before those changed by hand
    const std::vector<TaskSpec>& all = recording_->target.tasks;
    for (std::size_t i = 0; i + job_rules_.size() < all.size(); ++i)
        if (all[i].name == task) own = all[i].rule;
    std::erase_if(job_rules_, [&](const TaskSpec& t) { return t.name == task; });
    if (rule != own) job_rules_.push_back({task, std::nullopt, {}, rule});
    const QString path = QString::fromStdString(recording_->input);
    keep_job_rules(path, job_rules_);
    start(path);
}

void Document::start(const QString& path) {
    give_up();
    progress_ = std::make_shared<Progress>();
    const quint64 turn = ++turn_;
    path_ = path;
    busy_ = true;
    emit opening(path);
    workers_.emplace_back(
        [this, file = path.toStdString(), turn, progress = progress_, rules = job_rules_, draft = draft_] {
            const auto fail = [&](const std::string& what, const std::string& advice) {
                post(turn, [this, problem = Problem{what, file, advice}] {
                    busy_ = false;
                    emit failed(problem);
                });
            };
            try {
                work(file, turn, progress, rules, draft);
            } catch (const std::bad_alloc&) {
                fail("not enough memory", "close other programs, or open a part of it");
            } catch (const std::exception& e) {
                fail(std::string("this went wrong inside: ") + e.what(), "please report it with the file");
            }
        });
}

// Nobody waits for this turn's result any more: neither decoding nor judging need go on.
void Document::give_up() {
    if (progress_) progress_->cancel();
    analysis_.give_up();
}

void Document::cancel() {
    if (progress_) progress_->cancel();
}

// On a worker: touches no member but through post().
void Document::work(const std::string& path, quint64 turn, std::shared_ptr<Progress> progress,
                    const std::vector<TaskSpec>& rules, const std::optional<std::string>& draft) {
    auto recording = open_recording(path, draft);
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
            if (first) emit replacing();
            take_trail(trail);
            if (first) replace_open(r);
            emit grew();
        });
        shown = true;
    };
    auto trail = read_trail(**recording, *progress, show);
    if (!trail) return fail(trail.error());
    show(*trail);
    post(turn, [this, r = *recording, t = *trail] { analysis_.work_out(r, t); });
}

Result<void> Document::set_waymarks(std::vector<Waymark> waymarks) {
    if (!trail_ || !recording_) return {};
    std::stable_sort(waymarks.begin(), waymarks.end(), [](const Waymark& a, const Waymark& b) { return a.at < b.at; });
    if (waymarks.size() > kMostWaymarks)
        return failure("there are " + std::to_string(kMostWaymarks) + " waymarks already", recording_->input,
                       "take away those that no longer matter");
    if (auto kept = keep_waymarks(waymarks, recording_->input); !kept) return kept;
    auto next = std::make_shared<Trail>(*trail_);  // its columns are shared
    next->waymarks = std::move(waymarks);
    take_trail(next);
    analysis_.renew(waymarks_kind(), *trail_);
    emit grew();
    emit measured();
    return {};
}

void Document::take_trail(std::shared_ptr<const Trail> trail) {
    trail_ = std::move(trail);
    lanes_ = std::make_shared<const LaneBook>(trail_);
}

// Another recording is shown from now on; what was found in the one before goes with it.
void Document::replace_open(std::shared_ptr<const Recording> recording) {
    recording_ = std::move(recording);
    analysis_.clear();
    emit opened();
}

void Document::take_live(std::shared_ptr<const Recording> recording, std::shared_ptr<const Trail> trail, bool first) {
    if (first) emit replacing();
    take_trail(std::move(trail));
    if (first) {
        give_up();
        ++turn_;
        busy_ = false;
        live_ = true;
        path_ = QString::fromStdString(recording->input);
        replace_open(recording);
    }
    analysis_.follow(std::move(recording), trail_);
    emit grew();
}

void Document::save(const QString& folder, bool replace) {
    if (!recording_) return;
    auto r = recording_;
    workers_.emplace_back([this, r, folder, replace] {
        Progress progress;
        auto outcome = save_recording(*r, folder.toStdString(), replace, progress);
        if (outcome) outcome = copy_muted(r->input, folder.toStdString());
        if (outcome) outcome = copy_waymarks(r->input, folder.toStdString());
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
