// A table as text with tabs, as people paste it into a spreadsheet, and the menu that every table has.
#pragma once

#include <QMenu>
#include <QString>
#include <QTableView>

namespace mt::app {

/// Roles of a model whose cells are more than their text: an item's value as a plain number, a heading's unit.
inline constexpr int kPlainRole = Qt::UserRole + 40, kUnitRole = Qt::UserRole + 41;

/// Headings, then the selected rows in the order on the screen, or all rows if none is selected; only columns that are
/// shown. `plain`: numbers as such, with the unit in the heading; else as shown.
QString table_text(const QTableView& table, bool plain = false);

/// How tables of figures look: whole rows are selected, every second one shaded, no grid, low rows.
void dress_table(QTableView& table);
/// What one does with any table: copy values, copy as shown, choose the columns. What is chosen is remembered by `id`.
void add_table_actions(QMenu& menu, QTableView& table, const QString& id);
/// A context menu of just that on the table and on its heading, and Ctrl+C for values.
void give_table_menu(QTableView& table, const QString& id);
/// Hides what a person hid before, and makes columns as wide as a person drew them. To be called whenever the columns
/// are there anew, after they got the widths that they come with.
void restore_columns(QTableView& table, const QString& id);

}  // namespace mt::app
