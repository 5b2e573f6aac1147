// Measures: the figures of the selected interrupt beside the lanes, and the page with the table of all.
#pragma once

#include <QAbstractTableModel>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QSortFilterProxyModel>
#include <QStackedWidget>
#include <QTabBar>
#include <QTableView>
#include <QWidget>

#include "plots.h"
#include "session.h"
#include "task_tables.h"
#include "viewpoint.h"

namespace mt::app {

/// The rows of `Session::rows`; sorts by exact values, shows rounded ones.
class InterruptModel : public QAbstractTableModel {
    Q_OBJECT
  public:
    enum Role { kSortRole = Qt::UserRole + 1 };
    explicit InterruptModel(Session& session, QObject* parent = nullptr)
        : QAbstractTableModel(parent), session_(session) {}
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation, int role) const override;
    void renew();

  private:
    Session& session_;
};

/// The figures of the selected lane, its distribution and its durations over time.
class MeasuresPanel : public QWidget {
    Q_OBJECT
  public:
    MeasuresPanel(Session& session, Viewpoint& view, QWidget* parent = nullptr);
    DistributionPlot* distribution() const { return distribution_; }
    OverTimePlot* over_time() const { return over_time_; }

  signals:
    void all_wanted();
    void instance_chosen(const mt::app::Selection& place);
    void window_chosen(mt::Time from, mt::Time to);

  private:
    void renew();
    Session& session_;
    Viewpoint& view_;
    QLabel *name_, *sub_, *figures_, *all_;
    QLabel* captions_[2];
    DistributionPlot* distribution_;
    OverTimePlot* over_time_;
    QComboBox* over_choice_;
};

/// The table of all interrupts, to sort, filter, copy and save.
class MeasuresPage : public QWidget {
    Q_OBJECT
  public:
    MeasuresPage(Session& session, Viewpoint& view, QWidget* parent = nullptr);
    QTableView* table() const { return table_; }
    FigureTable* tasks() const { return tasks_; }
    FigureTable* locks() const { return locks_; }
    FigureTable* queues() const { return queues_; }
    FigureTable* states() const { return states_; }
    QTabBar* choice() const { return choice_; }
    QLineEdit* filter() const { return filter_; }
    /// The selected rows (all if none), tab-separated with the heading.
    QString copied_text() const;

  signals:
    void back_wanted();
    /// `leave`: show it in the lanes; otherwise the table stays, and the other views go there.
    void instance_chosen(std::size_t core, std::size_t lane, std::size_t instance, bool leave);
    void save_wanted();
    void place_chosen(const mt::app::Selection& selection, mt::Time from, mt::Time to, bool leave);

  private:
    void row_selected();
    void renew_choice();
    Session& session_;
    Viewpoint& view_;
    InterruptModel* model_;
    QSortFilterProxyModel* sorted_;
    QTableView* table_;
    FigureTable *tasks_, *locks_, *queues_, *states_;
    QTabBar* choice_;
    QStackedWidget* tables_;
    QLineEdit* filter_;
    QLabel* hint_;
    bool following_ = false;
};

}  // namespace mt::app
