#include "look/table_text.h"

#include <QAbstractItemModel>
#include <QClipboard>
#include <QGuiApplication>
#include <QHeaderView>
#include <QItemSelectionModel>
#include <QSettings>
#include <QShortcut>

#include <algorithm>

namespace mt::app {
namespace {

QString heading(const QAbstractItemModel& model, int column) {
    return model.headerData(column, Qt::Horizontal).toString().trimmed();
}

QString place(const QString& id) { return "hidden_columns/" + id; }
QString width_place(const QString& id, const QString& heading) { return "column_widths/" + id + "/" + heading; }

void copy(const QTableView& table, bool plain) { QGuiApplication::clipboard()->setText(table_text(table, plain)); }

}  // namespace

QString table_text(const QTableView& table, bool plain) {
    const QAbstractItemModel& model = *table.model();
    std::vector<int> columns;  // as they stand on the screen
    for (int v = 0; v < model.columnCount(); ++v)
        if (const int c = table.horizontalHeader()->logicalIndex(v); !table.isColumnHidden(c)) columns.push_back(c);
    QStringList cells;
    for (const int c : columns) {
        const QString unit = plain ? model.headerData(c, Qt::Horizontal, kUnitRole).toString() : QString();
        cells << (unit.isEmpty() ? heading(model, c) : QString("%1 (%2)").arg(heading(model, c), unit));
    }
    QString text = cells.join('\t') + "\n";
    const auto selected = table.selectionModel()->selectedRows();
    for (int i = 0; i < model.rowCount(); ++i) {
        const bool wanted = selected.isEmpty() || std::any_of(selected.begin(), selected.end(),
                                                              [&](const QModelIndex& s) { return s.row() == i; });
        if (!wanted) continue;
        cells.clear();
        for (const int c : columns) {
            const QVariant value = plain ? model.index(i, c).data(kPlainRole) : QVariant();
            cells << (value.isValid() ? value : model.index(i, c).data()).toString();
        }
        text += cells.join('\t') + "\n";
    }
    return text;
}

void restore_columns(QTableView& table, const QString& id) {
    const QStringList hidden = QSettings().value(place(id)).toStringList();
    const QSettings settings;
    for (int c = 0; c < table.model()->columnCount(); ++c) {
        const QString name = heading(*table.model(), c);
        table.setColumnHidden(c, c > 0 && hidden.contains(name));
        if (const int width = settings.value(width_place(id, name)).toInt(); width > 0) table.setColumnWidth(c, width);
    }
}

void dress_table(QTableView& table) {
    table.setSelectionBehavior(QAbstractItemView::SelectRows);
    table.setAlternatingRowColors(true);
    table.setShowGrid(false);
    table.verticalHeader()->hide();
    table.verticalHeader()->setDefaultSectionSize(21);
    table.horizontalHeader()->setHighlightSections(false);
}

void add_table_actions(QMenu& menu, QTableView& table, const QString& id) {
    menu.addAction(QObject::tr("Copy values"), QKeySequence::Copy, &table, [&table] { copy(table, true); });
    menu.addAction(QObject::tr("Copy as shown"), &table, [&table] { copy(table, false); });
    menu.addSeparator();
    QMenu* columns = menu.addMenu(QObject::tr("Columns"));
    for (int c = 1; c < table.model()->columnCount(); ++c) {
        const QString name = heading(*table.model(), c);
        auto* a = columns->addAction(name, &table, [&table, id, name, c] {
            QSettings settings;
            QStringList hidden = settings.value(place(id)).toStringList();
            if (hidden.removeAll(name) == 0) hidden << name;
            settings.setValue(place(id), hidden);
            table.setColumnHidden(c, hidden.contains(name));
        });
        a->setCheckable(true);
        a->setChecked(!table.isColumnHidden(c));
    }
}

void give_table_menu(QTableView& table, const QString& id) {
    table.setContextMenuPolicy(Qt::CustomContextMenu);
    table.horizontalHeader()->setContextMenuPolicy(Qt::CustomContextMenu);
    const auto show = [&table, id](const QPoint& global) {
        QMenu menu;
        if (!table.actions().isEmpty()) {  // what this table alone can do
            menu.addActions(table.actions());
            menu.addSeparator();
        }
        add_table_actions(menu, table, id);
        menu.exec(global);
    };
    QObject::connect(&table, &QWidget::customContextMenuRequested, &table,
                     [&table, show](const QPoint& at) { show(table.viewport()->mapToGlobal(at)); });
    QObject::connect(table.horizontalHeader(), &QWidget::customContextMenuRequested, &table,
                     [&table, show](const QPoint& at) { show(table.horizontalHeader()->mapToGlobal(at)); });
    QObject::connect(table.horizontalHeader(), &QHeaderView::sectionResized, &table,
                     [&table, id](int column, int, int width) {
                         if ((QGuiApplication::mouseButtons() & Qt::LeftButton) != 0 && width > 0)  // drawn by hand
                             QSettings().setValue(width_place(id, heading(*table.model(), column)), width);
                     });
    auto* keys = new QShortcut(QKeySequence::Copy, &table);
    keys->setContext(Qt::WidgetWithChildrenShortcut);
    QObject::connect(keys, &QShortcut::activated, &table, [&table] { copy(table, true); });
}

}  // namespace mt::app
