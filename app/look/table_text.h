// A table as text with tabs, as people paste it into a spreadsheet.
#pragma once

#include <QString>
#include <QTableView>

namespace mt::app {

/// Headings, then the selected rows in the order on the screen, or all rows if none is selected.
QString table_text(const QTableView& table);

}  // namespace mt::app
