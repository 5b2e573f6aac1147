// Coverage: how much of each file and function ran, and the way to what never did.
#pragma once

#include <memory>
#include <vector>

#include <QAbstractTableModel>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QSortFilterProxyModel>
#include <QTableView>
#include <QToolButton>

#include "document/document.h"
#include "document/cover_book.h"
#include "evidence/evidence_page.h"
#include "figures/plots.h"

namespace mt::app {

/// A row for each function, source file or folder.
class CoverageModel : public QAbstractTableModel {
    Q_OBJECT
  public:
    static constexpr int kSortRole = Qt::UserRole, kShareRole = Qt::UserRole + 1;
    enum Column { name, file, lines, instructions, branches, calls, here, there, reason, kColumns };

    struct Row {
        QString name, file;
        CoverSums sums;
        std::uint64_t calls = 0;
        std::uint64_t here = 0, there = 0;  ///< instructions that only this, only the other recording ran
        QString reason;                     ///< why it need not run
        std::size_t stream = 0;
        std::uint32_t slot = 0;  ///< its first instruction, or the first that differs; of a file: of its first line
    };
    using QAbstractTableModel::QAbstractTableModel;
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    void set(std::vector<Row> rows);
    const std::vector<Row>& rows() const { return rows_; }

  private:
    std::vector<Row> rows_;
};

/// Lines, instructions and branches that ran, with bars; a filter for what never ran. A double click shows the source.
/// Alone, together with the recordings of a store, or against another recording.
class CoveragePage : public QWidget, public EvidencePage {
    Q_OBJECT
  public:
    enum By { functions, files, folders };
    CoveragePage(Document& document, CoverBook& book, Viewpoint& view, QWidget* parent = nullptr);
    QWidget* widget() override { return this; }
    QString id() const override { return "coverage"; }
    QString title() const override { return tr("Coverage"); }
    bool has_something() const override { return document_.trail() && !document_.trail()->steps.empty(); }
    QTableView* table() const { return table_; }
    GrowthPlot* growth() const { return growth_; }
    QString hint() const { return hint_->text(); }
    void show_by(By by) { by_->setCurrentIndex(by); }
    /// Only what never ran.
    void show_never(bool on) { never_->setChecked(on); }
    /// What stands behind "Together with": for a row, or for all.
    void fill_menu(QMenu& menu);
    /// Asks why a place need not run, and keeps that in the store; without a store that is told.
    void ask_reason(const QString& place);

  signals:
    /// A person wants to see the source of this instruction.
    void place_chosen(std::size_t stream, std::uint32_t slot);
    void moment_chosen(mt::Time t);
    void told(const QString& text, bool bad);

  protected:
    void showEvent(QShowEvent*) override { book_.watch(true); }
    void hideEvent(QHideEvent*) override { book_.watch(false); }

  private:
    void fill();
    void fill_growth();
    void renew_hint();
    void add_functions(const CoverBook::Of& of, const QString& core, std::vector<CoverageModel::Row>& rows) const;
    void add_files(const CoverBook::Of& of, const QString& core, std::vector<CoverageModel::Row>& rows) const;
    void ask_store(bool fresh);
    void ask_other();
    QString place_of(const QModelIndex& index) const;

    Document& document_;
    CoverBook& book_;
    CoverageModel* model_;
    QSortFilterProxyModel* sorted_;
    QTableView* table_;
    GrowthPlot* growth_;
    QLineEdit* filter_;
    QLabel* hint_;
    QComboBox* by_;
    QToolButton *never_, *over_time_, *with_;
};

}  // namespace mt::app
