#include "evidence/row_table.h"

#include <QContextMenuEvent>
#include <QKeyEvent>
#include <QMenu>
#include <QMouseEvent>

#include <algorithm>

#include "navigate/moment_actions.h"

namespace mt::app {

RowTable::RowTable(Document& document, Viewpoint& view, QWidget* parent)
    : QAbstractScrollArea(parent), document_(document), view_(view) {
    setFrameShape(QFrame::NoFrame);
    setFocusPolicy(Qt::StrongFocus);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    connect(&view, &Viewpoint::cursor_changed, this, [this] {
        if (own_move_) return;
        wanted_ = view_.cursor();
        follow_cursor();
    });
}

void RowTable::paint_head(QPainter& p, const QStringList& headings, std::span<const int> widths, const QString& empty) {
    const Theme& t = theme();
    p.fillRect(viewport()->rect(), t.panel);
    p.fillRect(0, 0, viewport()->width(), kHead, t.window);
    p.setPen(t.rule);
    p.drawLine(0, kHead - 1, viewport()->width(), kHead - 1);
    p.setFont(text_font(11));
    p.setPen(t.second);
    int x = 12;
    for (std::size_t c = 0; c < widths.size(); x += widths[c], ++c)
        p.drawText(QRect(x, 0, widths[c] - 8, kHead), Qt::AlignVCenter, headings[static_cast<qsizetype>(c)]);
    if (row_count() == 0) p.drawText(viewport()->rect().adjusted(12, kHead, 0, 0), Qt::AlignCenter, empty);
}

int RowTable::rows_shown() const { return std::max(1, (viewport()->height() - kHead) / kRow); }
std::uint64_t RowTable::top_row() const { return scroll_.top(); }

void RowTable::renew() {
    scroll_.set_range(row_count(), static_cast<std::uint64_t>(rows_shown()));
    viewport()->update();
}

void RowTable::forget() {
    current_.reset();
    anchor_.reset();
    wanted_.reset();
    place_when_there_.reset();
}

void RowTable::use_stream(std::size_t stream) {
    stream_ = stream;
    forget();
    renew();
    wanted_ = view_.cursor();
    follow_cursor();
}

bool RowTable::selected(std::uint64_t row) const {
    return current_ && anchor_ && std::min(*current_, *anchor_) <= row && row <= std::max(*current_, *anchor_);
}

void RowTable::place(std::uint64_t row) {
    const auto t = time_of(row);
    if (!t) {
        place_when_there_ = row;
        return;
    }
    place_when_there_.reset();
    own_move_ = true;
    if (*t < view_.from() || *t > view_.to()) {
        const Time half{(view_.to() - view_.from()).ps / 2};
        view_.go_to(*t - half, *t + half, *t);
    } else {
        view_.set_cursor(*t);
    }
    own_move_ = false;
}

void RowTable::go_to_row(std::int64_t row, bool extend) {
    if (row_count() == 0) return;
    current_ = static_cast<std::uint64_t>(std::clamp<std::int64_t>(row, 0, static_cast<std::int64_t>(row_count()) - 1));
    if (!extend || !anchor_) anchor_ = current_;
    const auto top = static_cast<std::int64_t>(top_row()), at = static_cast<std::int64_t>(*current_);
    if (at < top)
        scroll_.set_top(static_cast<std::uint64_t>(at));
    else if (at >= top + rows_shown())
        scroll_.set_top(static_cast<std::uint64_t>(at - rows_shown() + 1));
    place(*current_);
    viewport()->update();
}

void RowTable::follow_to(std::uint64_t row) {
    current_ = anchor_ = row;
    const std::uint64_t top = top_row(), shown = static_cast<std::uint64_t>(rows_shown());
    if (row < top + 1 || row + 2 > top + shown) scroll_.set_top(row > shown / 2 ? row - shown / 2 : 0);
    viewport()->update();
}

void RowTable::resizeEvent(QResizeEvent*) { renew(); }

void RowTable::mousePressEvent(QMouseEvent* e) {
    const int y = static_cast<int>(e->position().y());
    if (e->button() != Qt::LeftButton || y < kHead) return;
    const std::uint64_t row = top_row() + static_cast<std::uint64_t>((y - kHead) / kRow);
    if (row < row_count()) go_to_row(static_cast<std::int64_t>(row), (e->modifiers() & Qt::ShiftModifier) != 0);
}

void RowTable::mouseDoubleClickEvent(QMouseEvent* e) {
    if (!current_ || e->position().y() < kHead) return;
    if (const auto t = time_of(*current_)) view_.go_to(*t - room(), *t + room(), *t);
}

void RowTable::wheelEvent(QWheelEvent* e) {
    scroll_.scroll(-e->angleDelta().y() / 40);
    viewport()->update();
}

void RowTable::keyPressEvent(QKeyEvent* e) {
    const auto at = static_cast<std::int64_t>(current_.value_or(top_row()));
    const bool extend = (e->modifiers() & Qt::ShiftModifier) != 0;
    if (e->matches(QKeySequence::Copy)) return copy_selected();
    switch (e->key()) {
        case Qt::Key_Up:
            return go_to_row(at - 1, extend);
        case Qt::Key_Down:
            return go_to_row(at + 1, extend);
        case Qt::Key_PageUp:
            return go_to_row(at - rows_shown(), extend);
        case Qt::Key_PageDown:
            return go_to_row(at + rows_shown(), extend);
        case Qt::Key_Home:
            return go_to_row(0, extend);
        case Qt::Key_End:
            return go_to_row(static_cast<std::int64_t>(row_count()) - 1, extend);
        default:
            QAbstractScrollArea::keyPressEvent(e);
    }
}

void RowTable::showEvent(QShowEvent*) {
    wanted_ = view_.cursor();
    follow_cursor();
}

void RowTable::contextMenuEvent(QContextMenuEvent* e) {
    if (row_count() == 0) return;
    if (e->reason() == QContextMenuEvent::Mouse && e->y() >= kHead) {
        const std::uint64_t row = top_row() + static_cast<std::uint64_t>((e->y() - kHead) / kRow);
        if (row < row_count() && !selected(row)) go_to_row(static_cast<std::int64_t>(row), false);
    }
    QMenu menu(this);
    menu.addAction(tr("Copy values"), this, [this] { copy_selected(); })->setEnabled(current_.has_value());
    if (const auto t = current_ ? time_of(*current_) : std::nullopt) {
        menu.addAction(tr("Show it in the lanes"), this, [this, t = *t] { view_.go_to(t - room(), t + room(), t); });
        menu.addSeparator();
        add_moment_actions(menu, document_, view_, *t);
    }
    menu.exec(e->globalPos());
}

}  // namespace mt::app
