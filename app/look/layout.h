// Columns, as panes and pages are put together.
#pragma once

#include <QBoxLayout>

namespace mt::app {

/// Widgets below each other in `of`, with so much around them.
inline QVBoxLayout* column_in(QWidget* of, const QMargins& around, int spacing) {
    auto* column = new QVBoxLayout(of);
    column->setContentsMargins(around);
    column->setSpacing(spacing);
    return column;
}

/// The same with nothing around them.
inline QVBoxLayout* bare_column(QWidget* of, int spacing = 0) { return column_in(of, {}, spacing); }

}  // namespace mt::app
