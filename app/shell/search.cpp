#include "shell/search.h"

#include <QKeyEvent>

#include "look/theme.h"

namespace mt::app {
namespace {
constexpr int kMostRows = 18;
}  // namespace

Search::Search(QWidget* parent) : QLineEdit(parent), list_(new QListWidget) {
    setObjectName("search");
    setPlaceholderText(tr("Search, or a time (7.063 s)"));
    setAccessibleName(tr("Search everything"));
    setToolTip(
        tr("Names, findings, events, text, commands, or a time with its unit (Ctrl+F or /)\nEnter: go there · F3, "
           "Shift+F3: the next and the one before"));
    setClearButtonEnabled(true);
    list_->setObjectName("search_list");
    list_->setAccessibleName(tr("What was found"));
    list_->setFocusPolicy(Qt::NoFocus);
    list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    list_->hide();
    connect(this, &QLineEdit::textEdited, this, &Search::renew);
    connect(list_, &QListWidget::itemClicked, this, [this](QListWidgetItem* item) { take(list_->row(item), true); });
}

void Search::begin() {
    setFocus(Qt::ShortcutFocusReason);
    selectAll();
}

void Search::renew() {
    hits_ = desk_ == nullptr ? std::vector<Hit>() : hits_of(*desk_, commands_, text());
    hit_of_row_.clear();
    list_->clear();
    QString group;
    for (std::size_t i = 0; i < hits_.size(); ++i) {
        const Hit& hit = hits_[i];
        if (hit.group != group) {
            group = hit.group;
            auto* heading = new QListWidgetItem(group, list_);
            heading->setFlags(Qt::NoItemFlags);
            heading->setFont(text_font(10, true));
            heading->setForeground(theme().second);
            hit_of_row_.push_back(-1);
        }
        auto* item =
            new QListWidgetItem("   " + hit.text + (hit.detail.isEmpty() ? QString() : "    " + hit.detail), list_);
        item->setFont(text_font(12));
        hit_of_row_.push_back(static_cast<int>(i));
    }
    if (!text().trimmed().isEmpty() && hits_.empty()) {
        auto* none = new QListWidgetItem(tr("Nothing found"), list_);
        none->setFlags(Qt::NoItemFlags);
        hit_of_row_.push_back(-1);
    }
    if (list_->count() == 0) return list_->hide();
    list_->setStyleSheet(QString("QListWidget { border: 1px solid %1; background: %2; }")
                             .arg(theme().second.name(), theme().panel.name()));
    place_list();
    list_->show();
    if (list_->count() > 1) list_->setCurrentRow(1);
}

// Below the field, over whatever is there.
void Search::place_list() {
    QWidget* over = window();
    if (list_->parentWidget() != over) list_->setParent(over);
    const QPoint below = mapTo(over, QPoint(0, height() + 2));
    int high = 2 * list_->frameWidth() + 4;
    for (int row = 0; row < std::min(kMostRows, list_->count()); ++row) high += list_->sizeHintForRow(row);
    list_->setGeometry(below.x(), below.y(), std::min(460, over->width() - below.x() - 8),
                       std::min(high, over->height() - below.y() - 8));
    list_->raise();
}

void Search::move(int rows) {
    const int n = list_->count();
    for (int row = list_->currentRow() + rows; row >= 0 && row < n; row += rows)
        if (hit_of_row_[static_cast<std::size_t>(row)] >= 0) return list_->setCurrentRow(row);
}

void Search::take(int row, bool forwards) {
    if (row < 0 || row >= static_cast<int>(hit_of_row_.size()) || hit_of_row_[static_cast<std::size_t>(row)] < 0)
        return;
    last_ = hits_[static_cast<std::size_t>(hit_of_row_[static_cast<std::size_t>(row)])].go;
    list_->hide();
    selectAll();
    desk_->lanes()->setFocus();
    last_(forwards);
}

void Search::repeat(bool forwards) {
    if (last_)
        last_(forwards);
    else if (desk_ != nullptr)
        emit desk_->told(tr("Nothing was searched for yet: Ctrl+F or / begins."), false);
}

QStringList Search::listed() const {
    QStringList all;
    if (list_->isHidden()) return all;
    for (int i = 0; i < list_->count(); ++i) {
        const int hit = hit_of_row_[static_cast<std::size_t>(i)];
        all << (hit < 0
                    ? list_->item(i)->text()
                    : hits_[static_cast<std::size_t>(hit)].text + " | " + hits_[static_cast<std::size_t>(hit)].detail);
    }
    return all;
}

// Escape is this field's own while one types.
bool Search::event(QEvent* e) {
    if (e->type() == QEvent::ShortcutOverride && static_cast<QKeyEvent*>(e)->key() == Qt::Key_Escape) {
        e->accept();
        return true;
    }
    return QLineEdit::event(e);
}

void Search::keyPressEvent(QKeyEvent* e) {
    switch (e->key()) {
        case Qt::Key_Down:
            if (list_->isHidden()) renew();
            return move(1);
        case Qt::Key_Up:
            return move(-1);
        case Qt::Key_Return:
        case Qt::Key_Enter:
            if (list_->isHidden()) renew();
            return take(list_->currentRow(), (e->modifiers() & Qt::ShiftModifier) == 0);
        case Qt::Key_Escape:
            list_->hide();
            if (desk_ != nullptr) desk_->lanes()->setFocus();
            return;
        default:
            QLineEdit::keyPressEvent(e);
    }
}

void Search::focusOutEvent(QFocusEvent* e) {
    list_->hide();
    QLineEdit::focusOutEvent(e);
}

}  // namespace mt::app
