// The field above a table that leaves the rows with a text.
#pragma once

#include <QLineEdit>
#include <QSortFilterProxyModel>

namespace mt::app {

/// `name` for tests and style, `hint` stands in it while it is empty, `spoken` is what assistive technology says.
inline QLineEdit* filter_field(const QString& name, const QString& hint, const QString& spoken, int width = 220) {
    auto* field = new QLineEdit;
    field->setObjectName(name);
    field->setPlaceholderText(hint);
    field->setAccessibleName(spoken);
    field->setClearButtonEnabled(true);
    field->setMaximumWidth(width);
    return field;
}

/// Sorts and filters `model`, whatever the case. `column`: where the text is looked for; -1: everywhere.
inline QSortFilterProxyModel* filtered(QAbstractItemModel* model, QObject* parent, int column = -1) {
    auto* rows = new QSortFilterProxyModel(parent);
    rows->setSourceModel(model);
    rows->setFilterKeyColumn(column);
    rows->setFilterCaseSensitivity(Qt::CaseInsensitive);
    return rows;
}

}  // namespace mt::app
