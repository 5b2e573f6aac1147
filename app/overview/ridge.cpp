#include "overview/ridge.h"

#include <QContextMenuEvent>
#include <QHelpEvent>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QToolTip>

#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "look/shapes.h"
#include "look/theme.h"
#include "look/time_axis.h"
#include "look/words.h"
#include "navigate/moment_actions.h"

namespace mt::app {
namespace {
constexpr double kAxis = 18, kGround = 8, kCairn = 15;
}

Ridge::Ridge(Document& document, FindingList& findings, Viewpoint& view, QWidget* parent)
    : QWidget(parent), document_(document), findings_(findings), view_(view) {
    setMouseTracking(true);
    setAttribute(Qt::WA_OpaquePaintEvent);  // it fills itself
    setAccessibleName(tr("Ridge: the whole recording"));
    setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
    connect(&document, &Document::grew, this, [this] {
        fresh_ = true;
        growth_.ask();
    });
    connect(&findings, &FindingList::renewed, this, qOverload<>(&QWidget::update));
    connect(&view, &Viewpoint::window_changed, this, qOverload<>(&QWidget::update));
    connect(&view, &Viewpoint::cursor_changed, this, qOverload<>(&QWidget::update));
}

double Ridge::x_of(Time t) const { return static_cast<double>(t.ps) / static_cast<double>(span().ps) * width(); }
Time Ridge::time_at(double x) const {
    return {static_cast<std::int64_t>(x / std::max(1, width()) * static_cast<double>(span().ps))};
}

namespace {

// How far a core's load is known. Its streams are decoded one after the other: what one of them has not told yet is not
// known, however far another has come.
Time known_to(const Trail& trail, std::size_t c) {
    const CoreTrail& core = trail.cores[c];
    if (trail.complete) return core.end;
    Time known = core.end;
    if (!core.change_time.empty()) known = std::min(known, core.change_time.back());
    if (c < trail.tasks.cores.size() && !trail.tasks.cores[c].runs.empty())
        known = std::min(known, trail.tasks.cores[c].runs[trail.tasks.cores[c].runs.size() - 1].begin);
    return known;
}

}  // namespace

// Load per pixel: handlers, and thread mode by the share of samples that found the core awake. Runs when a snapshot
// comes or the width changes. Of a recording that grows, only what came since is measured.
void Ridge::measure_land() {
    fresh_ = false;
    picture_ = QImage();
    land_.clear();
    top_ = 0.02F;
    const auto trail = document_.trail();
    if (!trail) {
        measured_ = {};
        return;
    }
    const Time end = measured_end_ = span();
    const auto pixels = static_cast<std::size_t>(std::max(1, width()));
    const Time wide{end.ps / static_cast<std::int64_t>(pixels)};
    awake_known_ = false;
    if (measured_.span != end || measured_.to > trail->end || measured_.cores.size() != trail->cores.size())
        measured_ = {};
    measured_.cores.resize(trail->cores.size());
    for (std::size_t c = 0; c < trail->cores.size(); ++c) {
        const CoreTrail& core = trail->cores[c];
        const Time reached = known_to(*trail, c);
        std::uint64_t samples = 0;
        for (const auto& b : core.density.buckets()) samples += b.awake + b.asleep;
        const bool has_tasks = trail->tasks.tells_load(c);
        const bool awake_known = samples > 200;
        awake_known_ = awake_known_ || awake_known || has_tasks;
        Profile& profile = measured_.cores[c];
        if (profile.loads.size() != pixels || profile.awake_known != awake_known || profile.has_tasks != has_tasks)
            profile = {std::vector<float>(pixels), awake_known, has_tasks, Time{}, Density().width()};
        // Wider buckets tell the same in another share to each pixel: measured anew.
        if (profile.bucket != core.density.width()) profile.to = {};
        profile.bucket = core.density.width();
        const auto known = wide.ps > 0 ? static_cast<std::size_t>(profile.to.ps / wide.ps) : 0;
        std::size_t x = known > 2 ? std::min(known - 2, pixels) : 0;
        Time handlers = core.handlers_until({static_cast<std::int64_t>(x) * wide.ps});
        for (; x < pixels; ++x) {
            const Time from{wide.ps * static_cast<std::int64_t>(x)};
            const Time to = from + Time{std::max<std::int64_t>(1, wide.ps)};
            if (from > reached) {
                profile.loads[x] = 0;
                continue;
            }
            const Time until = core.handlers_until(to);
            double load = static_cast<double>((until - handlers).ps) / static_cast<double>((to - from).ps);
            handlers = until;
            if (has_tasks)
                load = std::max(
                    load, static_cast<double>(trail->tasks.busy(c, from, to).ps) / static_cast<double>((to - from).ps));
            if (awake_known) {
                const auto b = core.density.sum(from, to);
                if (b.awake + b.asleep > 0)
                    load = std::max(load, static_cast<double>(b.awake) / static_cast<double>(b.awake + b.asleep));
            }
            profile.loads[x] = static_cast<float>(std::clamp(load, 0.0, 1.0));
        }
        profile.to = reached;
        // Three pixels' mean: the land is a profile, not a comb.
        std::vector<float> smooth = profile.loads;
        for (std::size_t k = 1; k + 1 < pixels; ++k)
            smooth[k] = (profile.loads[k - 1] + 2 * profile.loads[k] + profile.loads[k + 1]) / 4;
        for (const float h : smooth) top_ = std::max(top_, h);
        land_.push_back(std::move(smooth));
    }
    measured_.span = end;
    measured_.to = trail->end;
}

namespace {

// How much of the pixel whose upper edge is `y` lies below the line at `top` (both from above), 0 to 1.
double covered(double y, double top) { return std::clamp(y + 1 - top, 0.0, 1.0); }

QRgb mixed(QRgb under, QRgb over, double share) {
    const int part = static_cast<int>(share * 256);
    const auto mix = [&](int a, int b) { return a + (b - a) * part / 256; };
    return qRgb(mix(qRed(under), qRed(over)), mix(qGreen(under), qGreen(over)), mix(qBlue(under), qBlue(over)));
}

// A land's profile, one height per logical pixel, drawn column by column: far cheaper than a painter's path.
void draw_profile(QImage& image, double scale, const std::vector<float>& tops, double ground, double rise,
                  double density) {
    const Theme& t = theme();
    const QRgb land = t.land.rgb(), contour = t.contour.rgb(), edge = t.land.darker(t.night ? 90 : 125).rgb();
    uchar* const bits = image.bits();
    const auto line_bytes = image.bytesPerLine();
    double contours[3];
    for (int c = 1; c < 4; ++c) contours[c - 1] = (ground - rise * c / 4) * scale;
    const int bottom = std::min(image.height(), static_cast<int>(std::lround(ground * scale)));
    const auto top_at = [&](int x) {
        const double at = std::max(0.0, (x + 0.5) / scale - 0.5);
        const auto i = std::min(static_cast<std::size_t>(at), tops.size() - 1), next = std::min(i + 1, tops.size() - 1);
        const double share = at - std::floor(at);
        return (ground - rise * (tops[i] * (1 - share) + tops[next] * share)) * scale;
    };
    double before = top_at(0), here = before;
    for (int x = 0; x < image.width(); ++x) {
        const double after = top_at(std::min(x + 1, image.width() - 1));
        // The line through this column reaches half way to its neighbours.
        const double half = 0.65 * scale, high = std::min({here, (before + here) / 2, (here + after) / 2}) - half,
                     low = std::max({here, (before + here) / 2, (here + after) / 2}) + half;
        for (int y = std::max(0, static_cast<int>(std::floor(high))); y < bottom; ++y) {
            auto* pixel = reinterpret_cast<QRgb*>(bits + y * line_bytes) + x;
            *pixel = mixed(*pixel, land, density * covered(y, here));
            for (const double line : contours)  // inside the land
                if (y >= here && y <= line && line < y + 1) *pixel = mixed(*pixel, contour, 0.36);
            if (y > low) continue;
            const double on_line = covered(y, high) - covered(y, low);
            if (on_line > 0) *pixel = mixed(*pixel, edge, on_line);
        }
        before = here;
        here = after;
    }
}

}  // namespace

void Ridge::draw_land() {
    const Theme& t = theme();
    drawn_at_night_ = t.night;
    const double scale = devicePixelRatioF();
    picture_ = QImage((QSizeF(size()) * scale).toSize(), QImage::Format_RGB32);
    picture_.fill(t.panel);
    const double ground = height() - kGround, rise = ground - kAxis - 22;
    for (const auto& heights : land_) {
        if (heights.empty()) continue;
        std::vector<float> tops = heights;
        for (float& h : tops) h /= top_;
        draw_profile(picture_, scale, tops, ground, rise, land_.size() > 1 ? 0.27 : 0.37);
    }
    picture_.setDevicePixelRatio(scale);
    QPainter p(&picture_);
    p.setPen(t.rule);
    p.drawLine(0, height() - 1, width(), height() - 1);
    const auto trail = document_.trail();
    const Time pixel{trail->end.ps / std::max(1, width())};
    for (std::size_t c = 0; c < trail->cores.size(); ++c)
        trail->gaps.each(c, Time{}, trail->end, pixel, [&](const Gap& g) {
            const double left = x_of(g.begin), right = std::max(left + 1, x_of(g.end));
            draw_gap(p, QRectF(left, kAxis + 8, right - left, ground - kAxis - 8));
        });
}

void Ridge::set_horizon(std::optional<Time> planned, const QString& words) {
    horizon_ = planned;
    to_come_ = words;
    update();
}

QString Ridge::height_text() const {
    return (awake_known_ ? tr("height: processor load, up to %1") : tr("height: share of handlers, up to %1"))
        .arg(QString::fromStdString(share_text(top_)));
}

QRectF Ridge::frame() const {
    const double left = x_of(view_.from()), right = x_of(view_.to());
    const double middle = (left + right) / 2, half = std::max(4.0, (right - left) / 2);
    return {std::clamp(middle - half, 0.0, width() - 2 * half), 2, 2 * half, height() - 5.0};
}

Ridge::Grip Ridge::grip_at(double x) const {
    const QRectF f = frame();
    if (f.width() > 24 || x < f.left() || x > f.right()) {
        if (std::fabs(x - f.left()) < 5) return Grip::left;
        if (std::fabs(x - f.right()) < 5) return Grip::right;
    }
    return x >= f.left() && x <= f.right() ? Grip::inside : Grip::none;
}

std::vector<Ridge::Cairn> Ridge::cairns() const {
    std::vector<Cairn> all;
    for (std::size_t row = 0; row < findings_.rows(); ++row)
        for (const std::size_t i : findings_.members(row)) {
            const double x = std::clamp(x_of(document_.findings()[i].begin), 9.0, width() - 9.0);
            const auto near =
                std::find_if(all.begin(), all.end(), [x](const Cairn& c) { return std::fabs(c.x - x) < kCairn + 6; });
            if (near == all.end())
                all.push_back({x, {i}});
            else
                near->findings.push_back(i);
        }
    return all;
}

QPointF Ridge::position_of(const Cairn& cairn) const { return {cairn.x, kAxis + 18.0}; }

QString Ridge::label_of(const Cairn& cairn) const {
    const auto number = [&](std::size_t i) {
        return QString::number(findings_.row_of(cairn.findings[i]).value_or(0) + 1);
    };
    if (cairn.findings.size() == 1) return number(0);
    if (cairn.findings.size() == 2 && number(0) != number(1)) return number(0) + " " + number(1);
    return number(0) + " +" + QString::number(cairn.findings.size() - 1);
}

std::vector<std::size_t> Ridge::findings_at(const QPointF& p) const {
    if (p.y() <= kAxis || p.y() >= kAxis + 30) return {};
    for (const Cairn& cairn : cairns())
        if (std::fabs(p.x() - cairn.x) < 10) return cairn.findings;
    return {};
}

void Ridge::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    const auto trail = document_.trail();
    if (!trail) {
        p.fillRect(rect(), t.panel);
        p.setPen(t.rule);
        p.drawLine(0, height() - 1, width(), height() - 1);
        p.setFont(text_font(11));
        p.setPen(t.second);
        p.drawText(rect(), Qt::AlignCenter, tr("The whole recording will stand here."));
        return;
    }
    growth_.painted();
    if (fresh_ || measured_end_ != span()) measure_land();
    if (picture_.isNull() || drawn_at_night_ != t.night ||
        picture_.size() != (QSizeF(size()) * devicePixelRatioF()).toSize())
        draw_land();
    p.drawImage(0, 0, picture_);
    const double ground = height() - kGround;
    if (horizon_) {
        const double now = x_of(view_.end());
        p.fillRect(QRectF(now, 0, width() - now, height() - 1.0), t.window);
        p.setPen(QPen(t.measure, 1.5));
        p.drawLine(QPointF(now, 0), QPointF(now, height() - 1.0));
        p.setPen(t.second);
        p.setFont(text_font(11));
        const QRectF room(now + 12, kAxis, width() - now - 24, ground - kAxis);
        if (p.fontMetrics().horizontalAdvance(to_come_) < room.width()) p.drawText(room, Qt::AlignCenter, to_come_);
    }
    p.setFont(text_font(11));
    p.setPen(t.second);
    const auto ticks = time_ticks({}, span(), std::max(2, width() / 120));
    const QString height_words = height_text();
    const int words = p.fontMetrics().horizontalAdvance(height_words) + 40;
    for (const auto& tick : ticks.ticks) {
        const int w = p.fontMetrics().horizontalAdvance(tick.label);
        const double x = std::clamp(x_of(tick.at) - w / 2.0, 4.0, width() - w - 4.0);
        if (x + w < width() - words) p.drawText(QPointF(x, 13), tick.label);
    }
    p.drawText(QRectF(width() - words, 2, words - 30, 14), Qt::AlignRight | Qt::AlignVCenter, height_words);
    const QRectF f = frame();
    QColor glass = t.measure;
    glass.setAlpha(38);
    p.fillRect(f, glass);
    p.setPen(QPen(t.text, 1.4));
    p.setBrush(Qt::NoBrush);
    p.drawRoundedRect(f, 3, 3);
    const double cx = x_of(view_.cursor());
    p.setPen(QPen(t.text, 1, Qt::DotLine));
    p.drawLine(QPointF(cx, kAxis), QPointF(cx, ground));
    const auto all = cairns();
    for (std::size_t i = all.size(); i-- > 0;) {
        const double x = all[i].x;
        draw_cairn(p, x, kAxis + 28, kCairn);
        p.setFont(text_font(10, true));
        const QString label = label_of(all[i]);
        const double w = p.fontMetrics().horizontalAdvance(label) + 4;
        const QRectF room(std::clamp(x - w / 2, 0.0, width() - w), kAxis - 2, w, 13);
        p.fillRect(room.adjusted(0, 1, 0, -1), t.window);  // the frame may lie behind it
        p.setPen(t.finding);
        p.drawText(room, Qt::AlignCenter, label);
    }
}

void Ridge::mousePressEvent(QMouseEvent* e) {
    if (e->button() != Qt::LeftButton || !document_.trail()) return;
    if (const auto here = findings_at(e->position()); !here.empty()) {
        const auto last = clicked_ ? std::find(here.begin(), here.end(), *clicked_) : here.end();
        clicked_ = last == here.end() || last + 1 == here.end() ? here.front() : *(last + 1);
        emit finding_clicked(*clicked_);
        return;
    }
    grip_ = grip_at(e->position().x());
    if (grip_ == Grip::none) {  // a click elsewhere brings the frame there
        const Time half{(view_.to() - view_.from()).ps / 2}, at = time_at(e->position().x());
        view_.go_to(at - half, at + half, at);
        grip_ = Grip::inside;
    }
    grabbed_ = e->position().x();
    grabbed_from_ = view_.from();
    grabbed_to_ = view_.to();
}

void Ridge::mouseMoveEvent(QMouseEvent* e) {
    const Time moved = time_at(e->position().x()) - time_at(grabbed_);
    switch (grip_) {
        case Grip::none: {
            const Grip g = grip_at(e->position().x());
            setCursor(!findings_at(e->position()).empty()   ? Qt::PointingHandCursor
                      : g == Grip::left || g == Grip::right ? Qt::SizeHorCursor
                      : g == Grip::inside                   ? Qt::OpenHandCursor
                                                            : Qt::ArrowCursor);
            break;
        }
        case Grip::inside:
            view_.show(grabbed_from_ + moved, grabbed_to_ + moved);
            break;
        case Grip::left:
            view_.show(std::min(grabbed_from_ + moved, grabbed_to_), grabbed_to_);
            break;
        case Grip::right:
            view_.show(grabbed_from_, std::max(grabbed_to_ + moved, grabbed_from_));
            break;
    }
}

void Ridge::mouseReleaseEvent(QMouseEvent*) { grip_ = Grip::none; }

void Ridge::wheelEvent(QWheelEvent* e) {
    if (!document_.trail()) return;
    const double steps = e->angleDelta().y() / 120.0;
    view_.zoom(std::pow(0.8, steps), {(view_.from().ps + view_.to().ps) / 2});
}

void Ridge::resizeEvent(QResizeEvent*) { measure_land(); }

void Ridge::contextMenuEvent(QContextMenuEvent* e) {
    if (!document_.trail()) return;
    QMenu menu(this);
    for (const std::size_t i : findings_at(e->pos()))
        menu.addAction(tr("Go to finding %1: %2")
                           .arg(findings_.row_of(i).value_or(0) + 1)
                           .arg(words(document_.findings()[i].title)),
                       this, [this, i] { emit finding_clicked(i); });
    if (!menu.isEmpty()) menu.addSeparator();
    menu.addAction(tr("Show all of it"), this, [this] { view_.fit(); });
    add_moment_actions(menu, document_, view_, time_at(e->pos().x()));
    menu.exec(e->globalPos());
}

bool Ridge::event(QEvent* e) {
    if (e->type() == QEvent::ToolTip) {
        auto* help = static_cast<QHelpEvent*>(e);
        QStringList titles;
        for (const std::size_t i : findings_at(help->pos()))
            titles
                << QString("%1  %2").arg(findings_.row_of(i).value_or(0) + 1).arg(words(document_.findings()[i].title));
        if (!titles.isEmpty())
            QToolTip::showText(help->globalPos(), titles.join('\n'), this);
        else if (document_.trail())
            QToolTip::showText(help->globalPos(), QString::fromStdString(moment_text(time_at(help->pos().x()))), this);
        return true;
    }
    return QWidget::event(e);
}

}  // namespace mt::app
