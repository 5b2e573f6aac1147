// Rules: whether the recording keeps its timing requirements, and where it does not.
#pragma once

#include <memory>
#include <vector>

#include <QAbstractTableModel>
#include <QLabel>
#include <QPushButton>
#include <QSortFilterProxyModel>
#include <QTableView>

#include "document/document.h"
#include "document/job_queue.h"
#include "evidence/evidence_page.h"
#include "judge/rule_check.h"

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

/// The rules file that is kept with the recording (of the same name, or the only one in its folder), or one that a
/// person opens. A double click on a rule goes to its worst place, on a place there.
class RulesPage : public QWidget, public EvidencePage {
    Q_OBJECT
  public:
    RulesPage(Document& document, QWidget* parent = nullptr);
    QWidget* widget() override { return this; }
    QString id() const override { return "rules"; }
    QString title() const override { return tr("Rules"); }
    bool has_something() const override { return document_.trail() != nullptr; }
    QTableView* table() const { return table_; }
    QTableView* places() const { return places_; }
    QString hint() const { return hint_->text(); }
    /// Holds the recording against a file's rules; what is wrong with it is told.
    void use_file(const QString& path);
    /// Writes rules proposed from this recording, and uses them.
    void propose_into(const QString& path);
    /// Asks for the file.
    void ask_open();
    void ask_propose();
    QString file() const { return file_; }

  signals:
    void place_chosen(mt::RulePlace place);
    void told(const QString& text, bool bad);

  private:
    void find_file();
    void judge();
    void choose_rule();
    void renew_hint();

    Document& document_;
    RuleModel* model_;
    RulePlaceModel* place_model_;
    QSortFilterProxyModel* sorted_;
    QTableView *table_, *places_;
    QLabel* hint_;
    QPushButton *open_, *propose_;
    QString file_, trouble_;
    bool judging_ = false;
    quint64 turn_ = 0;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
