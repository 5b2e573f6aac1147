#include <QPainterPath>

#include <algorithm>
#include <cmath>

#include "lanes/painters.h"
#include "look/theme.h"

// Numbers over time: a line of steps, or the height of something that fills.
namespace mt::app {
namespace {

// Something was refused: a cross above.
void paint_refused(QPainter& p, double x, double top) {
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    p.setPen(QPen(theme().finding, 1.6));
    p.drawLine(QPointF(x - 3, top - 2), QPointF(x + 3, top + 4));
    p.drawLine(QPointF(x - 3, top + 4), QPointF(x + 3, top - 2));
    p.restore();
}

}  // namespace

void paint_line(const Pane& pane, const Lane& lane) {
    const Theme& t = theme();
    QPainter& p = pane.p;
    const QRectF band = band_of(pane.row);
    // What is no number stands at the bottom, what is beyond all at the edge.
    const auto finite = [](double v) { return std::isfinite(v) ? v : 0; };
    const auto [least_of_all, greatest_of_all] = lane.bounds();
    const double low = finite(least_of_all), most = finite(greatest_of_all), high = most > low ? most : low + 1;
    const auto y_of = [&](double v) {
        const double share = std::isnan(v) ? 0 : std::clamp((v - low) / (high - low), 0.0, 1.0);
        return band.bottom() - share * band.height();
    };
    const auto [first, last] = lane.touching(0, pane.view.from(), pane.view.to());
    if (first >= last) return;
    const QColor ink = ink_colour(lane.ink());
    const bool fills = lane.fills(), dense = last - first > static_cast<std::size_t>(band.width()) * 2;
    if (fills) {
        const QColor fill = mixed(ink, t.panel, 0.55);
        double painted = band.left() - 1;
        for (std::size_t i = first; i < last; ++i) {
            const Span s = lane.span(0, i);
            const double left = std::max(band.left(), pane.x_of(s.begin)),
                         right = std::min(band.right(), pane.x_of(s.end));
            const bool refused = (s.flags & Span::kTrouble) != 0;
            if (!refused && right < painted) continue;
            const double h = band.bottom() - y_of(lane.value(i));
            if (h > 0) p.fillRect(QRectF(left, band.bottom() - h, std::max(1.0, right - left), h), fill);
            painted = std::floor(std::max(left + 1, right));
            if (refused) paint_refused(p, left, band.top());
        }
    } else if (dense) {  // from the least to the greatest in each pixel
        p.setPen(QPen(ink, 1.2));
        std::size_t from = first;
        for (int px = 0; px < static_cast<int>(band.width()) && from < last; ++px) {
            const std::size_t to = std::min(last, lane.touching(0, pane.time_at(band.left() + px + 1), pane.end).first);
            if (to <= from) continue;
            const auto [least, greatest] = lane.extent(from, to);
            const double x = band.left() + px;
            p.drawLine(QPointF(x, y_of(least)), QPointF(x, std::min(y_of(least) - 1, y_of(greatest))));
            from = to;
        }
    } else {
        p.setPen(QPen(ink, 1.2));
        p.setBrush(Qt::NoBrush);
        QPainterPath path;
        for (std::size_t i = first; i < last; ++i) {
            const double x = std::max(band.left(), pane.x_of(lane.span(0, i).begin)), y = y_of(lane.value(i));
            if (i == first)
                path.moveTo(x, y);
            else
                path.lineTo(x, path.currentPosition().y()), path.lineTo(x, y);
        }
        path.lineTo(std::min(band.right(), pane.x_of(pane.end)), path.currentPosition().y());
        p.drawPath(path);
    }
    if (!pane.selected || pane.selected->second >= lane.size(0)) return;
    const Span s = lane.span(0, pane.selected->second);
    const double left = std::max(band.left(), pane.x_of(s.begin)), right = std::min(band.right(), pane.x_of(s.end));
    if (right >= left)
        paint_frame(pane,
                    {left - 1.5, y_of(lane.value(pane.selected->second)) - 4, std::max(3.0, right - left + 3), 8});
}

}  // namespace mt::app
