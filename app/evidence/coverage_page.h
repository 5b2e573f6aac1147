// Coverage: how much of each file and function ran, and the way to what never did.
#pragma once

#include <memory>
#include <vector>

#include <QAbstractTableModel>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QSortFilterProxyModel>
#include <QTableView>
#include <QToolButton>

#include "document/document.h"
#include "document/job_queue.h"
#include "evidence/evidence_page.h"
#include "measure/coverage.h"

namespace mt::app {

/// A row for each function, or for each source file.
class CoverageModel : public QAbstractTableModel {
    Q_OBJECT
  public:
    static constexpr int kSortRole = Qt::UserRole, kShareRole = Qt::UserRole + 1;
    enum Column { name, file, lines, instructions, branches, calls, kColumns };

    struct Row {
        QString name, file;
        CoverSums sums;
        std::uint64_t calls = 0;
        std::size_t stream = 0;
        std::uint32_t slot = 0;  ///< its first instruction; of a file: of its first line
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
class CoveragePage : public QWidget, public EvidencePage {
    Q_OBJECT
  public:
    CoveragePage(Document& document, QWidget* parent = nullptr);
    QWidget* widget() override { return this; }
    QString id() const override { return "coverage"; }
    QString title() const override { return tr("Coverage"); }
    bool has_something() const override { return document_.trail() && !document_.trail()->steps.empty(); }
    QTableView* table() const { return table_; }
    QString hint() const { return hint_->text(); }
    /// Files instead of functions.
    void show_files(bool on);
    /// Only what never ran.
    void show_never(bool on);

  signals:
    /// A person wants to see the source of this instruction.
    void place_chosen(std::size_t stream, std::uint32_t slot);

  protected:
    void showEvent(QShowEvent*) override;

  private:
    struct Of {
        std::size_t stream = 0;
        Coverage coverage;
    };
    void prepare();
    void fill();

    Document& document_;
    CoverageModel* model_;
    QSortFilterProxyModel* sorted_;
    QTableView* table_;
    QLineEdit* filter_;
    QLabel* hint_;
    QComboBox* by_;
    QToolButton* never_;
    std::shared_ptr<const Trail> prepared_for_;
    std::shared_ptr<const std::vector<Of>> all_;
    quint64 turn_ = 0;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
