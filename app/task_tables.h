// The tables of tasks, locks, queues and states on the page of measures.
#pragma once

#include <functional>
#include <vector>

#include <QAbstractTableModel>
#include <QSortFilterProxyModel>
#include <QTableView>

#include "session.h"
#include "viewpoint.h"

namespace mt::app {

/// One table; sorts by exact values, shows rounded ones. A click leads to the row's worst instance.
class FigureTable : public QTableView {
    Q_OBJECT
  public:
    enum class Of { tasks, locks, queues, states };
    FigureTable(Of of, Session& session, Viewpoint& view, QWidget* parent = nullptr);
    void set_filter(const QString& text);
    QString copied_text() const;
    int rows() const;
    QString cell(int row, int column) const;

  signals:
    /// `leave`: show it in the lanes; otherwise the table stays, and the other views go there.
    void place_chosen(const mt::app::Selection& selection, mt::Time from, mt::Time to, bool leave);

  private:
    class Model;
    void renew();
    void go(const QModelIndex& index, bool leave);
    Of of_;
    Session& session_;
    Viewpoint& view_;
    Model* model_;
    QSortFilterProxyModel* sorted_;
};

}  // namespace mt::app
