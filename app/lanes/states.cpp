#include <algorithm>
#include <cmath>

#include "lanes/painters.h"
#include "look/shapes.h"
#include "look/theme.h"

// What a task, or thread mode, does at each moment: states told apart by shape.
namespace mt::app {
namespace {

void paint_shares(const Pane& pane, const Lane& lane, const QRectF& band, bool faint) {
    const Theme& t = theme();
    const QColor full = faint ? mixed(t.land, t.panel, 0.3) : t.land,
                 light = faint ? t.panel : mixed(t.land, t.panel, 0.28);
    SharedColumns columns(pane.p, band, light, full);
    for (int px = 0; px < static_cast<int>(band.width()); ++px) {
        const Time from = pane.time_at(band.left() + px), to = pane.time_at(band.left() + px + 1);
        if (from >= pane.end) break;
        if (const double share = lane.running_share(from, to); share > 0)
            columns.add(px, std::max(share, 1 / band.height()));
    }
    columns.flush();
}

// It has its core: thin where something cut in.
void paint_running(const Pane& pane, const Lane& lane, const LaneState& s, const QRectF& bar) {
    const QColor& colour = theme().land;
    std::vector<QRectF> parts;
    if (bar.width() >= 5)
        lane.each_running_part(s.begin, s.end, [&](Time from, Time to) {
            const double left = std::max(bar.left(), pane.x_of(from)), right = std::min(bar.right(), pane.x_of(to));
            if (right > left) parts.emplace_back(left, bar.top(), right - left, bar.height());
        });
    if (parts.empty() || static_cast<double>(parts.size()) > bar.width()) return draw_running(pane.p, bar, colour);
    if (parts.size() > 1 || parts[0].width() < bar.width()) draw_cut_into(pane.p, bar, colour);
    for (const QRectF& part : parts) draw_running(pane.p, part, colour);
}

void paint_label(const Pane& pane, const Lane& lane, const LaneState& s, const QRectF& bar) {
    const Theme& t = theme();
    const bool lock = s.look == LaneState::waits_for_lock;
    // Behind the ring of a wait.
    const double from = std::max(bar.left(), pane.row.left()) + (lock ? 38 : 8),
                 to = std::min(bar.right(), pane.row.right()) - 8;
    if (to - from < 40) return;
    const QString label = QString::fromStdString(lane.state_label(s));
    const int wide = pane.p.fontMetrics().horizontalAdvance(label);
    if (label.isEmpty() || wide + 40 >= to - from) return;
    pane.p.setPen(lock ? t.waiting.darker(t.night ? 85 : 120) : t.second);
    const QRectF area(from, bar.center().y() - 8, wide + 8, 16);
    pane.p.fillRect(area, t.panel);
    pane.p.drawText(area, Qt::AlignCenter, label);
}

}  // namespace

void paint_states(const Pane& pane, const Lane& lane) {
    const Theme& t = theme();
    const QRectF band = band_of(pane.row);
    const Time from = pane.view.from(), to = pane.view.to();
    if (static_cast<double>(lane.states_between(from, to)) > band.width() * 1.2) {
        bool faint = false;
        lane.each_state(from, from, [&](const LaneState& s) { faint = s.faint; });
        return paint_shares(pane, lane, band, faint);
    }
    pane.p.setFont(text_font(10));
    double painted = -1;
    lane.each_state(from, to, [&](const LaneState& s) {
        const double left = std::max(pane.row.left() - 20, pane.x_of(s.begin)),
                     right = std::min(pane.row.right() + 20, pane.x_of(s.end));
        if (right < pane.row.left()) return;
        const QRectF bar(left, band.top(), std::max(0.6, right - left), band.height());
        const QColor pale = mixed(t.land, t.panel, 0.3);
        switch (s.look) {
            case LaneState::runs:
                if (bar.right() < painted) return;  // covered by the one before
                if (bar.width() < 1) {
                    pane.p.fillRect(QRectF(left, band.top(), 1, band.height()), s.faint ? pale : t.land);
                    painted = std::floor(left) + 1;
                } else if (s.faint) {
                    pane.p.fillRect(QRectF(bar.left(), bar.bottom() - bar.height() / 3, bar.width(), bar.height() / 3),
                                    pale);
                } else {
                    paint_running(pane, lane, s, bar);
                }
                break;
            case LaneState::cut_into:
                draw_cut_into(pane.p, bar, t.land);
                break;
            case LaneState::held_off:
                if (!s.faint && bar.width() >= 2) draw_held_off(pane.p, bar, mixed(t.land, t.text, 0.55));
                break;
            case LaneState::waits_for_lock:
                if (bar.width() >= 2) draw_lock_wait(pane.p, bar, t.waiting);
                break;
            case LaneState::waits:
                if (bar.width() >= 8) draw_idle_wait(pane.p, bar, t.second);
                break;
            case LaneState::unknown:
                break;  // gaps are drawn over all lanes
        }
        paint_label(pane, lane, s, bar);
    });
    if (!pane.selected || pane.selected->second >= lane.size(0)) return;
    const Span job = lane.span(0, pane.selected->second);
    const double left = pane.x_of(job.begin), right = std::max(left + 2, pane.x_of(job.end));
    paint_frame(pane, QRectF(left - 1.5, band.top() - 3, right - left + 3, band.height() + 6));
}

}  // namespace mt::app
