#include "record/unit_picture.h"

#include <algorithm>
#include <array>

#include <QHelpEvent>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QToolTip>

#include "base/text.h"
#include "look/html.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {

constexpr double kMargin = 10, kGap = 34, kBetween = 10, kMostHigh = 58;

// Core, sources, the ITM that packs what the DWT tells, funnels, buffers, outputs.
int column_of(UnitKind kind) {
    switch (kind) {
        case UnitKind::dwt:
        case UnitKind::etm4:
        case UnitKind::trace_encoder:
            return 1;
        case UnitKind::itm:
            return 2;
        case UnitKind::funnel:
        case UnitKind::trace_funnel:
            return 3;
        case UnitKind::tmc:
        case UnitKind::etb:
        case UnitKind::mtb:
        case UnitKind::replicator:
        case UnitKind::ram_sink:
            return 4;
        case UnitKind::tpiu:
        case UnitKind::swo:
        case UnitKind::pin_sink:
            return 5;
        default:
            return -1;
    }
}

}  // namespace

UnitPicture::UnitPicture(QWidget* parent) : QWidget(parent) {
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setAccessibleName(tr("Trace units"));
}

void UnitPicture::clear() {
    units_ = {};
    boxes_.clear();
    used_.clear();
    will_.clear();
    chosen_ = -1;
    setAccessibleDescription(tr("Nothing was looked at yet"));
    update();
    emit chosen_changed();
}

void UnitPicture::show_units(const CoreUnits& units, const TracePlan* plan) {
    const std::string before = chosen_ >= 0 && chosen_ < static_cast<int>(units_.units.size())
                                   ? units_.units[static_cast<std::size_t>(chosen_)].name
                                   : std::string();
    units_ = units;
    used_.clear();
    will_.assign(units_.units.size(), {});
    if (plan != nullptr)
        for (const PlanStep& s : plan->steps) {
            if (s.waits) continue;
            used_.push_back(s.unit);
            for (std::size_t i = 0; i < units_.units.size(); ++i)
                if (units_.units[i].name == s.unit)
                    will_[i].push_back(s.reg + " = " + hex_text(s.value) + ": " + s.why);
        }
    chosen_ = -1;
    QStringList said;
    for (std::size_t i = 0; i < units_.units.size(); ++i) {
        if (units_.units[i].name == before) chosen_ = static_cast<int>(i);
        if (column_of(units_.units[i].kind) >= 0)
            said << words(units_.units[i].name) + " " + state_text(units_.units[i]);
    }
    setAccessibleDescription(said.join("; "));
    place();
    update();
    emit chosen_changed();
}

void UnitPicture::choose(int unit) {
    if (unit == chosen_) return;
    chosen_ = unit;
    update();
    emit chosen_changed();
}

bool UnitPicture::used(const Unit& unit) const {
    return std::find(used_.begin(), used_.end(), unit.name) != used_.end();
}

void UnitPicture::place() {
    boxes_.assign(units_.units.size(), {});
    std::array<std::vector<std::size_t>, 6> columns;
    for (std::size_t i = 0; i < units_.units.size(); ++i)
        if (const int c = column_of(units_.units[i].kind); c >= 0) columns[static_cast<std::size_t>(c)].push_back(i);
    int wide = 1;
    for (std::size_t c = 1; c < columns.size(); ++c) wide += columns[c].empty() ? 0 : 1;
    const double w = std::max(60.0, (width() - 2 * kMargin - kGap * (wide - 1)) / wide);
    double x = kMargin;
    const double middle = height() / 2.0;
    core_box_ = QRectF(x, middle - 22, w, 44);
    x += w + kGap;
    for (std::size_t c = 1; c < columns.size(); ++c) {
        if (columns[c].empty()) continue;
        const auto n = static_cast<double>(columns[c].size());
        const double h = std::min(kMostHigh, (height() - 2 * kMargin - kBetween * (n - 1)) / n);
        double y = middle - (n * h + (n - 1) * kBetween) / 2;
        for (const std::size_t i : columns[c]) {
            boxes_[i] = QRectF(x, y, w, h);
            y += h + kBetween;
        }
        x += w + kGap;
    }
    for (const std::size_t itm : columns[2])  // beside the DWT, so that the way of the instructions passes below
        for (const std::size_t dwt : columns[1])
            if (columns[2].size() == 1 && units_.units[dwt].kind == UnitKind::dwt)
                boxes_[itm].moveTop(boxes_[dwt].top());
}

void UnitPicture::resizeEvent(QResizeEvent*) { place(); }

QRectF UnitPicture::box_of(int unit) const {
    return unit >= 0 && unit < static_cast<int>(boxes_.size()) ? boxes_[static_cast<std::size_t>(unit)] : QRectF();
}

QString UnitPicture::name_of(int unit) const {
    const bool there = unit >= 0 && unit < static_cast<int>(units_.units.size());
    return there ? words(units_.units[static_cast<std::size_t>(unit)].name) : QString();
}

QString UnitPicture::state_text(const Unit& u) const {
    if (!u.trouble.empty()) return u.powered ? tr("not known") : tr("no power");
    if (u.kind == UnitKind::dwt) {
        QStringList on;
        if (u.flag("exceptions")) on << tr("exceptions");
        if (const auto* s = u.find("pc_samples"); s != nullptr && fact_text(*s) != "off") on << tr("samples");
        int watched = 0;
        for (const auto& f : u.settings)
            if (f.key.rfind("comparator_", 0) == 0 && fact_text(f.value) != "free") ++watched;
        if (watched > 0) on << tr("%1 of %2 comparators").arg(watched).arg(u.number("comparators"));
        return on.isEmpty() ? tr("off") : on.join(", ");
    }
    if (u.kind == UnitKind::tmc || u.kind == UnitKind::etb || u.kind == UnitKind::ram_sink || u.kind == UnitKind::mtb) {
        const QString size = words(bytes_text(static_cast<std::uint64_t>(u.number("bytes"))));
        return (u.flag("enabled") ? tr("on, %1") : tr("off, %1")).arg(size);
    }
    if (u.kind == UnitKind::tpiu || u.kind == UnitKind::swo || u.kind == UnitKind::pin_sink) {
        const auto* out = u.find("output");
        return out == nullptr ? tr("%n line(s)", nullptr, static_cast<int>(u.number("width", 1)))
                              : words(fact_text(*out));
    }
    if (u.kind == UnitKind::funnel) {
        const auto* open = u.find("inputs_open");
        return open == nullptr ? QString() : tr("inputs open: %1").arg(words(fact_text(*open)));
    }
    return u.flag("enabled") ? tr("on") : tr("off");
}

void UnitPicture::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    p.fillRect(rect(), t.panel);
    p.setRenderHint(QPainter::Antialiasing);
    if (units_.units.empty()) {
        p.setPen(t.second);
        p.setFont(text_font(12));
        p.drawText(rect().adjusted(30, 20, -30, -20), Qt::AlignCenter | Qt::TextWordWrap,
                   tr("Press “Look at the target”: its trace units are found through the debug server. Nothing is "
                      "changed by looking."));
        return;
    }
    // Arrows first: from the right edge of what feeds to the left edge of what is fed.
    const auto arrow = [&](const QRectF& from, const QRectF& to, bool on) {
        if (from.isNull() || to.isNull()) return;
        const QPointF a(from.right() + 1, from.center().y()), b(to.left() - 2, to.center().y());
        QPainterPath path(a);
        const double half = (b.x() - a.x()) / 2;
        path.cubicTo(a + QPointF(half, 0), b - QPointF(half, 0), b);
        p.setPen(QPen(on ? t.measure : t.second, on ? 2.2 : 1.2));
        p.setBrush(Qt::NoBrush);
        p.drawPath(path);
        p.setPen(Qt::NoPen);
        p.setBrush(on ? t.measure : t.second);
        p.drawPolygon(QPolygonF{b + QPointF(1, 0), b + QPointF(-6, -3.5), b + QPointF(-6, 3.5)});
    };
    for (std::size_t i = 0; i < units_.units.size(); ++i) {
        const Unit& u = units_.units[i];
        const int c = column_of(u.kind);
        if (c == 1 || (c == 2 && u.kind != UnitKind::itm) || u.kind == UnitKind::mtb)
            arrow(core_box_, boxes_[i], used(u));
        for (const auto& to : u.feeds)
            for (std::size_t k = 0; k < units_.units.size(); ++k)
                if (units_.units[k].name == to) arrow(boxes_[i], boxes_[k], used(u) && used(units_.units[k]));
    }
    const auto box = [&](const QRectF& r, const QString& name, const QString& second, bool on, bool chosen, bool dead) {
        if (r.isNull()) return;
        p.setBrush(on ? mixed(t.measure, t.panel, 0.14) : t.window);
        p.setPen(QPen(chosen ? t.text
                      : on   ? t.measure
                             : t.rule,
                      chosen ? 2 : 1.3, dead ? Qt::DashLine : Qt::SolidLine));
        p.drawRoundedRect(r, 5, 5);
        if (dead) {  // as where nothing is known in the lanes
            p.setPen(QPen(t.contour, 1));
            p.save();
            p.setClipRect(r.adjusted(1, 1, -1, -1));
            for (double x = r.left() - r.height(); x < r.right(); x += 8)
                p.drawLine(QPointF(x, r.bottom()), QPointF(x + r.height(), r.top()));
            p.restore();
        }
        const QRectF inner = r.adjusted(6, 3, -6, -3);
        p.setPen(t.text);
        p.setFont(text_font(12, true));
        const QFontMetrics bold(p.font());
        p.drawText(QRectF(inner.left(), inner.top(), inner.width(), inner.height() / 2),
                   Qt::AlignHCenter | Qt::AlignBottom,
                   bold.elidedText(name, Qt::ElideRight, static_cast<int>(inner.width())));
        p.setPen(t.second);
        p.setFont(text_font(10));
        const QFontMetrics small(p.font());
        p.drawText(QRectF(inner.left(), inner.center().y(), inner.width(), inner.height() / 2),
                   Qt::AlignHCenter | Qt::AlignTop,
                   small.elidedText(second, Qt::ElideRight, static_cast<int>(inner.width())));
    };
    box(core_box_, words(units_.core), tr("core"), false, false, false);
    for (std::size_t i = 0; i < units_.units.size(); ++i) {
        const Unit& u = units_.units[i];
        box(boxes_[i], words(u.name), state_text(u), used(u), static_cast<int>(i) == chosen_, !u.trouble.empty());
    }
    if (hasFocus() && chosen_ < 0) {
        p.setPen(QPen(t.measure, 1, Qt::DotLine));
        p.setBrush(Qt::NoBrush);
        p.drawRect(rect().adjusted(1, 1, -2, -2));
    }
}

int UnitPicture::unit_at(const QPointF& at) const {
    for (std::size_t i = 0; i < boxes_.size(); ++i)
        if (boxes_[i].contains(at)) return static_cast<int>(i);
    return -1;
}

void UnitPicture::mousePressEvent(QMouseEvent* e) { choose(unit_at(e->position())); }

// Left and right go from box to box in the order of the way.
void UnitPicture::keyPressEvent(QKeyEvent* e) {
    const int step = e->key() == Qt::Key_Right || e->key() == Qt::Key_Down ? 1
                     : e->key() == Qt::Key_Left || e->key() == Qt::Key_Up  ? -1
                                                                           : 0;
    if (step == 0) return QWidget::keyPressEvent(e);
    std::vector<int> order;
    for (std::size_t i = 0; i < boxes_.size(); ++i)
        if (!boxes_[i].isNull()) order.push_back(static_cast<int>(i));
    if (order.empty()) return;
    std::sort(order.begin(), order.end(), [&](int a, int b) {
        const QRectF &x = boxes_[static_cast<std::size_t>(a)], &y = boxes_[static_cast<std::size_t>(b)];
        return x.left() != y.left() ? x.left() < y.left() : x.top() < y.top();
    });
    const auto now = std::find(order.begin(), order.end(), chosen_);
    const auto n = static_cast<int>(order.size());
    const int at = now == order.end() ? (step > 0 ? 0 : n - 1) : (static_cast<int>(now - order.begin()) + step + n) % n;
    choose(order[static_cast<std::size_t>(at)]);
}

bool UnitPicture::event(QEvent* e) {
    if (e->type() == QEvent::ToolTip) {
        const auto* help = static_cast<QHelpEvent*>(e);
        if (const int i = unit_at(help->pos()); i >= 0) {
            const Unit& u = units_.units[static_cast<std::size_t>(i)];
            QToolTip::showText(
                help->globalPos(),
                tr("%1 at %2: %3").arg(words(u.name), words(hex_text(u.address)), words(unit_kind_purpose(u.kind))),
                this);
        } else {
            QToolTip::hideText();
        }
        return true;
    }
    return QWidget::event(e);
}

QString UnitPicture::detail() const {
    if (chosen_ < 0 || chosen_ >= static_cast<int>(units_.units.size()))
        return units_.units.empty() ? QString() : tr("Click a unit to see what it can do and how it is set.");
    const Unit& u = units_.units[static_cast<std::size_t>(chosen_)];
    const QString second = theme().second.name();
    QString html =
        QString("<b>%1</b> <span style=\"color:%2\">%3 · %4%5</span>")
            .arg(escaped(words(u.name)), second, words(hex_text(u.address)), words(unit_kind_purpose(u.kind)),
                 u.locked ? tr(" · locked, opened when it is set") : QString());
    if (!u.trouble.empty()) return html + "<br>" + escaped(words(u.trouble));
    const auto facts = [&](const QString& title, const std::vector<UnitFact>& list) {
        if (list.empty()) return;
        QStringList parts;
        for (const auto& f : list) {
            QString key = words(f.key);
            key.replace('_', ' ');
            parts << QString("<span style=\"color:%1\">%2</span> %3")
                         .arg(second, key, escaped(words(fact_text(f.value))));
        }
        html += "<br><b>" + title + "</b> " + parts.join(" · ");
    };
    facts(tr("Can:"), u.features);
    facts(tr("Is set:"), u.settings);
    const auto& will = will_[static_cast<std::size_t>(chosen_)];
    if (!will.empty()) {
        QStringList lines;
        for (const auto& w : will) lines << escaped(words(w));
        html += "<br><b>" + tr("Will be set:") + "</b><br>" + lines.join("<br>");
    }
    return html;
}

}  // namespace mt::app
