#include <algorithm>

#include "base/text.h"
#include "lanes/geometry.h"
#include "lanes/painters.h"
#include "look/shapes.h"
#include "look/theme.h"
#include "look/words.h"

// Spans within spans: one layer a depth, the outermost on top, each named where there is room.
namespace mt::app {
namespace {

constexpr std::size_t kMostSpans = 1500;

// The colours of a geological map, none of which means a state elsewhere.
// Code without privilege is paler, what stands above the operating system darker.
QColor shaded(const QColor& plain, unsigned shade) {
    const Theme& t = theme();
    if (shade == 1) return mixed(plain, t.panel, 0.62);
    if (shade >= 3) return mixed(plain, t.text, shade == 3 ? 0.8 : 0.66);
    return plain;
}

QColor tint_colour(unsigned tint) {
    static const QColor by_day[] = {"#7F9C8A", "#C2A56B", "#8A9BB0", "#B08B78",
                                    "#A3AB6A", "#86ABA8", "#AC93AB", "#B9AE94"};
    static const QColor by_night[] = {"#5F7D6B", "#8F774A", "#687A90", "#866A5C",
                                      "#79824C", "#6B8583", "#826F82", "#8B816B"};
    if (tint == 0) return theme().night ? QColor("#66696B") : QColor("#A9ABA6");
    return (theme().night ? by_night : by_day)[(tint - 1) % 8];
}

// So short a part of what is in view that nothing can be told apart: a mark at the place, and what lies there.
void paint_place(const Pane& pane, const Lane& lane, Time begin, Time end) {
    const QString text =
        QObject::tr("traced for %1 from %2").arg(words(duration_text(end - begin)), words(moment_text(begin)));
    QPainter& p = pane.p;
    p.setFont(text_font(11));
    const double x = pane.x_of(begin), wide = p.fontMetrics().horizontalAdvance(text) + 10;
    p.fillRect(
        QRectF(x - 1, pane.row.top() + kCallsPad, std::max(3.0, pane.x_of(end) - x), pane.row.height() - 2 * kCallsPad),
        tint_colour(lane.tint(lane.span(0, 0).hue)));
    p.setPen(theme().second);
    const bool left = x - wide > pane.row.left();
    p.drawText(QRectF(left ? x - wide : x + 8, pane.row.top(), wide, pane.row.height()),
               Qt::AlignVCenter | Qt::AlignLeft, text);
}

class Layer {
  public:
    Layer(const Pane& pane, const Lane& lane, std::size_t level, double top)
        : pane_(pane), lane_(lane), level_(level), top_(top) {}

    void paint() {
        const auto [first, last] = lane_.touching(level_, pane_.view.from(), pane_.view.to());
        if (last - first > kMostSpans) return paint_longest();
        double right_before = -1;  // neighbours keep a pixel between them where both are wide
        for (std::size_t i = first; i < last; ++i) {
            const Span s = lane_.span(level_, i);
            double left = std::max(pane_.x_of(s.begin), pane_.row.left() - 20);
            const double right = std::min(pane_.x_of(s.end), pane_.row.right() + 20);
            if (left <= right_before + 0.5 && right - left > 3) left += 1;
            paint_span(s, i, left, right, right - left < 0.5);
            right_before = right;
        }
    }

  private:
    // Each pixel shows the longest in it, pale if that fills less than half of it; neighbours of the same hue become
    // one bar.
    void paint_longest() {
        const int pixels = static_cast<int>(pane_.row.width());
        struct Run {
            Span span;
            std::size_t index = 0;
            int from = 0;
            bool faint = false;
        };
        std::optional<Run> run;
        const auto flush = [&](int until) {
            if (run)
                paint_span(run->span, run->index, pane_.row.left() + run->from, pane_.row.left() + until, run->faint);
            run.reset();
        };
        for (int px = 0; px < pixels; ++px) {
            const Time a = pane_.time_at(pane_.row.left() + px), b = pane_.time_at(pane_.row.left() + px + 1);
            const auto [i, k] = lane_.touching(level_, a, b);
            if (i == k) {
                flush(px);
                continue;
            }
            const std::size_t longest = lane_.longest(level_, i, k);
            Span s = lane_.span(level_, longest);
            const bool faint = 2 * (std::min(s.end, b) - std::max(s.begin, a)).ps < (b - a).ps;
            s.flags &= Span::kHandler;
            if (run && run->span.hue == s.hue && run->span.shade == s.shade && run->faint == faint) continue;
            flush(px);
            run = Run{s, longest, px, faint};
        }
        flush(pixels);
    }

    void paint_span(const Span& s, std::size_t i, double left, double right, bool faint) {
        const Theme& t = theme();
        QPainter& p = pane_.p;
        const bool handler = (s.flags & Span::kHandler) != 0;
        const QRectF bar(left, top_, std::max(1.0, right - left), kLevel - 1);
        const QColor plain = shaded(handler ? t.interrupt : tint_colour(lane_.tint(s.hue)), s.shade),
                     colour = faint ? mixed(plain, t.panel, 0.4) : plain;
        if (handler && bar.width() > 5 && !faint)
            draw_handler(p, bar, colour);
        else
            p.fillRect(bar, colour);
        if (bar.width() > 6 && (s.flags & Span::kCutBegin) != 0 && left > pane_.row.left())
            draw_torn_edge(p, bar.left(), bar.top(), bar.bottom(), true);
        if (bar.width() > 6 && (s.flags & Span::kCutEnd) != 0 && right < pane_.row.right())
            draw_torn_edge(p, bar.right(), bar.top(), bar.bottom(), false);
        const double from = std::max(bar.left(), pane_.row.left()) + 4,
                     to = std::min(bar.right(), pane_.row.right()) - 3;
        if (to - from < 24) return;
        p.setPen(handler && !faint ? QColor("#FFFFFF") : t.night ? QColor("#F2F0EA") : QColor("#1D2124"));
        const QString name =
            p.fontMetrics().elidedText(words(lane_.label(level_, i)), Qt::ElideRight, static_cast<int>(to - from));
        if (name.size() > 2)
            p.drawText(QRectF(from, top_, to - from, kLevel - 1), Qt::AlignVCenter | Qt::AlignLeft, name);
    }

    const Pane& pane_;
    const Lane& lane_;
    std::size_t level_;
    double top_;
};

}  // namespace

namespace {

constexpr double kNarrow = 5;            // pixels: nothing narrower can be told apart
constexpr std::size_t kFewFolded = 3;    // fewer levels are not worth folding
constexpr double kProfile = 2 * kLevel;  // height of the profile
constexpr int kEach = 2;                 // pixels of a column of it

// For each pixel how many levels were on the stack there, as a column from the top down.
void paint_profile(const Pane& pane, const Lane& lane, const StackRows& rows) {
    const Theme& t = theme();
    const double top = pane.row.top() + kCallsPad + static_cast<double>(rows.each) * kLevel;
    const double step = (kProfile - 2) / static_cast<double>(rows.together);
    const int pixels = static_cast<int>(pane.row.width());
    Columns columns(pane.p, mixed(t.land, t.panel, 0.55));
    std::size_t deepest = 0;
    for (int px = 0; px < pixels; px += kEach) {
        const Time a = pane.time_at(pane.row.left() + px), b = pane.time_at(pane.row.left() + px + kEach);
        std::size_t deep = 0;
        while (deep < rows.together) {
            const auto [first, last] = lane.touching(rows.each + deep, a, b);
            if (first == last) break;
            ++deep;
        }
        deepest = std::max(deepest, deep);
        for (int k = 0; deep > 0 && k < kEach && px + k < pixels; ++k)
            columns.add(static_cast<int>(pane.row.left()) + px + k, static_cast<int>(top),
                        static_cast<int>(top + step * static_cast<double>(deep)));
    }
    columns.flush();
    const QString text = QObject::tr("%1 levels more, up to %2 in all: every call is narrower than %3 pixels")
                             .arg(rows.together)
                             .arg(rows.each + deepest)
                             .arg(kNarrow);
    pane.p.setFont(text_font(11));
    const double wide = pane.p.fontMetrics().horizontalAdvance(text) + 12;
    if (wide > pane.row.width() - 8) return;
    const QRectF plate(pane.row.left() + 6, top + kProfile - 17, wide, 15);
    pane.p.fillRect(plate, t.panel);
    pane.p.setPen(t.second);
    pane.p.drawText(plate, Qt::AlignCenter, text);
    pane.p.setFont(text_font(10));
}

}  // namespace

double StackRows::height() const {
    return static_cast<double>(std::max<std::size_t>(together > 0 ? 1 : 2, each)) * kLevel +
           (together > 0 ? kProfile : 0);
}

StackRows stack_rows(const Viewpoint& view, double width, const Lane& lane, std::optional<std::size_t> shown) {
    StackRows rows;
    std::size_t deepest = 0;
    for (std::size_t level = 0; level < lane.levels() && level < kMostLevels; ++level) {
        const auto [first, last] = lane.touching(level, view.from(), view.to());
        if (first == last) continue;
        deepest = level + 1;
        const Span longest = lane.span(level, lane.longest(level, first, last));
        if ((view.share_of(longest.end) - view.share_of(longest.begin)) * width >= kNarrow) rows.each = level + 1;
    }
    rows.each = std::max<std::size_t>(rows.each, shown ? *shown + 1 : 1);
    if (deepest >= rows.each + kFewFolded)
        rows.together = deepest - rows.each;
    else
        rows.each = deepest;
    return rows;
}

void paint_stack(const Pane& pane, const Lane& lane) {
    const auto known = lane.known();
    if (known && too_short(pane.view, pane.row.width(), lane)) {
        if (known->second >= pane.view.from() && known->first <= pane.view.to() && lane.levels() > 0)
            paint_place(pane, lane, known->first, known->second);
        return;
    }
    pane.p.setFont(text_font(10));
    const StackRows& rows = pane.stack;
    if (rows.together > 0) paint_profile(pane, lane, rows);
    for (std::size_t level = 0; level < lane.levels() && (level < rows.each || rows.together == 0); ++level) {
        const double top = pane.row.top() + kCallsPad + static_cast<double>(level) * kLevel;
        if (top > pane.row.bottom() - kLevel + 2) break;
        if (top + kLevel < pane.ceiling) continue;
        Layer(pane, lane, level, top).paint();
    }
    if (!pane.selected || pane.selected->first >= lane.levels()) return;
    const auto [level, index] = *pane.selected;
    const Span s = lane.span(level, index);
    const double left = pane.x_of(s.begin);
    paint_frame(pane, QRectF(left, pane.row.top() + kCallsPad + static_cast<double>(level) * kLevel,
                             std::max(1.0, pane.x_of(s.end) - left), kLevel - 1)
                          .adjusted(-1, -1, 1, 1));
}

bool too_short(const Viewpoint& view, double width, const Lane& lane) {
    const auto known = lane.known();
    return known && known->first > Time{} && (view.share_of(known->second) - view.share_of(known->first)) * width < 12;
}

}  // namespace mt::app
