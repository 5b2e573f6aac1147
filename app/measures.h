// Measures: the figures of what is selected beside the lanes, and the page with the tables of all kinds.
#pragma once

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QStackedWidget>
#include <QTabBar>
#include <QTableView>
#include <QWidget>

#include "figure_table.h"
#include "job_queue.h"
#include "plots.h"
#include "session.h"
#include "viewpoint.h"

namespace mt::app {

/// The figures of the selected lane, its distribution and its durations over time.
class MeasuresPanel : public QWidget {
    Q_OBJECT
  public:
    MeasuresPanel(Session& session, Viewpoint& view, QWidget* parent = nullptr);
    DistributionPlot* distribution() const { return distribution_; }
    OverTimePlot* over_time() const { return over_time_; }

  signals:
    void all_wanted();
    void span_chosen(const mt::SpanRef& span);
    void window_chosen(mt::Time from, mt::Time to);

  private:
    void renew();
    void renew_series(std::size_t which);
    void renew_choice(const Lane& lane);
    QString figures_text(const LaneKind& kind, const MeasuredRow& row) const;
    Session& session_;
    Viewpoint& view_;
    QLabel *name_, *sub_, *figures_, *all_;
    QLabel* caption_;
    DistributionPlot* distribution_;
    OverTimePlot* over_time_;
    QComboBox* over_choice_;
    std::shared_ptr<Progress> measuring_;
    JobQueue jobs_;  ///< last: its end waits for what uses the rest
};

/// A table for each kind that the recording tells of, to sort, filter, copy and save.
class MeasuresPage : public QWidget {
    Q_OBJECT
  public:
    MeasuresPage(Session& session, Viewpoint& view, QWidget* parent = nullptr);
    /// The table of a kind, by its id.
    FigureTable* table(std::string_view kind) const;
    /// The kind whose table is shown.
    const LaneKind& shown() const;
    /// Shows the table of a kind, if the recording tells of it.
    void choose(std::string_view kind);
    QTabBar* choice() const { return choice_; }
    QLineEdit* filter() const { return filter_; }
    /// The selected rows (all if none), tab-separated with the heading.
    QString copied_text() const;

  signals:
    void back_wanted();
    /// `leave`: show it in the lanes; otherwise the table stays, and the other views go there.
    void span_chosen(const mt::SpanRef& span, bool leave);
    void save_wanted();

  private:
    void renew_choice();
    Session& session_;
    std::vector<FigureTable*> all_;
    QTabBar* choice_;
    QStackedWidget* tables_;
    QLineEdit* filter_;
    QLabel* hint_;
    bool fresh_ = true;  ///< nobody has chosen since the recording was opened
};

}  // namespace mt::app
