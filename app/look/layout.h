// Layouts without borders, as panes and pages are put together.
#pragma once

#include <QBoxLayout>

namespace mt::app {

/// Widgets below each other in `of`, with nothing around them.
inline QVBoxLayout* bare_column(QWidget* of, int spacing = 0) {
    auto* column = new QVBoxLayout(of);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(spacing);
    return column;
}

}  // namespace mt::app
