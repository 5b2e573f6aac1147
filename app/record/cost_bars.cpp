#include "record/cost_bars.h"

#include <algorithm>
#include <cmath>

#include <QPainter>

#include "base/text.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {

QString rate_text(double bytes) {
    return QObject::tr("%1/s").arg(words(bytes_text(static_cast<std::uint64_t>(bytes))));
}

}  // namespace

CostBars::CostBars(QWidget* parent) : QWidget(parent) { setAccessibleName(tr("What it costs")); }

void CostBars::show_cost(const std::optional<CostEstimate>& cost, const TracePlan* plan,
                         const std::vector<CostLine>& measured) {
    measured_ = measured;
    cost_ = cost;
    buffer_ = plan == nullptr ? 0 : plan->buffer_bytes;
    QStringList said;
    if (cost_) {
        said << tr("about %1").arg(rate_text(cost_->bytes_per_s));
        if (cost_->carries > 0) said << tr("of %1").arg(rate_text(cost_->carries));
        for (const auto& line : cost_->lines) said << words(line.what) + " " + rate_text(line.bytes_per_s);
    }
    setAccessibleDescription(said.join(", "));
    if (!cost_) setMinimumHeight(60);
    update();
}

void CostBars::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    p.setRenderHint(QPainter::Antialiasing);
    p.setPen(t.text);
    p.setFont(text_font(13, true));
    p.drawText(QRectF(0, 0, width(), 20), Qt::AlignVCenter, tr("What it costs"));
    p.setFont(text_font(11));
    if (!cost_ || cost_->lines.empty()) {
        p.setPen(t.second);
        p.drawText(QRectF(0, 24, width(), 40), Qt::TextWordWrap,
                   tr("Known once the target was looked at and something is asked for."));
        return;
    }
    double y = 22;
    QString total = tr("about %1").arg(rate_text(cost_->bytes_per_s));
    if (cost_->carries > 0)
        total += tr(", the line carries %1: %2 %")
                     .arg(rate_text(cost_->carries))
                     .arg(100 * cost_->bytes_per_s / cost_->carries, 0, 'f', 0);
    else if (cost_->reaches_back_s > 0)
        total += tr("; the buffer of %1 reaches back about %2")
                     .arg(words(bytes_text(buffer_)), words(duration_text(Time::from_ns(cost_->reaches_back_s * 1e9))));
    p.setPen(cost_->overflows() ? t.finding : t.text);
    p.setFont(text_font(12, cost_->overflows()));
    if (cost_->overflows()) total += tr(" – trace will be lost");
    const QRectF room_for_total(0, y, width(), 36);
    p.drawText(room_for_total, static_cast<int>(Qt::AlignTop) | Qt::TextWordWrap, total);
    y += p.boundingRect(room_for_total, static_cast<int>(Qt::AlignTop) | Qt::TextWordWrap, total).height() + 6;
    const double bars_from = y;
    double most = std::max(cost_->carries > 0 ? cost_->carries : 0, cost_->bytes_per_s);
    const double label = std::min(190.0, width() * 0.45), number = 74;
    const double room = std::max(20.0, width() - label - number - 12);
    p.setFont(text_font(11));
    const auto bar = [&](const CostLine& line) {
        p.setPen(t.text);
        p.drawText(QRectF(0, y, label, 20), Qt::AlignVCenter,
                   p.fontMetrics().elidedText(words(line.what), Qt::ElideRight, static_cast<int>(label) - 8));
        p.setPen(Qt::NoPen);
        p.setBrush(t.measure);
        p.drawRect(QRectF(label, y + 5, std::max(1.5, std::min(1.0, line.bytes_per_s / most) * room), 10));
        p.setPen(t.second);
        p.drawText(QRectF(width() - number, y, number, 20), Qt::AlignVCenter | Qt::AlignRight,
                   rate_text(line.bytes_per_s));
        y += 22;
    };
    for (const auto& line : cost_->lines) bar(line);
    if (cost_->carries > 0 && cost_->carries <= most) {  // where the line is full
        const double x = label + room * cost_->carries / most;
        p.setPen(QPen(t.finding, 1.4, Qt::DashLine));
        p.drawLine(QPointF(x, bars_from), QPointF(x, y - 2));
    }
    p.setPen(t.second);
    for (const auto& a : cost_->advice) {
        const QRectF room_for(0, y, width(), 36);
        const QString text = tr("thinner: %1").arg(words(a));
        p.drawText(room_for, Qt::AlignTop | Qt::TextWordWrap, text);
        y += p.boundingRect(room_for, Qt::AlignTop | Qt::TextWordWrap, text).height() + 3;
    }
    const auto keep_room = [&] {  // how much it takes is known once the words are broken into lines
        const int needed = static_cast<int>(std::ceil(y)) + 4;
        if (needed != minimumHeight()) QMetaObject::invokeMethod(this, [this, needed] { setMinimumHeight(needed); }, Qt::QueuedConnection);
    };
    if (measured_.empty()) return keep_room();
    y += 10;
    p.setPen(t.text);
    p.setFont(text_font(12, true));
    p.drawText(QRectF(0, y, width(), 20), Qt::AlignVCenter, tr("What it took in the open recording"));
    p.setFont(text_font(11));
    y += 22;
    most = measured_.front().bytes_per_s;
    for (const auto& line : measured_) bar(line);
    keep_room();
}

}  // namespace mt::app
