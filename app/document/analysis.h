// What is worked out from the snapshots of a document: the figures of every kind, the findings, the check of the clock.
#pragma once

#include <chrono>
#include <map>
#include <memory>
#include <set>
#include <vector>

#include <QObject>

#include "base/progress.h"
#include "document/job_queue.h"
#include "judge/finding.h"
#include "measure/lane_kind.h"
#include "recording/recording.h"

namespace mt::app {

/// Works on a thread of its own and hands over what is done by signals. Only the window's thread may call its members.
/// Beginning again cancels what still runs.
class Analysis : public QObject {
    Q_OBJECT
  public:
    explicit Analysis(QObject* parent = nullptr);
    ~Analysis() override;

    const std::vector<Finding>& findings() const { return findings_; }
    /// The figures of a kind; none before they are there.
    const std::vector<MeasuredRow>& figures(const LaneKind& kind) const;
    /// The figures of a kind that costs nothing, at once: a person changed what they are of.
    void renew(const LaneKind& kind, const Trail& trail) { figures_[&kind] = kind.rows({trail}); }
    /// Those of one activity; null if they are not there.
    const MeasuredRow* figures(const LaneKind& kind, std::uint64_t activity) const;
    /// Whether the tick of the first core bears out its clock.
    ClockCheck clock() const { return clock_; }

    /// Forgets everything and gives up what is being worked out.
    void clear();
    void give_up();
    /// The recording is complete: all of it. `judged` follows, and `measured` once the functions are there, too.
    void work_out(std::shared_ptr<const Recording> recording, std::shared_ptr<const Trail> trail);
    /// While a recording is made, the kinds that somebody looks at are measured again, at most once in a second.
    void look_at(const LaneKind& kind) { looked_at_.insert(&kind); }
    void follow(std::shared_ptr<const Recording> recording, std::shared_ptr<const Trail> trail);

  signals:
    void judged();    ///< the findings and the figures are there, but those of functions
    void measured();  ///< figures are newer
    void failed(const QString& why);

  private:
    using Figures = std::map<const LaneKind*, std::vector<MeasuredRow>>;
    template <class F>
    void post(std::shared_ptr<Progress> progress, F what);

    std::vector<Finding> findings_;
    Figures figures_;
    ClockCheck clock_ = ClockCheck::unchecked;
    std::set<const LaneKind*> looked_at_;
    std::shared_ptr<Progress> progress_;
    std::chrono::steady_clock::time_point followed_{};
    bool following_ = false;  ///< figures of a growing recording are being worked out
    JobQueue jobs_;           ///< last: its end waits for what uses the rest
};

}  // namespace mt::app
