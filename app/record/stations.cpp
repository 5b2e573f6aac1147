#include "record/stations.h"

#include <QHelpEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>

#include <cmath>
#include <set>

#include "base/text.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {
constexpr double kLeft = 196, kRadius = 9, kTop = 22;
}  // namespace

Stations::Stations(LiveSession& live, QWidget* parent) : QWidget(parent), live_(live) {
    setMouseTracking(true);
    setAttribute(Qt::WA_OpaquePaintEvent);  // it fills itself
    setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
    setAccessibleName(tr("The recipe's stations"));
    connect(&live, &LiveSession::renewed, this, [this] {
        constexpr qint64 kEachMs = 240;
        if (live_.recording() && shown_.isValid() && shown_.elapsed() < kEachMs) return;
        shown_.start();
        update();
    });
    connect(&live, &LiveSession::chosen, this, [this] {
        findings_ = -1;
        update();
    });
}

void Stations::set_findings(int count) {
    findings_ = count;
    update();
}

// Stations that this recipe passes over are not drawn: the path is the recipe.
std::vector<int> Stations::shown() const {
    std::vector<int> all;
    const auto& stations = live_.state().stations;
    for (std::size_t i = 0; i < stations.size(); ++i)
        if (stations[i].status != Station::Status::passed_over || i == RunState::save)
            all.push_back(static_cast<int>(i));
    return all;
}

QRectF Stations::station_rect(int index) const {
    const auto all = shown();
    const double step = (width() - kLeft) / static_cast<double>(std::max<std::size_t>(1, all.size()));
    for (std::size_t k = 0; k < all.size(); ++k)
        if (all[k] == index) return {kLeft + static_cast<double>(k) * step, 0, step, static_cast<double>(height())};
    return {};
}

QRectF Stations::change_rect() const { return {14, 58, 120, 22}; }

QString Stations::station_text(int index) const {
    const Station& s = live_.state().stations[static_cast<std::size_t>(index)];
    QStringList lines;
    for (const auto& l : s.lines) lines << words(l);
    return words(s.name) + ": " + lines.join(", ");
}

void Stations::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    p.fillRect(rect(), t.panel);
    p.setRenderHint(QPainter::Antialiasing);
    p.setPen(t.rule);
    p.drawLine(QPointF(0, height() - 0.5), QPointF(width(), height() - 0.5));
    const RunState& state = live_.state();
    p.setPen(t.text);
    p.setFont(text_font(13, true));
    const QString name = live_.recipe() ? words(live_.recipe()->name) : tr("No recipe yet");
    p.drawText(QRectF(14, 12, kLeft - 20, 20), Qt::AlignVCenter,
               p.fontMetrics().elidedText(name, Qt::ElideRight, static_cast<int>(kLeft - 24)));
    p.setFont(text_font(11));
    p.setPen(t.second);
    if (live_.recipe()) {
        std::set<std::string> cores;
        for (const auto& c : live_.recipe()->connects)
            if (!c.core.empty()) cores.insert(c.core);  // a probe is none
        const auto n = cores.size();
        p.drawText(QRectF(14, 34, kLeft - 20, 18), Qt::AlignVCenter,
                   n == 1 ? tr("1 core") : tr("%1 cores, started together").arg(n));
    }
    if (!live_.active()) {
        p.setPen(t.measure);
        p.drawText(change_rect(), Qt::AlignVCenter,
                   live_.recipe() ? tr("change the recipe ▸") : tr("choose a recipe ▸"));
    }
    const auto all = shown();
    for (std::size_t k = 0; k < all.size(); ++k) {
        const Station& s = state.stations[static_cast<std::size_t>(all[k])];
        const QRectF r = station_rect(all[k]);
        const QPointF c(r.center().x(), kTop);
        const bool judged = all[k] == RunState::judge && findings_ >= 0;
        const bool done = s.status == Station::Status::done || judged;
        if (k > 0) {
            const QPointF before(station_rect(all[k - 1]).center().x(), kTop);
            const bool walked = s.status != Station::Status::ahead || judged;
            p.setPen(QPen(walked ? t.land : t.rule, walked ? 2.5 : 2, walked ? Qt::SolidLine : Qt::DotLine));
            p.drawLine(before + QPointF(kRadius + 3, 0), c - QPointF(kRadius + 3, 0));
        }
        const QRectF dot(c.x() - kRadius, c.y() - kRadius, 2 * kRadius, 2 * kRadius);
        if (done) {
            p.setPen(Qt::NoPen);
            p.setBrush(t.land);
            p.drawEllipse(dot);
            p.setPen(QPen(t.panel, 2, Qt::SolidLine, Qt::RoundCap, Qt::RoundJoin));
            p.drawPolyline(QPolygonF{c + QPointF(-4, 0), c + QPointF(-1, 3.5), c + QPointF(4.5, -3.5)});
        } else if (s.status == Station::Status::failed) {
            p.setPen(Qt::NoPen);
            p.setBrush(t.finding);
            p.drawEllipse(dot);
            p.setPen(QPen(t.panel, 2, Qt::SolidLine, Qt::RoundCap));
            p.drawLine(c + QPointF(-3.5, -3.5), c + QPointF(3.5, 3.5));
            p.drawLine(c + QPointF(-3.5, 3.5), c + QPointF(3.5, -3.5));
        } else if (s.status == Station::Status::now) {
            double share = 0.25;
            if (all[k] == RunState::record && state.planned_s)
                share = std::min(1.0, state.elapsed_s / *state.planned_s);
            else if (all[k] == RunState::record && state.planned_bytes)
                share = std::min(1.0, static_cast<double>(state.bytes) / static_cast<double>(*state.planned_bytes));
            else if (all[k] == RunState::record)
                share = 1;
            QColor pale = t.measure;
            pale.setAlpha(70);
            p.setPen(Qt::NoPen);
            p.setBrush(pale);
            p.drawEllipse(dot);
            p.setBrush(t.measure);
            p.drawPie(dot, 90 * 16, -static_cast<int>(share * 360 * 16));
            p.setPen(QPen(t.measure, 1.5));
            p.setBrush(Qt::NoBrush);
            p.drawEllipse(dot);
        } else {
            p.setPen(QPen(t.rule, 2));
            p.setBrush(t.panel);
            p.drawEllipse(dot);
        }
        p.setPen(done || s.status == Station::Status::now || s.status == Station::Status::failed ? t.text : t.second);
        p.setFont(text_font(12, true));
        p.drawText(QRectF(r.left(), kTop + kRadius + 3, r.width(), 17), Qt::AlignCenter, words(s.name));
        p.setFont(text_font(10));
        p.setPen(s.status == Station::Status::failed ? t.finding : t.second);
        QStringList lines;
        for (const auto& l : s.lines) lines << words(l);
        if (all[k] == RunState::record && s.status == Station::Status::now)
            lines = {lines.value(0), tr("%1 so far").arg(words(duration_text(Time::from_ns(state.elapsed_s * 1e9))))};
        if (judged) lines = {findings_ == 1 ? tr("1 finding") : tr("%1 findings").arg(findings_)};
        for (int i = 0; i < std::min<int>(2, static_cast<int>(lines.size())); ++i) {
            const bool more = i == 1 && lines.size() > 2;
            p.drawText(QRectF(r.left() + 2, kTop + kRadius + 21 + 14 * i, r.width() - 4, 14), Qt::AlignCenter,
                       p.fontMetrics().elidedText(lines[i] + (more ? " …" : ""), Qt::ElideRight,
                                                  static_cast<int>(r.width() - 6)));
        }
    }
}

void Stations::mousePressEvent(QMouseEvent* e) {
    if (!live_.active() && e->position().x() < kLeft) {
        emit change_wanted();
        return;
    }
    for (const int i : shown())
        if (station_rect(i).contains(e->position())) emit station_clicked(i);
}

void Stations::mouseMoveEvent(QMouseEvent* e) {
    setCursor(e->position().x() > kLeft || !live_.active() ? Qt::PointingHandCursor : Qt::ArrowCursor);
}

bool Stations::event(QEvent* e) {
    if (e->type() == QEvent::ToolTip) {
        const auto* help = static_cast<QHelpEvent*>(e);
        for (const int i : shown())
            if (station_rect(i).contains(help->pos())) QToolTip::showText(help->globalPos(), station_text(i), this);
        return true;
    }
    return QWidget::event(e);
}

}  // namespace mt::app
