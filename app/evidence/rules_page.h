// Rules: whether the recording keeps its timing requirements, and where it does not.
#pragma once

#include <memory>
#include <vector>

#include <QAbstractTableModel>
#include <QLabel>
#include <QPushButton>
#include <QSortFilterProxyModel>
#include <QStackedWidget>
#include <QTableView>
#include <QTextBrowser>

#include "document/document.h"
#include "document/job_queue.h"
#include "document/judgement.h"
#include "evidence/evidence_page.h"
#include "figures/plots.h"
#include "judge/rule_check.h"
#include "judge/rule_place.h"

namespace mt::app {

/// A row for each rule with its verdict.
class RuleModel : public QAbstractTableModel {
    Q_OBJECT
  public:
    static constexpr int kSortRole = Qt::UserRole, kMarginRole = Qt::UserRole + 1;
    enum Column { verdict, name, what, limit, worst, margin, checked, violations, note, kColumns };
    using QAbstractTableModel::QAbstractTableModel;
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    void set(std::vector<RuleOutcome> rows);
    const std::vector<RuleOutcome>& rows() const { return rows_; }

  private:
    std::vector<RuleOutcome> rows_;
};

/// Places where the chosen rule is broken, the worst first.
class RulePlaceModel : public QAbstractTableModel {
    Q_OBJECT
  public:
    using QAbstractTableModel::QAbstractTableModel;
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    void set(const RuleOutcome* outcome);
    const std::vector<RulePlace>& rows() const { return rows_; }

  private:
    std::vector<RulePlace> rows_;
    RuleWhat what_ = RuleWhat::duration;
};

/// The rules that the recording is held against, each with its verdict; of the chosen one its places, how its quantity is
/// distributed about the limit, and why it is broken at a place. A double click on a rule goes to its worst place, on a
/// place there.
class RulesPage : public QWidget, public EvidencePage {
    Q_OBJECT
  public:
    RulesPage(Document& document, Judgement& judgement, Viewpoint& view, QWidget* parent = nullptr);
    QWidget* widget() override { return this; }
    QString id() const override { return "rules"; }
    QString title() const override { return tr("Rules"); }
    bool has_something() const override { return document_.trail() != nullptr; }
    QTableView* table() const { return table_; }
    QTableView* places() const { return places_; }
    DistributionPlot* distribution() const { return distribution_; }
    QString hint() const { return hint_->text(); }
    /// What is said of the chosen place; empty: nothing.
    QString explained() const { return lower_->currentWidget() == why_ ? why_->toPlainText() : QString(); }
    /// Asks for the file.
    void ask_open();
    void ask_propose();
    /// Chooses a rule by its name, if there is one.
    void choose(const QString& rule);

  signals:
    void place_chosen(mt::RulePlace place);
    void span_chosen(const mt::SpanRef& span);
    void moment_chosen(mt::Time t);

  private:
    void renew();
    void choose_rule();
    void explain();
    void tell(const PlaceExplained& explained, const RulePlace& place, const Rule& rule);
    void follow(const QUrl& link);
    void renew_hint();
    const RuleOutcome* chosen() const;

    Document& document_;
    Judgement& judgement_;
    RuleModel* model_;
    RulePlaceModel* place_model_;
    QSortFilterProxyModel* sorted_;
    QTableView *table_, *places_;
    QStackedWidget* lower_;
    DistributionPlot* distribution_;
    QTextBrowser* why_;
    std::vector<SpanRef> links_;
    QLabel* hint_;
    QPushButton *open_, *propose_;
    std::shared_ptr<Progress> measuring_, explaining_;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
