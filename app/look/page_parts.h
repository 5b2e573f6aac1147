// What pages with a table are put together of: a line of words and tools, and a table of figures below it.
#pragma once

#include <initializer_list>

#include <QAbstractItemModel>
#include <QStandardItem>
#include <QTableView>
#include <QToolButton>
#include <QTreeWidget>

#include "look/elided_label.h"

namespace mt::app {

/// A heading of a table: what stands there and what the tooltip says, neither translated yet. Headings at the right end
/// with blanks where the table can be sorted: room for the arrow.
struct TableHead {
    const char* text;
    const char* meaning;
    bool left = false;       ///< where it stands, as its cells do
    const char* unit = "";   ///< of the values when they are copied
};
/// A model's answer for a heading, in the words of the model's class; nothing for roles that it has none for.
QVariant table_head(const QAbstractItemModel& of, const TableHead& head, Qt::Orientation orientation, int role);

/// Cells of small tables that are filled as a whole: what they are sorted by.
inline constexpr int kCellSortRole = Qt::UserRole;
QStandardItem* text_cell(const QString& text, bool strong = false);
/// `plain`: as it is copied.
QStandardItem* number_cell(const QString& text, const QVariant& sort, const QString& plain);
/// A button of words in a line of tools; `called`: its name.
QToolButton* tool_button(const char* called, const QString& text, const QString& tip);
/// One line of small words, cut where there is no room.
ElidedLabel* hint_label(const QString& name);
/// A table of figures with its menu; `id`: its name, and by which its columns are remembered. `sorted`: by a click on a
/// heading. It may be drawn very low.
QTableView* figures_view(const QString& id, const QString& spoken, QAbstractItemModel& model, bool sorted = true);
/// Names and values below each other, drawn as low as need be; `name`: its object's.
QTreeWidget* tree_of_values(const char* name, const QString& spoken, const QStringList& heads);
/// Lays out `page`: a line of widgets, of which `wide` takes what the others leave, over the body.
void lay_page(QWidget& page, std::initializer_list<QWidget*> line, QWidget* wide, QWidget* body);

}  // namespace mt::app
