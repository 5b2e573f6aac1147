// One opened recording and the work on it in the background.
#pragma once

#include <map>
#include <memory>
#include <thread>
#include <vector>

#include <QObject>
#include <QString>

#include "base/problem.h"
#include "base/progress.h"
#include "judge/finding.h"
#include "measure/interrupts.h"
#include "measure/states.h"
#include "measure/tasks.h"
#include "model/trail.h"
#include "pass/reading.h"
#include "recording/recording.h"

namespace mt::app {

/// Opens, decodes and judges on a worker; hands immutable snapshots to the window's thread by signals.
/// Only the window's thread may call its members. Opening again cancels what still runs.
class Session : public QObject {
    Q_OBJECT
  public:
    explicit Session(QObject* parent = nullptr);
    ~Session() override;

    void open(const QString& path);
    void cancel();
    /// Where the jobs of a task begin and end, whenever this recording is opened; it is decoded again.
    void set_job_rule(const std::string& task, const JobRule& rule);
    /// Those that were changed so.
    const std::vector<TaskSpec>& job_rules() const { return job_rules_; }
    /// A snapshot of a recording that is being made; `first` replaces what was open.
    void take_live(std::shared_ptr<const Recording> recording, std::shared_ptr<const Trail> trail, bool first);
    void end_live() { live_ = false; }
    bool live() const { return live_; }
    bool busy() const { return busy_; }
    double progress() const { return progress_ ? progress_->share() : 0; }
    /// Saves the recording on a worker; `saved` or `save_failed` follows.
    void save(const QString& folder, bool replace);

    std::shared_ptr<const Recording> recording() const { return recording_; }
    std::shared_ptr<const Trail> trail() const { return trail_; }
    const std::vector<Finding>& findings() const { return findings_; }
    const std::vector<InterruptRow>& rows() const { return rows_; }
    /// Whether the tick of the first core bears out its clock, once all is decoded.
    ClockCheck clock() const { return clock_; }
    /// The distribution of a lane's durations; nullptr while it is not there yet.
    const Distribution* distribution(std::size_t core, std::size_t lane) const;
    /// The distribution of a task's responses.
    const Distribution* task_distribution(std::size_t task) const;
    const std::vector<TaskRow>& task_rows() const { return task_rows_; }
    const std::vector<LockRow>& lock_rows() const { return lock_rows_; }
    const std::vector<QueueRow>& queue_rows() const { return queue_rows_; }
    const std::vector<StateRow>& state_rows() const { return state_rows_; }

  signals:
    void opening(const QString& path);
    void opened();    ///< the recording is there, decoding goes on
    void grew();      ///< a new snapshot
    void finished();  ///< the last snapshot, the findings and the measures are there
    void failed(const mt::Problem& problem);
    void saved(const QString& folder);
    void save_failed(const mt::Problem& problem);

  private:
    void start(const QString& path);
    void work(const std::string& path, quint64 turn, std::shared_ptr<Progress> progress,
              std::shared_ptr<Progress> judging, const std::vector<TaskSpec>& rules);
    void give_up();
    void replace_open(std::shared_ptr<const Recording> recording);
    template <class F>
    void post(quint64 turn, F what);

    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const Trail> trail_;
    std::vector<Finding> findings_;
    std::vector<InterruptRow> rows_;
    std::vector<TaskRow> task_rows_;
    std::vector<LockRow> lock_rows_;
    std::vector<QueueRow> queue_rows_;
    std::vector<StateRow> state_rows_;
    std::vector<Distribution> task_distributions_;
    std::map<std::pair<std::size_t, std::size_t>, Distribution> distributions_;
    std::shared_ptr<Progress> progress_, judging_;
    std::vector<TaskSpec> job_rules_;  ///< changed by hand
    std::vector<std::thread> workers_;
    ClockCheck clock_ = ClockCheck::unchecked;
    quint64 turn_ = 0;
    bool busy_ = false, live_ = false;
};

}  // namespace mt::app
