#include "lanes/painters.h"

#include <cmath>

#include "look/theme.h"

namespace mt::app {

void paint_lane(const Pane& pane, const Lane& lane) {
    if (const std::string why = lane.empty_text(); !why.empty())
        return paint_sentence(pane, QString::fromStdString(why));
    switch (lane.shape()) {
        case Shape::bars:
            return paint_bars(pane, lane);
        case Shape::stack:
            return paint_stack(pane, lane);
        case Shape::states:
            return paint_states(pane, lane);
        case Shape::line:
            return paint_line(pane, lane);
        case Shape::ticks:
            return paint_ticks(pane, lane);
    }
}

QColor ink_colour(Ink ink) {
    const Theme& t = theme();
    switch (ink) {
        case Ink::interrupt:
            return t.interrupt;
        case Ink::running:
            return t.land;
        case Ink::waiting:
            return t.waiting;
        case Ink::value:
            return t.measure;
        case Ink::mark:
            return t.text;
        case Ink::gap:
            return t.contour;
        case Ink::fault:
            return t.finding;
    }
    return t.text;
}

QRectF band_of(const QRectF& row) {
    const double pad = std::min(7.0, row.height() / 5);
    return row.adjusted(0, pad, 0, -pad);
}

void paint_frame(const Pane& pane, const QRectF& around) {
    pane.p.setPen(QPen(theme().text, 1.6));
    pane.p.setBrush(Qt::NoBrush);
    pane.p.drawRect(around);
}

void paint_sentence(const Pane& pane, const QString& text) {
    pane.p.setFont(text_font(11));
    pane.p.setPen(theme().second);
    pane.p.drawText(pane.row.adjusted(8, 0, 0, 0), Qt::AlignVCenter | Qt::AlignLeft, text);
}

void Columns::add(int x, int top, int bottom) {
    if (!run_.isNull() && x == run_.right() + 1 && top == run_.top() && bottom == run_.bottom() + 1) {
        run_.setRight(x);
        return;
    }
    flush();
    run_ = QRect(x, top, 1, bottom - top);
}

void Columns::flush() {
    if (run_.height() > 0) p_.fillRect(run_, colour_);
    run_ = QRect();
}

void SharedColumns::add(int px, double share) {
    const int x = static_cast<int>(band_.left()) + px, top = static_cast<int>(band_.top()),
              bottom = static_cast<int>(band_.bottom());
    const int solid = static_cast<int>(std::lround(share * band_.height()));
    light_.add(x, top, bottom - solid);
    solid_.add(x, bottom - solid, bottom);
}

void SharedColumns::flush() {
    light_.flush();
    solid_.flush();
}

}  // namespace mt::app
