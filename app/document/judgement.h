// The rules that the open recording is held against, and what came of it.
#pragma once

#include <functional>
#include <optional>
#include <utility>
#include <vector>

#include <QObject>
#include <QString>

#include "document/document.h"
#include "document/job_queue.h"
#include "judge/rule_check.h"
#include "judge/rule_plots.h"

namespace mt::app {

/// Judges on a worker once a recording is whole, and again when its rules change. The file that is kept with the
/// recording (of the same name, or the only one in its folder) is taken by itself. Only the window's thread may call.
class Judgement : public QObject {
    Q_OBJECT
  public:
    explicit Judgement(Document& document, QObject* parent = nullptr);

    /// The rules file; empty: none.
    const QString& file() const { return file_; }
    /// What is wrong with it; empty: nothing.
    const QString& trouble() const { return trouble_; }
    bool judging() const { return judging_; }
    const std::vector<RuleOutcome>& outcomes() const { return outcomes_; }
    /// Where limits are drawn in lanes and plots.
    const std::vector<LimitLine>& limits() const { return limits_; }
    /// Those on one length, or the values, of an activity.
    std::vector<LimitLine> limits_of(const LaneId& lane, std::uint64_t activity, std::size_t length) const;

    /// Holds the recording against a file's rules; what is wrong with it is told.
    void use_file(const QString& path);
    /// Writes rules proposed from this recording, and uses them.
    void propose_into(const QString& path);
    /// Where a rule goes that is made in the window: the file in use, else one beside the recording.
    QString file_for_new() const;
    /// Adds a rule at the end of a file, which may not be there yet, and uses that. Whether it could.
    bool add_rule(const QString& path, Rule rule);
    /// The file as it was before the last rule was added; only as long as nobody else has changed it.
    void take_back();

  signals:
    void changed();  ///< other rules, or other outcomes
    void told(const QString& text, bool bad);

  private:
    struct Added {
        QString path, name;
        std::optional<QByteArray> before;  ///< nothing: there was no file
        QByteArray after;
    };
    void find_file();
    void judge();
    /// Whether it is there as a whole; told if not.
    bool write(const QString& path, const QByteArray& text);

    Document& document_;
    QString file_, trouble_;
    std::vector<RuleOutcome> outcomes_;
    std::vector<LimitLine> limits_;
    std::optional<Added> added_;
    bool judging_ = false;
    quint64 turn_ = 0;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
