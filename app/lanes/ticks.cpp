#include <algorithm>

#include "lanes/painters.h"
#include "look/theme.h"

// Moments: a tick for each, with what it says where there is room.
namespace mt::app {

void paint_ticks(const Pane& pane, const Lane& lane) {
    const Theme& t = theme();
    QPainter& p = pane.p;
    const QRectF band = band_of(pane.row);
    const QColor ink = ink_colour(lane.ink());
    p.setFont(text_font(10));
    const auto [first, last] = lane.touching(0, pane.view.from(), pane.view.to());
    for (std::size_t i = first; i < last;) {
        const double x = pane.x_of(lane.span(0, i).begin);
        p.setPen(QPen(ink, 1.2));
        p.drawLine(QPointF(x, band.top() + 3), QPointF(x, band.bottom()));
        p.setPen(Qt::NoPen);
        p.setBrush(ink);
        const QPointF foot[] = {{x - 3, band.bottom()}, {x + 3, band.bottom()}, {x, band.bottom() - 5}};
        p.drawPolygon(foot, 3);
        const std::size_t after = std::max(i + 1, lane.touching(0, pane.time_at(x + 1), pane.end).first);
        const double room = (after < lane.size(0) ? pane.x_of(lane.span(0, after).begin) : pane.row.right()) - x;
        if (after == i + 1 && room > 20) {
            const QString text = QString::fromStdString(lane.label(0, i));
            if (p.fontMetrics().horizontalAdvance(text) + 10 < room) {
                p.setPen(t.second);
                p.drawText(QRectF(x + 4, band.top(), room - 6, band.height()), Qt::AlignLeft | Qt::AlignVCenter, text);
            }
        }
        i = after;
    }
    if (pane.selected && pane.selected->second < lane.size(0))
        paint_frame(pane, {pane.x_of(lane.span(0, pane.selected->second).begin) - 4, band.top(), 8, band.height() + 2});
}

}  // namespace mt::app
