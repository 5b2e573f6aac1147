#include "lanes/lanes.h"

#include <QPainter>

#include <algorithm>
#include <cmath>
#include <functional>

#include "base/text.h"
#include "lanes/geometry.h"
#include "lanes/painters.h"
#include "look/shapes.h"
#include "look/theme.h"
#include "look/time_axis.h"
#include "look/words.h"
#include "measure/kinds/kinds.h"

// How the lanes are drawn; how they are used stands in lanes.cpp.
namespace mt::app {
namespace {}  // namespace

void Lanes::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    p.fillRect(rect(), t.panel);
    growth_.painted();
    if (!document_.trail()) return;
    p.save();
    p.setClipRect(QRectF(0, kAxis, width(), height() - kAxis));
    paint_finding(p);
    for (const Row& r : rows_)
        if (r.top + r.height > kAxis && r.top < height()) paint_row(p, r);
    for (const Row& r : rows_)
        if (!r.folded) paint_tail_chains(p, r);
    p.setClipRect(QRectF(plot_left(), kAxis, width() - plot_left(), height() - kAxis));
    if (document_.trail()->tasks.present()) {
        paint_lock_links(p);
        paint_job_links(p);
        if (start_shown_) paint_start(p);
    }
    paint_gaps(p);
    p.restore();
    paint_axis(p);
    paint_cursor(p);
    paint_ruler(p);
    if (drag_ == Drag::zoom) {
        QColor glass = t.measure;
        glass.setAlpha(50);
        p.fillRect(QRectF(QPointF(pressed_.x(), 0), QPointF(mouse_.x(), height())).normalized(), glass);
    }
    if (!moved_device_.empty()) paint_moved_clock(p);
    if (hasFocus()) {
        p.setPen(QPen(t.measure, 1));
        p.setBrush(Qt::NoBrush);
        p.drawRect(rect().adjusted(0, 0, -1, -1));
    }
    if (key_shown_) paint_key(p);
}

void Lanes::paint_axis(QPainter& p) {
    const Theme& t = theme();
    p.fillRect(QRectF(0, 0, width(), kAxis), t.window);
    p.setPen(t.rule);
    p.drawLine(QPointF(0, kAxis - 0.5), QPointF(width(), kAxis - 0.5));
    p.setFont(text_font(11));
    const int wanted = std::max(2, static_cast<int>((width() - plot_left()) / (view_.scale() != nullptr ? 96 : 72)));
    const auto ticks = view_.scale() != nullptr ? even_ticks(*view_.scale(), view_.from(), view_.to(), wanted)
                                                : time_ticks(view_.from(), view_.to(), wanted);
    p.setPen(t.second);
    p.drawText(QRectF(8, 0, plot_left() - 12, kAxis), Qt::AlignLeft | Qt::AlignVCenter, ticks.offset_text);
    for (const auto& tick : ticks.ticks) {
        const double x = x_of(tick.at);
        const int w = p.fontMetrics().horizontalAdvance(tick.label);
        QColor line = t.rule;
        line.setAlpha(150);
        p.setPen(QPen(line, 1, Qt::DotLine));
        p.drawLine(QPointF(x, kAxis), QPointF(x, height()));
        p.setPen(t.second);
        if (x - w / 2.0 >= plot_left() && x + w / 2.0 <= width() - 2)
            p.drawText(QRectF(x - w / 2.0 - 2, 0, w + 4, kAxis), Qt::AlignCenter, tick.label);
    }
}

void Lanes::paint_cursor(QPainter& p) {
    const Theme& t = theme();
    const double x = x_of(view_.cursor());
    if (x < plot_left() || x > width()) return;
    p.setPen(QPen(t.text, 1.4));
    p.drawLine(QPointF(x, kAxis - 6), QPointF(x, height()));
    p.setBrush(t.text);
    p.setPen(Qt::NoPen);
    p.setRenderHint(QPainter::Antialiasing);
    const QPointF head[] = {{x - 5, kAxis - 8}, {x + 5, kAxis - 8}, {x, kAxis}};
    p.drawPolygon(head, 3);
}

// What stands before a lane: its name, and what it is.
std::pair<QString, QString> Lanes::heading(const Row& row) const {
    QString sub = words(row.lane->note());
    if (row.lane->shape() == Shape::line && !row.lane->fills())  // what it is at the cursor
        if (const auto [first, last] = row.lane->touching(0, view_.cursor(), view_.cursor());
            first < last && !(view_.cursor() < row.lane->span(0, last - 1).begin))
            sub = "= " + words(row.lane->label(0, last - 1));
    const auto& cores = document_.trail()->cores;
    const std::string& core = cores[row.lane->core()].name;
    if (merged_ && cores.size() > 1 && row.id.kind->rank() < LaneKind::kAcrossCores && !sub.contains(words(core)))
        sub += " · " + words(core);
    return {words(row.lane->name()), sub};
}

QStringList Lanes::headings() const {
    QStringList all;
    for (const Row& r : rows_) {
        const auto [name, sub] = heading(r);
        all << name + " | " + sub;
    }
    return all;
}

Pane Lanes::pane_of(QPainter& p, const Row& row) const {
    Pane pane{p, view_, QRectF(plot_left(), row.top, width() - plot_left(), row.height), kAxis, document_.trail()->end};
    if (const auto& span = view_.selection().span; span && span->lane == row.id && book_->find(*span) != nullptr)
        pane.selected = std::pair<std::size_t, std::size_t>(span->level, span->index);
    pane.stack = row.stack;
    pane.to_visible = to_visible_;
    if (row.lane->shape() == Shape::line) pane.look = looks_.of(key_of(row));
    return pane;
}

// Several in one row: those of the same unit on one scale, the others each on its own.
void Lanes::paint_lines(QPainter& p, const Row& row) {
    const auto& values = document_.trail()->tasks.values;
    const auto unit_of = [&](const LaneId& id) {
        return id.kind == &values_kind() && id.index < values.size() ? values[id.index].unit : std::string();
    };
    std::vector<std::pair<LaneId, const Lane*>> all = {{row.id, row.lane}};
    all.insert(all.end(), row.guests.begin(), row.guests.end());
    Pane host = pane_of(p, row);
    std::pair<double, double> shared = line_range(host, *row.lane);
    if (host.look.scale != LineLook::Scale::fixed)
        for (const auto& [id, lane] : row.guests)
            if (unit_of(id) == unit_of(row.id)) {
                const auto [low, high] = line_range(host, *lane);
                shared = {std::min(shared.first, low), std::max(shared.second, high)};
            }
    for (std::size_t n = 0; n < all.size(); ++n) {
        const auto& [id, lane] = all[n];
        Pane pane = host;
        pane.look.drawn = looks_.of(key_of(id, *lane)).drawn;
        if (unit_of(id) == unit_of(row.id)) pane.range = shared;
        pane.line = line_colour(n);
        pane.numbers = n == 0;
        const auto& span = view_.selection().span;
        pane.selected.reset();
        if (span && span->lane == id && book_->find(*span) != nullptr)
            pane.selected = std::pair<std::size_t, std::size_t>(span->level, span->index);
        paint_lane(pane, *lane);
    }
}

void Lanes::paint_heading(QPainter& p, const Row& row) {
    const Theme& t = theme();
    const auto [name, sub] = heading(row);
    p.save();
    p.setClipRect(QRectF(0, std::max(row.top, kAxis), plot_left() - 4, row.height), Qt::IntersectClip);
    if (row.folded) {
        p.setFont(text_font(10));
        p.setPen(t.second);
        texts_.draw(p, QRectF(12, row.top, plot_left() - 18, row.height), name);
    } else {
        p.setFont(text_font(12, true));
        p.setPen(t.text);
        // A stack is read from its top; its name stays in sight while some of it is.
        const double middle = row.lane->shape() == Shape::stack
                                  ? std::clamp(kAxis + 20.0, row.top + 20, std::max(row.top + 20, row.top + row.height - 18))
                                  : row.top + row.height / 2;
        texts_.draw(p, QRectF(12, middle - 15, plot_left() - 18, 16), name);
        p.setFont(text_font(10));
        p.setPen(t.second);
        texts_.draw(p, QRectF(12, middle, plot_left() - 16, 13), sub);
        for (std::size_t n = 0; n < row.guests.size(); ++n) {
            const Row guest{row.guests[n].first, row.guests[n].second, row.top, row.height, false};
            const auto [called, value] = heading(guest);
            p.setPen(line_colour(n + 1));
            texts_.draw(p, QRectF(12, middle + 14 + 13 * static_cast<double>(n), plot_left() - 16, 13),
                        called + " " + value);
        }
        if (!row.guests.empty()) p.fillRect(QRectF(4, middle - 12, 3, 10), line_colour(0));
    }
    p.restore();
}

// How far the lanes of a device have been drawn, where its edge stands now.
void Lanes::paint_moved_clock(QPainter& p) {
    const double x = x_of(grabbed_ + moved_by_);
    p.setPen(QPen(theme().measure, 1.2, Qt::DashLine));
    p.drawLine(QPointF(x, kAxis), QPointF(x, height()));
    const QString text = tr("%1 moved by %2%3")
                             .arg(words(moved_device_), moved_by_ < Time{} ? "−" : "+",
                                  words(duration_text(moved_by_ < Time{} ? Time{} - moved_by_ : moved_by_)));
    p.setFont(text_font(11, true));
    const double w = p.fontMetrics().horizontalAdvance(text) + 16;
    const QRectF box(std::min(x + 8, width() - w - 4), std::max<double>(kAxis + 4, mouse_.y() - 30), w, 20);
    p.fillRect(box, theme().panel);
    p.setPen(theme().measure);
    p.drawRect(box);
    p.drawText(box, Qt::AlignCenter, text);
}

LaneId Lanes::lane_at(const Row& row, const QPointF& at) const {
    const double first = row.top + row.height / 2 + 14;
    if (row.guests.empty() || at.x() >= plot_left() || at.y() < first) return row.id;
    const auto n = static_cast<std::size_t>((at.y() - first) / 13);
    return n < row.guests.size() ? row.guests[n].first : row.id;
}

void Lanes::paint_row(QPainter& p, const Row& row) {
    const Theme& t = theme();
    if (view_.selection().lane == row.id) p.fillRect(QRectF(0, row.top, plot_left(), row.height), t.selected);
    p.setPen(t.rule);
    p.drawLine(QPointF(0, row.top + row.height - 0.5), QPointF(width(), row.top + row.height - 0.5));
    paint_heading(p, row);
    if (row.folded) return;
    p.save();
    p.setClipRect(QRectF(plot_left(), std::max(row.top, kAxis), width() - plot_left(), row.height), Qt::IntersectClip);
    if (!moved_device_.empty() && device_of(row.id) == moved_device_)
        p.translate(x_of(grabbed_ + moved_by_) - x_of(grabbed_), 0);
    if (row.guests.empty())
        paint_lane(pane_of(p, row), *row.lane);
    else
        paint_lines(p, row);
    paint_limits(p, row);
    if (row.id.kind == &functions_kind()) paint_inlined(p, row);
    if (row.id.kind == &threads_kind()) paint_samples(p, row);
    p.restore();
}

// Across the rows of the core whose trace was lost: what the others did then is known.
void Lanes::paint_gaps(QPainter& p) {
    const auto trail = document_.trail();
    p.save();
    p.setClipRect(QRectF(plot_left(), kAxis, width() - plot_left(), height()), Qt::IntersectClip);
    for (std::size_t first = 0, last = 0; first < rows_.size(); first = last) {
        const std::size_t core = rows_[first].lane->core();
        const bool outside = rows_[first].lane->from_outside();
        while (last < rows_.size() && rows_[last].lane->core() == core && rows_[last].lane->from_outside() == outside)
            ++last;
        if (outside) continue;
        const double top = std::max<double>(kAxis, rows_[first].top),
                     bottom = std::min<double>(height(), rows_[last - 1].top + rows_[last - 1].height);
        if (bottom > top)
            trail->gaps.each(core, view_.from(), view_.to(), time_at(1) - time_at(0),
                             [&](const Gap& g) { paint_gap(p, g, top, bottom); });
    }
    p.restore();
}

void Lanes::paint_gap(QPainter& p, const Gap& g, double top, double bottom) {
    const double left = std::max(plot_left() - 10, x_of(g.begin)),
                 right = std::min<double>(width() + 10, std::max(left + 1, x_of(g.end)));
    draw_gap(p, QRectF(left, top, right - left, bottom - top));
    if (right - left <= 130) return;
    p.setFont(text_font(11, true));
    p.setPen(theme().contour.darker(theme().night ? 80 : 140));
    const QString label = (g.kind == GapKind::overflow ? tr("trace lost for up to %1") : tr("damaged, up to %1"))
                              .arg(words(duration_text(g.end - g.begin)));
    const QRectF area(left, bottom - 20, right - left, 18);
    const int w = p.fontMetrics().horizontalAdvance(label) + 10;
    p.fillRect(QRectF(area.center().x() - w / 2.0, area.top(), w, area.height()), theme().panel);
    p.drawText(area, Qt::AlignCenter, label);
}

// The stretch of the selected finding: from when it was due to what happened.
void Lanes::paint_finding(QPainter& p) {
    const auto& span = view_.selection().span;
    if (!span) return;
    for (const Finding& f : document_.findings()) {
        if (f.about != span) continue;
        const double left = x_of(f.begin), right = x_of(std::max(f.end, f.begin));
        QColor tint = theme().finding;
        tint.setAlpha(theme().night ? 38 : 28);
        p.fillRect(QRectF(left, kAxis, std::max(1.0, right - left), height()), tint);
        if (f.kind == FindingKind::late_response && span->lane.kind == &interrupts_kind()) paint_due(p, f);
        return;
    }
}

// Ready but held off: a thin line with slanting ticks from when it was due to its entry.
void Lanes::paint_due(QPainter& p, const Finding& f) {
    const Lane* lane = book_->find(*f.about);
    const QRectF row = row_rect(f.lane);
    if (lane == nullptr || row.isEmpty()) return;
    const Time entered = lane->span(0, f.about->index).begin;
    const double left = x_of(f.begin), entry = x_of(entered), y = row.center().y();
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    p.setPen(QPen(theme().finding, 1.6));
    p.drawLine(QPointF(left, y), QPointF(entry, y));
    if (entry - left > 12)
        for (double x = left + 5; x < entry - 3; x += 9) p.drawLine(QPointF(x - 2.5, y + 4), QPointF(x + 2.5, y - 4));
    p.setFont(text_font(11, true));
    const QString label = tr("due, entered %1 late").arg(words(duration_text(entered - f.begin)));
    if (p.fontMetrics().horizontalAdvance(label) + 8 < entry - left)
        p.drawText(QRectF(left, y - 17, entry - left, 13), Qt::AlignCenter, label);
    p.restore();
}

void Lanes::paint_ruler(QPainter& p) {
    if (!view_.a() && !view_.b()) return;
    const Theme& t = theme();
    p.setRenderHint(QPainter::Antialiasing);
    // A strip of its own under the lanes, so that no lane is covered.
    const double y = height() - kRuler / 2;
    p.fillRect(QRectF(0, height() - kRuler, width(), kRuler), t.window);
    p.setPen(t.rule);
    p.drawLine(QPointF(0, height() - kRuler), QPointF(width(), height() - kRuler));
    p.setFont(text_font(11, true));
    p.setPen(t.measure);
    p.drawText(QRectF(12, height() - kRuler, plot_left() - 16, kRuler), Qt::AlignVCenter | Qt::AlignLeft, tr("A–B"));
    p.save();
    p.setClipRect(QRectF(plot_left(), 0, width() - plot_left(), height()));
    if (view_.a() && view_.b()) {
        p.setPen(QPen(t.measure, 1.4));
        p.drawLine(QPointF(x_of(*view_.a()), y), QPointF(x_of(*view_.b()), y));
    }
    const auto end = [&](std::optional<Time> at, const QString& name) {
        if (!at) return;
        const double x = x_of(*at);
        p.setPen(QPen(t.measure, 1, Qt::DashLine));
        p.drawLine(QPointF(x, kAxis), QPointF(x, height() - kRuler));
        p.setPen(Qt::NoPen);
        p.setBrush(t.measure);
        p.drawEllipse(QPointF(x, y), 9, 9);
        p.setPen(t.panel);
        p.drawText(QRectF(x - 9, y - 9, 18, 18), Qt::AlignCenter, name);
    };
    end(view_.a(), "A");
    end(view_.b(), "B");
    p.restore();
    if (view_.a() && view_.b()) {
        const Time d{std::llabs((*view_.b() - *view_.a()).ps)};
        const Lane* selected = book_->find(view_.selection().lane);
        const Clock clock = document_.trail()->cores[selected != nullptr ? selected->core() : 0].clock;
        QString label =
            tr("%1 · %2 cycles")
                .arg(words(duration_text(d)), words(count_text(static_cast<std::uint64_t>(clock.cycles(d)))));
        if (d.ps > 0) label += " · " + words(frequency_text(d));
        const int w = p.fontMetrics().horizontalAdvance(label) + 22;
        const double middle =
            std::clamp((x_of(*view_.a()) + x_of(*view_.b())) / 2, plot_left() + w / 2.0 + 2, width() - w / 2.0 - 2);
        const QRectF box(middle - w / 2.0, y - 10, w, 20);
        p.setPen(QPen(t.measure, 1.2));
        p.setBrush(t.panel);
        p.drawRoundedRect(box, 4, 4);
        p.setPen(t.measure.darker(t.night ? 90 : 115));
        p.drawText(box, Qt::AlignCenter, label);
    }
}

void Lanes::paint_key(QPainter& p) {
    const Theme& t = theme();
    struct Entry {
        QString text;
        std::function<void(const QRectF&)> draw;
    };
    const std::vector<Entry> entries = {
        {tr("handler runs"), [&](const QRectF& r) { draw_handler(p, r, t.interrupt); }},
        {tr("preempted by something more urgent"),
         [&](const QRectF& r) {
             draw_cut_into(p, r, t.interrupt);
             draw_handler(p, r.adjusted(0, 0, -40, 0), t.interrupt);
             draw_running(p, r.adjusted(42, 0, 0, 0), t.interrupt);
         }},
        {tr("tail chain: entered straight after another"),
         [&](const QRectF& r) {
             draw_handler(p, r.adjusted(0, 0, -38, -8), t.interrupt);
             draw_handler(p, r.adjusted(38, 8, 0, 0), t.interrupt);
             p.setPen(QPen(t.interrupt, 1, Qt::DashLine));
             p.drawLine(QPointF(r.left() + 24, r.top() + 4), QPointF(r.left() + 38, r.bottom() - 4));
         }},
        {tr("begin known only within bounds"),
         [&](const QRectF& r) {
             draw_soft_edge(p, r.adjusted(0, 0, -30, 0), t.interrupt);
             draw_running(p, r.adjusted(30, 0, 0, 0), t.interrupt);
         }},
        {tr("entry or exit not seen: excluded from figures"),
         [&](const QRectF& r) {
             draw_handler(p, r, t.interrupt);
             draw_torn_edge(p, r.right(), r.top(), r.bottom(), false);
         }},
        {tr("thread mode runs; tick: sampled there"),
         [&](const QRectF& r) {
             draw_running(p, r, t.land);
             p.setPen(QPen(t.panel, 1.2));
             p.drawLine(QPointF(r.center().x(), r.center().y() - 5), QPointF(r.center().x(), r.center().y() + 5));
         }},
        {tr("calls: paler without privilege (EL0), darker above the system"),
         [&](const QRectF& r) {
             p.fillRect(QRectF(r.left(), r.top(), r.width() / 3, r.height()), mixed(t.land, t.panel, 0.62));
             p.fillRect(QRectF(r.left() + r.width() / 3, r.top(), r.width() / 3, r.height()), t.land);
             p.fillRect(QRectF(r.left() + 2 * r.width() / 3, r.top(), r.width() / 3, r.height()), mixed(t.land, t.text, 0.8));
         }},
        {tr("task is ready, something else has the core"),
         [&](const QRectF& r) { draw_held_off(p, r, mixed(t.land, t.text, 0.55)); }},
        {tr("task waits for a lock; the line leads to its holder"),
         [&](const QRectF& r) { draw_lock_wait(p, r, t.waiting); }},
        {tr("task waits for data, time or its next job"), [&](const QRectF& r) { draw_idle_wait(p, r, t.second); }},
        {tr("many in each pixel: solid = longest of them"),
         [&](const QRectF& r) {
             QColor l = t.interrupt;
             l.setAlpha(70);
             p.fillRect(r, l);
             p.fillRect(r.adjusted(0, r.height() * 0.6, 0, 0), t.interrupt);
         }},
        {tr("due but held off (a finding)"),
         [&](const QRectF& r) {
             p.setPen(QPen(t.finding, 1.6));
             p.drawLine(QPointF(r.left(), r.center().y()), QPointF(r.right(), r.center().y()));
             for (double x = r.left() + 5; x < r.right(); x += 9)
                 p.drawLine(QPointF(x - 2, r.center().y() + 4), QPointF(x + 3, r.center().y() - 4));
         }},
        {tr("not known: trace lost or damaged"), [&](const QRectF& r) { draw_gap(p, r); }},
        {tr("a finding"), [&](const QRectF& r) { draw_cairn(p, r.center().x(), r.bottom(), r.height()); }},
    };
    p.setFont(text_font(12));
    const double line = 26, w = 370, h = line * static_cast<double>(entries.size()) + 38;
    const QRectF box(width() - w - 16, kAxis + 8, w, h);
    p.setPen(QPen(t.rule, 1));
    p.setBrush(t.window);
    p.setRenderHint(QPainter::Antialiasing);
    p.drawRoundedRect(box, 5, 5);
    p.setPen(t.text);
    p.setFont(text_font(13, true));
    p.drawText(QRectF(box.left() + 14, box.top() + 6, w, 22), Qt::AlignVCenter, tr("Legend  (K shows and hides it)"));
    double y = box.top() + 32;
    for (const auto& e : entries) {
        p.save();
        e.draw(QRectF(box.left() + 14, y + 4, 62, line - 10));
        p.restore();
        p.setFont(text_font(12));
        p.setPen(t.text);
        p.drawText(QRectF(box.left() + 90, y, w - 96, line - 2), Qt::AlignVCenter, e.text);
        y += line;
    }
}

}  // namespace mt::app
