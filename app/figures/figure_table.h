// The table of one kind's figures on the page of measures.
#pragma once

#include <QAbstractTableModel>
#include <QSortFilterProxyModel>
#include <QTableView>

#include "document/document.h"
#include "navigate/viewpoint.h"

namespace mt::app {

/// Figures that the kind has for people, as far as the recording has any; sorts by exact values, shows rounded ones.
class FigureModel : public QAbstractTableModel {
    Q_OBJECT
  public:
    enum Role { kSortRole = Qt::UserRole + 1 };
    FigureModel(const LaneKind& kind, const Document& document, QObject* parent)
        : QAbstractTableModel(parent), kind_(kind), document_(document) {}
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation, int role) const override;
    /// The column of a figure; -1 if it is not shown.
    int column_of(std::string_view key) const;
    void renew();

  private:
    const Cell& cell(const QModelIndex& index) const;
    bool is_text(int column) const;
    const LaneKind& kind_;
    const Document& document_;
    std::vector<std::size_t> columns_;  ///< indices of figures
};

/// A click leads to the span of the row that people look for first.
class FigureTable : public QTableView {
    Q_OBJECT
  public:
    FigureTable(const LaneKind& kind, Document& document, Viewpoint& view, QWidget* parent = nullptr);
    const LaneKind& kind() const { return kind_; }
    void set_filter(const QString& text);
    int rows() const { return sorted_->rowCount(); }
    /// What stands in a row under the heading of a figure, given by its key.
    QString cell(int row, std::string_view key) const;

  signals:
    /// `leave`: show it in the lanes; otherwise the table stays, and the other views go there.
    void span_chosen(const mt::SpanRef& span, bool leave);

  private:
    void renew();
    void follow();
    const MeasuredRow& row_of(const QModelIndex& index) const;
    const LaneKind& kind_;
    Document& document_;
    Viewpoint& view_;
    FigureModel* model_;
    QSortFilterProxyModel* sorted_;
    bool following_ = false;
};

}  // namespace mt::app
