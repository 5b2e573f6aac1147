// One opened recording and the work on it in the background.
#pragma once

#include <memory>
#include <optional>
#include <thread>
#include <vector>

#include <QObject>
#include <QString>

#include "base/problem.h"
#include "base/progress.h"
#include "document/analysis.h"
#include "measure/lane_book.h"
#include "model/trail.h"
#include "pass/reading.h"
#include "recording/recording.h"

namespace mt::app {

/// Opens, decodes and judges on a worker; hands immutable snapshots to the window's thread by signals.
/// Only the window's thread may call its members. Opening again cancels what still runs.
class Document : public QObject {
    Q_OBJECT
  public:
    explicit Document(QObject* parent = nullptr);
    ~Document() override;

    void open(const QString& path);
    /// Opens a target file as if it said this.
    void open_as(const QString& path, const std::string& target_text);
    /// Decodes what is open anew, as if its target file said this.
    void read_as(const std::string& target_text);
    /// What was opened last, whether it could be read or not; empty: nothing yet.
    const QString& path() const { return path_; }
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
    /// Keeps them with the recording; every view shows them. A Problem if their file cannot be written: then nothing
    /// changes.
    Result<void> set_waymarks(std::vector<Waymark> waymarks);
    /// Saves the recording on a worker; `saved` or `save_failed` follows.
    void save(const QString& folder, bool replace);

    std::shared_ptr<const Recording> recording() const { return recording_; }
    std::shared_ptr<const Trail> trail() const { return trail_; }
    /// What was worked out from the snapshots: figures, findings.
    Analysis& analysis() { return analysis_; }
    const std::vector<Finding>& findings() const { return analysis_.findings(); }
    /// The lanes of the newest snapshot; null as long as nothing is open.
    const std::shared_ptr<const LaneBook>& lanes() const { return lanes_; }
    /// The figures of a kind: once all is decoded, or of what is looked at while a recording is made; none before.
    const std::vector<MeasuredRow>& figures(const LaneKind& kind) const { return analysis_.figures(kind); }
    const MeasuredRow* figures(const LaneKind& kind, std::uint64_t activity) const {
        return analysis_.figures(kind, activity);
    }
    /// Whether the tick of the first core bears out its clock, once all is decoded.
    ClockCheck clock() const { return analysis_.clock(); }

  signals:
    void opening(const QString& path);
    void replacing();  ///< another recording takes the place of what is open: nothing may be held on to in that
    void opened();     ///< the recording is there, decoding goes on
    void grew();       ///< a new snapshot
    void finished();   ///< the last snapshot, the findings and the measures are there, but those of functions
    void measured();   ///< figures are newer: those of functions, or of a recording that is being made
    void failed(const mt::Problem& problem);
    void saved(const QString& folder);
    void save_failed(const mt::Problem& problem);

  private:
    void start(const QString& path);
    void work(const std::string& path, quint64 turn, std::shared_ptr<Progress> progress,
              const std::vector<TaskSpec>& rules, const std::optional<std::string>& draft);
    void give_up();
    void take_trail(std::shared_ptr<const Trail> trail);
    void replace_open(std::shared_ptr<const Recording> recording);
    template <class F>
    void post(quint64 turn, F what);

    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const Trail> trail_;
    std::shared_ptr<const LaneBook> lanes_;
    std::shared_ptr<Progress> progress_;
    std::vector<TaskSpec> job_rules_;   ///< changed by hand
    std::optional<std::string> draft_;  ///< what the target file shall say
    std::vector<std::thread> workers_;
    Analysis analysis_;
    QString path_;
    quint64 turn_ = 0;
    bool busy_ = false, live_ = false;
};

}  // namespace mt::app
