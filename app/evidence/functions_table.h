// Functions: measures of all functions that ran, and the way to the longest call of each.
#pragma once

#include <set>

#include <QAbstractTableModel>
#include <QLabel>
#include <QLineEdit>
#include <QSortFilterProxyModel>
#include <QTableView>

#include "document/document.h"
#include "evidence/evidence_page.h"
#include "measure/functions.h"
#include "model/lane.h"

namespace mt::app {

class FunctionModel : public QAbstractTableModel {
    Q_OBJECT
  public:
    static constexpr int kSortRole = Qt::UserRole;
    using QAbstractTableModel::QAbstractTableModel;
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    /// What the bars of calls over time stand for.
    static constexpr int kRateRole = Qt::UserRole + 1;
    static int core_column();
    static int name_column();
    static int rate_column();
    static int own_column();
    void set(std::vector<FunctionRow> rows, std::shared_ptr<const Trail> trail, std::vector<QString> cores);
    const std::vector<FunctionRow>& rows() const { return rows_; }

  private:
    std::vector<FunctionRow> rows_;
    std::shared_ptr<const Trail> trail_;
    std::vector<QString> cores_;
};

class FunctionsTable : public QWidget, public EvidencePage {
    Q_OBJECT
  public:
    FunctionsTable(Document& document, QWidget* parent = nullptr);
    QWidget* widget() override { return this; }
    QString id() const override { return "functions"; }
    QString title() const override { return tr("Functions"); }
    /// Samples of the program counter tell functions, too; whether there are any shows while decoding.
    bool has_something() const override;
    QTableView* table() const { return table_; }
    /// The selected rows, or all, as text with tabs.
    QString copied_text() const;
    /// Brings a function's row into view and makes it the current one.
    void show_function(std::size_t core, unsigned function);
    /// As a double click on the row of that name: its longest call is shown. False if there is none.
    bool choose(const QString& name);
    /// Takes a function's time out of the shares, or back in.
    void leave_out(const QString& name, bool out);

  signals:
    /// A person wants to see this call.
    void call_chosen(const mt::SpanRef& call);

  private:
    void renew();
    void menu(const QPoint& at);

    Document& document_;
    FunctionModel* model_;
    QSortFilterProxyModel* sorted_;
    QTableView* table_;
    QLineEdit* filter_;
    QLabel* hint_;
    std::set<std::string> left_out_;
};

}  // namespace mt::app
