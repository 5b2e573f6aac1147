#include "look/page_parts.h"

#include <QCoreApplication>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QVBoxLayout>

#include "look/layout.h"
#include "look/table_text.h"
#include "look/theme.h"

namespace mt::app {

QVariant table_head(const QAbstractItemModel& of, const TableHead& head, Qt::Orientation orientation, int role) {
    if (orientation != Qt::Horizontal) return {};
    const auto text = [&of](const char* source) {
        return *source == '\0' ? QString() : QCoreApplication::translate(of.metaObject()->className(), source);
    };
    if (role == Qt::DisplayRole) return text(head.text);
    if (role == Qt::ToolTipRole) return text(head.meaning);
    if (role == kUnitRole) return QString(head.unit);
    if (role == Qt::TextAlignmentRole) return QVariant(Qt::AlignVCenter | (head.left ? Qt::AlignLeft : Qt::AlignRight));
    return {};
}

QStandardItem* text_cell(const QString& text, bool strong) {
    auto* item = new QStandardItem(text);
    item->setEditable(false);
    item->setFont(strong ? text_font(12, true) : text_font(11));
    item->setData(text, kCellSortRole);
    return item;
}

QStandardItem* number_cell(const QString& text, const QVariant& sort, const QString& plain) {
    auto* item = new QStandardItem(text);
    item->setEditable(false);
    item->setFont(fixed_font(11));
    item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
    item->setData(sort, kCellSortRole);
    item->setData(plain, kPlainRole);
    return item;
}

QToolButton* tool_button(const char* called, const QString& text, const QString& tip) {
    auto* button = new QToolButton;
    button->setObjectName(called);
    button->setText(text);
    button->setToolTip(tip);
    return button;
}

ElidedLabel* hint_label(const QString& name) {
    auto* label = new ElidedLabel;
    label->setObjectName(name);
    label->setFont(text_font(11));
    return label;
}

QTableView* figures_view(const QString& id, const QString& spoken, QAbstractItemModel& model, bool sorted) {
    auto* table = new QTableView;
    table->setObjectName(id);
    table->setAccessibleName(spoken);
    table->setModel(&model);
    table->setSortingEnabled(sorted);
    table->setMinimumHeight(30);
    dress_table(*table);
    give_table_menu(*table, id);
    return table;
}

QTreeWidget* tree_of_values(const char* name, const QString& spoken, const QStringList& heads) {
    auto* t = new QTreeWidget;
    t->setObjectName(name);
    t->setAccessibleName(spoken);
    t->setHeaderLabels(heads);
    t->setUniformRowHeights(true);
    t->setIndentation(12);
    t->setAlternatingRowColors(true);
    t->setContextMenuPolicy(Qt::CustomContextMenu);
    t->setMinimumHeight(40);
    t->header()->setStretchLastSection(true);
    t->setFrameShape(QFrame::NoFrame);
    return t;
}

void lay_page(QWidget& page, std::initializer_list<QWidget*> line, QWidget* wide, QWidget* body) {
    auto* top = new QHBoxLayout;
    for (QWidget* part : line) top->addWidget(part, part == wide ? 1 : 0);
    auto* column = column_in(&page, {12, 4, 12, 4}, 3);
    column->addLayout(top);
    column->addWidget(body, 1);
}

}  // namespace mt::app
