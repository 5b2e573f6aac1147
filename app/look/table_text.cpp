#include "look/table_text.h"

#include <QAbstractItemModel>
#include <QItemSelectionModel>

#include <algorithm>

namespace mt::app {

QString table_text(const QTableView& table) {
    const QAbstractItemModel& model = *table.model();
    QString text;
    for (int c = 0; c < model.columnCount(); ++c)
        text += (c == 0 ? "" : "\t") + model.headerData(c, Qt::Horizontal).toString().trimmed();
    text += "\n";
    const auto selected = table.selectionModel()->selectedRows();
    for (int i = 0; i < model.rowCount(); ++i) {
        const bool wanted = selected.isEmpty() || std::any_of(selected.begin(), selected.end(),
                                                              [&](const QModelIndex& s) { return s.row() == i; });
        if (!wanted) continue;
        for (int c = 0; c < model.columnCount(); ++c)
            text += (c == 0 ? "" : "\t") + model.index(i, c).data().toString();
        text += "\n";
    }
    return text;
}

}  // namespace mt::app
