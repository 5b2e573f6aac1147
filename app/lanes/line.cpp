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

// Where each step may really lie, as far as the clocks are known: a soft band, once that is wider than a few pixels.
template <class Y>
void paint_unsure(const Pane& pane, const Lane& lane, std::size_t first, std::size_t last, QColor ink, Y y_of) {
    const Time unsure = lane.unsure();
    if (unsure == Time{} || pane.x_of(pane.view.from() + unsure) - pane.x_of(pane.view.from()) < 2) return;
    ink.setAlpha(theme().night ? 60 : 46);
    for (std::size_t i = std::max<std::size_t>(first, 1); i < std::min(lane.size(0), last + 1); ++i) {
        const double before = lane.value(i - 1), now = lane.value(i);
        if (std::isnan(before) || std::isnan(now) || before == now) continue;
        const Time at = lane.span(0, i).begin;
        const double left = pane.x_of(at - unsure), right = pane.x_of(at + unsure);
        pane.p.fillRect(QRectF(QPointF(left, y_of(before)), QPointF(right, y_of(now))).normalized(), ink);
    }
}

// Round numbers at the left, as many as have room, each with a faint line.
void paint_scale(const Pane& pane, const QRectF& band, double low, double high) {
    QPainter& p = pane.p;
    const double most = std::floor(band.height() / 16);
    if (most < 2 || !(high > low) || !std::isfinite(high - low)) return;
    double step = std::pow(10, std::floor(std::log10((high - low) / most)));
    for (const double more : {2.0, 2.5, 2.0})
        if ((high - low) / step > most) step *= more;
    p.save();
    p.setFont(text_font(9));
    for (double v = std::ceil(low / step) * step; v <= high + step * 1e-9; v += step) {
        const double y = band.bottom() - (v - low) / (high - low) * band.height();
        QColor line = theme().rule;
        line.setAlpha(120);
        p.setPen(QPen(line, 1));
        p.drawLine(QPointF(band.left(), y), QPointF(band.right(), y));
        p.setPen(theme().second);
        const double shown = std::abs(v) < step * 1e-6 ? 0 : v;
        p.drawText(QRectF(band.left() + 3, y - 12, 90, 12), Qt::AlignLeft | Qt::AlignBottom,
                   QString::number(shown, 'g', 6));
    }
    p.restore();
}

}  // namespace

// What is no number stands at the bottom, what is beyond all at the edge.
std::pair<double, double> line_range(const Pane& pane, const Lane& lane) {
    if (pane.range) return *pane.range;
    if (pane.look.scale == LineLook::Scale::fixed) return {pane.look.low, pane.look.high};
    const auto finite = [](double v) { return std::isfinite(v) ? v : 0; };
    const auto [first, last] = lane.touching(0, pane.view.from(), pane.view.to());
    const bool visible = pane.look.scale == LineLook::Scale::visible ||
                         (pane.look.scale == LineLook::Scale::usual && pane.to_visible);
    const auto [least, greatest] = visible && first < last && !lane.fills() ? lane.extent(first, last) : lane.bounds();
    const double low = finite(least), most = finite(greatest);
    return {low, most > low ? most : low + 1};
}

QColor line_colour(std::size_t n) {
    const Theme& t = theme();
    const QColor colours[] = {ink_colour(Ink::value), t.interrupt, t.waiting, t.land, t.contour};
    return colours[n % std::size(colours)];
}

void paint_line(const Pane& pane, const Lane& lane) {
    const Theme& t = theme();
    QPainter& p = pane.p;
    const QRectF band = band_of(pane.row);
    const auto [first, last] = lane.touching(0, pane.view.from(), pane.view.to());
    const auto [low, high] = line_range(pane, lane);
    const auto y_of = [&, low = low, high = high](double v) {
        const double share = std::isnan(v) ? 0 : std::clamp((v - low) / (high - low), 0.0, 1.0);
        return band.bottom() - share * band.height();
    };
    if (first >= last) return;
    if (!lane.fills() && pane.numbers) paint_scale(pane, band, low, high);
    const QColor ink = pane.line.isValid() ? pane.line : ink_colour(lane.ink());
    const bool fills = lane.fills(), dense = last - first > static_cast<std::size_t>(band.width()) * 2;
    const LineLook::Drawn drawn = pane.look.drawn;
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
        bool known = false;
        // A line begins before what is visible and ends behind it.
        const std::size_t end = drawn == LineLook::Drawn::line ? std::min(lane.size(0), last + 1) : last;
        for (std::size_t i = first; i < end && drawn != LineLook::Drawn::dots; ++i) {
            const double begin = pane.x_of(lane.span(0, i).begin), value = lane.value(i);
            const double x = drawn == LineLook::Drawn::line ? begin : std::max(band.left(), begin);
            if (known && drawn == LineLook::Drawn::steps) path.lineTo(x, path.currentPosition().y());
            if (!std::isnan(value)) known ? path.lineTo(x, y_of(value)) : path.moveTo(x, y_of(value));
            known = !std::isnan(value);  // what is not known is not drawn
        }
        if (known && drawn == LineLook::Drawn::steps)
            path.lineTo(std::min(band.right(), pane.x_of(pane.end)), path.currentPosition().y());
        p.drawPath(path);
        paint_unsure(pane, lane, first, last, ink, y_of);
        // Samples as dots, where they are asked for, or stand so far apart that a line would hide where they are.
        const bool apart = (last - first) * 12 < static_cast<std::size_t>(band.width());
        if (drawn == LineLook::Drawn::dots || (drawn == LineLook::Drawn::line && apart)) {
            p.setBrush(ink);
            p.setPen(Qt::NoPen);
            p.setRenderHint(QPainter::Antialiasing);
            for (std::size_t i = first; i < last; ++i)
                if (const double value = lane.value(i); !std::isnan(value))
                    p.drawEllipse(QPointF(pane.x_of(lane.span(0, i).begin), y_of(value)), 1.8, 1.8);
            p.setRenderHint(QPainter::Antialiasing, false);
        }
    }
    if (!pane.selected || pane.selected->second >= lane.size(0)) return;
    const Span s = lane.span(0, pane.selected->second);
    const double left = std::max(band.left(), pane.x_of(s.begin)), right = std::min(band.right(), pane.x_of(s.end));
    if (right >= left)
        paint_frame(pane,
                    {left - 1.5, y_of(lane.value(pane.selected->second)) - 4, std::max(3.0, right - left + 3), 8});
}

}  // namespace mt::app
