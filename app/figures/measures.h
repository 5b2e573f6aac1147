// Measures: the figures of what is selected beside the lanes, and the page with the tables of all kinds.
#pragma once

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QStackedWidget>
#include <QTabBar>
#include <QTableView>
#include <QTextBrowser>
#include <QToolButton>
#include <QWidget>

#include "document/document.h"
#include "document/job_queue.h"
#include "document/judgement.h"
#include "figures/figure_table.h"
#include "figures/plots.h"
#include "figures/why_text.h"
#include "navigate/navigator.h"

namespace mt::app {

/// The figures of the selected lane, its distribution and its durations over time.
class MeasuresPanel : public QWidget {
    Q_OBJECT
  public:
    MeasuresPanel(Document& document, Viewpoint& view, Navigator& navigator, Judgement& judgement,
                  QWidget* parent = nullptr);
    DistributionPlot* distribution() const { return distribution_; }
    OverTimePlot* over_time() const { return over_time_; }
    /// In place of the plots: where the time of the selected span went, against a typical one.
    void show_why(bool on);
    bool why_shown() const { return why_->isChecked(); }
    /// The words that stand in place of the plots; empty while those are shown.
    QString told() const;
    /// What is said of a value between A and B; empty if nothing is.
    QString told_between() const { return between_->isHidden() ? QString() : between_->text(); }

  signals:
    void all_wanted();
    void span_chosen(const mt::SpanRef& span);
    void window_chosen(mt::Time from, mt::Time to);
    void moment_chosen(mt::Time t);

  protected:
    void resizeEvent(QResizeEvent*) override;

  private:
    void renew();
    /// The fault that is selected; null if it is none.
    const Finding* fault() const;
    void show_fault(const Finding& fault);
    void renew_why();
    void renew_between();
    void tell(PanelText text);
    void follow(const QUrl& link);
    void renew_series(std::size_t which);
    void renew_choice(const Lane& lane);
    QString figures_text(const LaneKind& kind, const MeasuredRow& row) const;
    Document& document_;
    Viewpoint& view_;
    Navigator& navigator_;
    Judgement& judgement_;
    QLabel *name_, *sub_, *figures_, *between_, *all_;
    QToolButton* why_;
    QStackedWidget* lower_;
    QTextBrowser* text_;
    std::vector<SpanRef> links_;
    bool low_ = false;  ///< there is room for one plot only
    QLabel* caption_;
    DistributionPlot* distribution_;
    OverTimePlot* over_time_;
    QComboBox* over_choice_;
    std::shared_ptr<Progress> measuring_, explaining_, between_work_;
    JobQueue jobs_;  ///< last: its end waits for what uses the rest
};

/// A table for each kind that the recording tells of, to sort, filter, copy and save.
class MeasuresPage : public QWidget {
    Q_OBJECT
  public:
    MeasuresPage(Document& document, Viewpoint& view, QWidget* parent = nullptr);
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
    Document& document_;
    std::vector<FigureTable*> all_;
    QTabBar* choice_;
    QStackedWidget* tables_;
    QLineEdit* filter_;
    QLabel* hint_;
    bool fresh_ = true;  ///< nobody has chosen since the recording was opened
};

}  // namespace mt::app
