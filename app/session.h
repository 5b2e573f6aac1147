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
#include "measure/lane_book.h"
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
    /// The lanes of the newest snapshot; null as long as nothing is open.
    const std::shared_ptr<const LaneBook>& lanes() const { return lanes_; }
    /// The figures of a kind, once all is decoded; none before.
    const std::vector<MeasuredRow>& figures(const LaneKind& kind) const;
    /// Those of one activity; null if they are not there.
    const MeasuredRow* figures(const LaneKind& kind, std::uint64_t activity) const;
    /// Whether the tick of the first core bears out its clock, once all is decoded.
    ClockCheck clock() const { return clock_; }

  signals:
    void opening(const QString& path);
    void opened();    ///< the recording is there, decoding goes on
    void grew();      ///< a new snapshot
    void finished();  ///< the last snapshot, the findings and the measures are there, but those of functions
    void measured();  ///< those of functions, too
    void failed(const mt::Problem& problem);
    void saved(const QString& folder);
    void save_failed(const mt::Problem& problem);

  private:
    void start(const QString& path);
    void work(const std::string& path, quint64 turn, std::shared_ptr<Progress> progress,
              std::shared_ptr<Progress> judging, const std::vector<TaskSpec>& rules);
    void give_up();
    void take_trail(std::shared_ptr<const Trail> trail);
    void replace_open(std::shared_ptr<const Recording> recording);
    template <class F>
    void post(quint64 turn, F what);

    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const Trail> trail_;
    std::vector<Finding> findings_;
    std::shared_ptr<const LaneBook> lanes_;
    std::map<const LaneKind*, std::vector<MeasuredRow>> figures_;
    std::shared_ptr<Progress> progress_, judging_;
    std::vector<TaskSpec> job_rules_;  ///< changed by hand
    std::vector<std::thread> workers_;
    ClockCheck clock_ = ClockCheck::unchecked;
    quint64 turn_ = 0;
    bool busy_ = false, live_ = false;
};

}  // namespace mt::app
