#include "look/shapes.h"

#include <QLinearGradient>
#include <QPainterPath>

#include "look/theme.h"

namespace mt::app {

void draw_handler(QPainter& p, const QRectF& bar, const QColor& colour) {
    if (bar.width() < 6) {
        p.fillRect(bar, colour);
        return;
    }
    const double cut = std::min({6.0, bar.width() / 2, bar.height() / 2});
    QPainterPath path;
    path.moveTo(bar.left() + cut, bar.top());
    path.lineTo(bar.topRight());
    path.lineTo(bar.bottomRight());
    path.lineTo(bar.bottomLeft());
    path.lineTo(bar.left(), bar.top() + cut);
    path.closeSubpath();
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    p.fillPath(path, colour);
    p.restore();
}

void draw_running(QPainter& p, const QRectF& bar, const QColor& colour) { p.fillRect(bar, colour); }

void draw_cut_into(QPainter& p, const QRectF& bar, const QColor& colour) {
    const double thick = std::max(2.0, bar.height() / 6);
    p.fillRect(QRectF(bar.left(), bar.center().y() - thick / 2, bar.width(), thick), colour);
}

void draw_gap(QPainter& p, const QRectF& area) {
    if (area.width() < 4) {  // too narrow for a hatch: a line, no wider than the gap
        p.fillRect(area, theme().contour);
        return;
    }
    p.save();
    p.setClipRect(area, Qt::IntersectClip);
    p.setRenderHint(QPainter::Antialiasing);
    QColor back = theme().panel;
    back.setAlpha(170);
    p.fillRect(area, back);
    p.setPen(QPen(theme().contour, 1.4));
    const double h = area.height();
    // The hatch stands still under panning: its phase belongs to the widget.
    for (double x = std::floor((area.left() - h) / 7) * 7; x < area.right(); x += 7)
        p.drawLine(QPointF(x, area.bottom()), QPointF(x + h, area.top()));
    p.restore();
}

void draw_soft_edge(QPainter& p, const QRectF& area, const QColor& colour) {
    QLinearGradient fade(area.topLeft(), area.topRight());
    QColor none = colour;
    none.setAlpha(0);
    fade.setColorAt(0, none);
    fade.setColorAt(1, colour);
    p.fillRect(area, fade);
}

void draw_torn_edge(QPainter& p, double x, double top, double bottom, bool at_left) {
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    QPainterPath teeth(QPointF(x, top));
    const double step = (bottom - top) / 4, depth = at_left ? 4 : -4;
    for (int i = 0; i < 4; ++i) {
        teeth.lineTo(x + depth, top + step * (i + 0.5));
        teeth.lineTo(x, top + step * (i + 1));
    }
    p.fillPath(teeth, theme().panel);
    p.restore();
}

void draw_held_off(QPainter& p, const QRectF& bar, const QColor& colour) {
    p.save();
    p.setPen(QPen(colour, 1.2));
    const double y = bar.center().y(), left = std::max(bar.left(), -20.0), right = bar.right();
    p.drawLine(QPointF(left, y), QPointF(right, y));
    if (right - left > 10) {
        p.setRenderHint(QPainter::Antialiasing);
        for (double x = std::floor(left / 9) * 9 + 5; x < right - 2; x += 9)
            if (x > left + 2) p.drawLine(QPointF(x - 2, y + 3.5), QPointF(x + 2, y - 3.5));
    }
    p.restore();
}

void draw_lock_wait(QPainter& p, const QRectF& bar, const QColor& colour) {
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    const double y = bar.center().y(), left = std::max(bar.left(), -20.0), right = bar.right();
    if (right - left < 6) {
        p.fillRect(QRectF(left, y - 1.5, std::max(1.5, right - left), 3), colour);
        p.restore();
        return;
    }
    p.setPen(Qt::NoPen);
    p.setBrush(colour);
    for (double x = left + 2; x < right; x += 7) p.drawEllipse(QPointF(x, y), 1.5, 1.5);
    if (right - left >= 14) {
        p.setPen(QPen(colour, 1.5));
        p.setBrush(p.background().color());
        p.drawEllipse(QPointF(left + std::min((right - left) / 2, 26.0), y), 4.2, 4.2);
    }
    p.restore();
}

void draw_idle_wait(QPainter& p, const QRectF& bar, const QColor& colour) {
    QColor faint = colour;
    faint.setAlpha(90);
    p.save();
    p.setPen(Qt::NoPen);
    const double y = bar.center().y(), left = std::max(bar.left(), -20.0);
    for (double x = std::ceil(left / 12) * 12; x < bar.right(); x += 12) p.fillRect(QRectF(x, y, 1.5, 1.5), faint);
    p.restore();
}

void draw_share(QPainter& p, const QRectF& cell, double share) {
    const QRectF bar(cell.left() + 4, cell.bottom() - 3, cell.width() - 8, 3);
    p.fillRect(bar, theme().rule);
    p.fillRect(QRectF(bar.left(), bar.top(), bar.width() * share, bar.height()), theme().measure);
}

void draw_cairn(QPainter& p, double x, double ground, double height) {
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    p.setPen(Qt::NoPen);
    p.setBrush(theme().finding);
    const double h = height / 3;
    const double widths[] = {height * 1.0, height * 0.74, height * 0.46};
    for (int i = 0; i < 3; ++i) p.drawEllipse(QRectF(x - widths[i] / 2, ground - h * (i + 1), widths[i], h * 1.08));
    p.restore();
}

}  // namespace mt::app
