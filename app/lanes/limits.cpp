#include <QMenu>

#include <algorithm>

#include "base/text.h"
#include "lanes/geometry.h"
#include "lanes/lanes.h"
#include "look/html.h"
#include "look/theme.h"
#include "look/words.h"
#include "measure/kinds/kinds.h"

// Limits of rules in the lanes: where they lie, what is beyond them, and how one is made.
namespace mt::app {
namespace {

QColor ink_of(const LimitLine& l) { return l.kept ? theme().second : theme().finding; }

}  // namespace

void Lanes::paint_limits(QPainter& p, const Row& row) {
    const auto mine = [&](const LimitLine& l) { return l.lane == row.id; };
    const auto& limits = judgement_.limits();
    if (std::none_of(limits.begin(), limits.end(), mine)) return;
    double right = band_of(pane_of(p, row).row).right();
    for (const LimitLine& l : limits) {
        if (!mine(l)) continue;
        if (row.lane->shape() == Shape::line)
            paint_level(p, row, l, right);
        else if (!l.kept && !l.of_all && l.at_most)
            paint_beyond(p, row, l);
    }
}

// Of a lane of numbers: a dashed line across, with its words near the right end: left of `right`, which is then where they
// begin, as a lane is too low for two limits' words one above the other.
void Lanes::paint_level(QPainter& p, const Row& row, const LimitLine& l, double& right) {
    const Pane pane = pane_of(p, row);
    const QRectF band = band_of(pane.row);
    const auto [low, high] = line_range(pane, *row.lane);
    if (!(high > low)) return;
    const double share = (l.value - low) / (high - low);
    const bool above = share > 1, below = share < 0;
    const double y = band.bottom() - std::clamp(share, 0.0, 1.0) * band.height();
    p.setPen(QPen(ink_of(l), 1.2, Qt::DashLine));
    if (!above && !below) p.drawLine(QPointF(band.left(), y), QPointF(band.right(), y));
    p.setFont(text_font(9));
    const QString text = (above ? "▴ " : below ? "▾ " : "") + words(l.text);
    const double wide = p.fontMetrics().horizontalAdvance(text) + 6;
    const bool under = y - 14 < row.top;
    const QRectF box(right - wide - 2, under ? y + 1 : y - 14, wide, 13);
    right = box.left();
    p.fillRect(box, theme().panel);  // the line does not run through the words
    p.setPen(ink_of(l));
    p.drawText(box, Qt::AlignCenter, text);
}

// Spans that are too long: a stroke below each, thick from where its limit was reached. Of lengths that are no stretch of
// time from the begin, as the running time, the stroke alone.
void Lanes::paint_beyond(QPainter& p, const Row& row, const LimitLine& l) {
    const QColor ink = ink_of(l);
    const Time limit{static_cast<std::int64_t>(l.value)};
    for (const RulePlace& place : judgement_.outcomes()[l.outcome].places) {
        if (!place.span || place.span->lane != row.id || place.end < view_.from() || view_.to() < place.begin) continue;
        const QRectF at = span_rect(*place.span);
        if (at.isEmpty()) continue;
        const double bottom = row.lane->shape() == Shape::stack ? at.bottom() : row.top + row.height - 2;
        const double left = std::max(plot_left(), at.left()), right = std::max(left + 2, x_of(place.end));
        p.fillRect(QRectF(left, bottom - 1, right - left, 1.5), ink);
        if (l.length != 0) continue;
        const double reached = std::max(plot_left(), x_of(place.begin + limit));
        if (reached < right) p.fillRect(QRectF(reached, bottom - 4, right - reached, 4), ink);
        if (reached > left + 3) p.fillRect(QRectF(reached - 0.5, bottom - 9, 1, 9), ink);  // below the words in it
    }
}

QString Lanes::rules_at(const SpanRef& span) const {
    QString text;
    for (const RuleOutcome& o : judgement_.outcomes())
        for (const RulePlace& place : o.places)
            if (place.span == span)
                text += "<br>" + escaped(tr("breaks the rule “%1”: %2, %3")
                                             .arg(words(o.rule.name), words(rule_value_text(o.rule.what, place.value)),
                                                  words(o.rule.limit_text())));
    return text;
}

void Lanes::add_limit(QMenu& menu, const Row& row, const std::optional<SpanRef>& span) {
    const LaneKind& kind = *row.id.kind;
    if (document_.live() || !document_.trail()->complete || limitable_of(kind).empty()) return;
    if (!kind.lanes_are_activities() && !span) return;
    const std::uint64_t activity = span ? kind.activity_of(*document_.trail(), *span) : row.id.index;
    QString name = words(row.lane->name());
    for (const LaneKind::Name& n : kind.names(*document_.trail()))
        if (n.index == activity) {
            name = words(n.name);
            break;
        }
    auto* action = menu.addAction(tr("Limit %1…").arg(name), this, [this, id = row.id, activity, name] {
        emit limit_wanted(id, activity, name);
    });
    action->setObjectName("lane_limit");
}

}  // namespace mt::app
