#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "lanes/painters.h"
#include "look/shapes.h"
#include "look/theme.h"
#include "look/words.h"

// Spans side by side: executions, holds, uses, stays, gaps.
namespace mt::app {
namespace {

constexpr double kMostDetailed = 3000;

// Solid where it runs, a thread where something more urgent cut in; edges that are not known for sure are soft, those
// that were not seen torn.
void paint_handler(const Pane& pane, const Lane& lane, const Span& s, std::size_t i, const QRectF& bar) {
    QPainter& p = pane.p;
    const QColor colour = ink_colour(lane.ink());
    const double soft_begin = bar.left() - pane.x_of(s.begin - s.begin_slack),
                 soft_end = bar.right() - pane.x_of(s.end - s.end_slack);
    const bool cut_in = (s.flags & Span::kCutInto) != 0;
    if (!cut_in || bar.width() < 4) {
        draw_handler(p, bar, colour);
    } else {
        draw_cut_into(p, bar, colour);
        bool first = true;
        lane.each_part(0, i, [&](Time from, Time to) {
            const double left = pane.x_of(from);
            const QRectF piece(left, bar.top(), std::max(1.0, pane.x_of(to) - left), bar.height());
            if (first)
                draw_handler(p, piece, colour);
            else
                draw_running(p, piece, colour);
            first = false;
        });
    }
    if (soft_begin > 2) draw_soft_edge(p, QRectF(bar.left() - soft_begin, bar.top(), soft_begin, bar.height()), colour);
    if (soft_end > 2) {
        QColor haze = theme().panel;
        haze.setAlpha(120);
        const double wide = std::min(soft_end, bar.width());
        draw_soft_edge(p, QRectF(bar.right() - wide, bar.top(), wide, bar.height()), haze);
    }
}

void paint_bar(const Pane& pane, const Lane& lane, std::size_t i, const QRectF& band) {
    QPainter& p = pane.p;
    const Theme& t = theme();
    const Span s = lane.span(0, i);
    if ((s.flags & Span::kSilent) != 0) return;
    const bool handler = (s.flags & Span::kHandler) != 0;
    double left = pane.x_of(s.begin), right = std::max(left + 1, pane.x_of(s.end));
    if (!handler) {
        left = std::max(left, pane.row.left() - 20);
        right = std::min(right, pane.row.right() + 20);
    }
    if (right < pane.row.left() || left > pane.row.right()) return;
    const QRectF bar(left, band.top(), std::max(1.0, right - left), band.height());
    if (handler)
        paint_handler(pane, lane, s, i, bar);
    else if (lane.ink() == Ink::gap)
        draw_gap(p, bar);
    else
        p.fillRect(bar, mixed(ink_colour(lane.ink()), t.panel, s.hue % 2 == 0 ? 0.30 : 0.45));
    if (bar.width() > 8 && (s.flags & Span::kCutBegin) != 0)
        draw_torn_edge(p, bar.left(), bar.top(), bar.bottom(), true);
    if (bar.width() > 8 && (s.flags & Span::kCutEnd) != 0 && s.end < pane.end)
        draw_torn_edge(p, bar.right(), bar.top(), bar.bottom(), false);
    if (pane.selected && pane.selected->second == i) paint_frame(pane, bar.adjusted(-1.5, -2, 1.5, 2));
    const double from = std::max(bar.left(), pane.row.left()), to = std::min(bar.right(), pane.row.right());
    if (to - from < 26) return;  // no label is that short
    p.setFont(text_font(handler ? 11 : 10));
    const QString label = words(lane.label(0, i));
    if (label.isEmpty() || p.fontMetrics().horizontalAdvance(label) + 14 > to - from) return;
    if (handler) {
        if (!s.whole() || (s.flags & Span::kCutInto) != 0) return;
        p.setPen(t.night ? QColor("#1D2124") : QColor("#FFFFFF"));
        p.drawText(QRectF(from, bar.top(), to - from, bar.height()), Qt::AlignCenter, label);
    } else {
        p.setPen(t.text);
        p.drawText(QRectF(from + 4, bar.top(), to - from - 6, bar.height()), Qt::AlignLeft | Qt::AlignVCenter, label);
    }
}

// Each pixel shows that there is one, and the longest there (the solid part) against the longest of all, so that what
// differs stands out from far away.
void paint_longest(const Pane& pane, const Lane& lane, const QRectF& band) {
    const Theme& t = theme();
    const auto length = [&lane](std::size_t i) { return static_cast<double>(lane.length(0, i, 0).ps); };
    const double most = std::max(1.0, length(lane.longest(0, 0, lane.size(0))));
    const QColor colour = ink_colour(lane.ink());
    SharedColumns columns(pane.p, band, mixed(colour, t.panel, 0.24), mixed(colour, t.panel, 0.65));
    for (int px = 0; px < static_cast<int>(band.width()); ++px) {
        const auto [a, b] = lane.touching(0, pane.time_at(band.left() + px), pane.time_at(band.left() + px + 1));
        if (a != b) columns.add(px, length(lane.longest(0, a, b)) / most);
    }
    columns.flush();
}

// Each pixel shows what lies in it; spans that cannot be told apart are passed over.
void paint_first_of_pixels(const Pane& pane, const Lane& lane, std::size_t first, std::size_t last,
                           const QRectF& band) {
    double painted = band.left() - 1;
    for (std::size_t i = first; i < last; ++i) {
        const Span s = lane.span(0, i);
        const double right = std::min(pane.x_of(s.end), pane.row.right());
        if (right < painted && lane.ordered()) {
            i = std::max(i + 1, lane.touching(0, pane.time_at(painted + 1), pane.end).first) - 1;
            continue;
        }
        painted = std::floor(std::max(pane.x_of(s.begin), right - 0.5)) + 1;
        paint_bar(pane, lane, i, band);
    }
}

}  // namespace

void paint_bars(const Pane& pane, const Lane& lane) {
    if (lane.size(0) == 0) return;
    const QRectF band = lane.ink() == Ink::interrupt ? pane.row.adjusted(0, 5, 0, -5) : band_of(pane.row);
    const auto [first, last] = lane.touching(0, pane.view.from(), pane.view.to());
    if (static_cast<double>(last - first) < std::min(kMostDetailed, band.width() / 2.5)) {
        for (std::size_t i = first; i < last; ++i) paint_bar(pane, lane, i, band);
        return;
    }
    if (lane.ink() != Ink::interrupt) return paint_first_of_pixels(pane, lane, first, last, band);
    paint_longest(pane, lane, band);
    if (pane.selected && pane.selected->second < lane.size(0))
        paint_frame(pane,
                    {pane.x_of(lane.span(0, pane.selected->second).begin) - 2.5, band.top() - 2, 6, band.height() + 4});
}

}  // namespace mt::app
