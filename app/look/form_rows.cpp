#include "look/form_rows.h"

#include <QAbstractButton>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QTableWidget>

#include "look/theme.h"

namespace mt::app {

QLabel* caption(const QString& text) {
    auto* l = new QLabel(text);
    l->setStyleSheet(QString("color: %1").arg(theme().second.name()));
    return l;
}

FormRows::FormRows(int between) : grid_(new QGridLayout) {
    grid_->setHorizontalSpacing(between * 2);
    grid_->setVerticalSpacing(between);
    grid_->setColumnStretch(1, 1);
}

void FormRows::add(const QString& text, std::initializer_list<QWidget*> fields) {
    auto* row = new QHBoxLayout;
    row->setSpacing(8);
    bool wide = false;
    for (auto* f : fields) {
        const bool stretches = qobject_cast<QLineEdit*>(f) != nullptr || qobject_cast<QTableWidget*>(f) != nullptr;
        wide = wide || stretches;
        row->addWidget(f, stretches ? 1 : 0);
        if (f->accessibleName().isEmpty() && !text.isEmpty() && qobject_cast<QLabel*>(f) == nullptr &&
            qobject_cast<QAbstractButton*>(f) == nullptr)
            f->setAccessibleName(text);
    }
    if (!wide) row->addStretch();
    grid_->addWidget(caption(text), line_, 0, Qt::AlignRight | Qt::AlignVCenter);
    grid_->addLayout(row, line_++, 1);
}

void FormRows::part(const QString& text) {
    auto* l = new QLabel(text);
    l->setFont(text_font(13, true));
    l->setContentsMargins(0, 8, 0, 0);
    whole(l);
}

void FormRows::whole(QWidget* widget, QWidget* before) {
    if (before != nullptr) grid_->addWidget(before, line_, 0, Qt::AlignRight | Qt::AlignVCenter);
    grid_->addWidget(widget, line_++, 1);
}

void FormRows::whole(QLayout* layout) { grid_->addLayout(layout, line_++, 1); }

}  // namespace mt::app
