#include "lanes/lanes.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QSettings>

#include <algorithm>
#include <cmath>
#include <utility>

#include "base/text.h"
#include "lanes/accessible.h"
#include "lanes/geometry.h"
#include "lanes/painters.h"
#include "look/html.h"
#include "look/tip.h"
#include "look/words.h"
#include "measure/kinds/kinds.h"

// How the lanes are laid out and used; how they are drawn stands in drawing.cpp.
namespace mt::app {

Lanes::Lanes(Document& document, Viewpoint& view, Navigator& navigator, BlockStore& store, Judgement& judgement,
             QWidget* parent)
    : QWidget(parent), document_(document), view_(view), navigator_(navigator), store_(store), judgement_(judgement), growth_([this] {
          lay_out();
          update();
      }) {
    make_lanes_accessible();  // before anything asks: the first answer is kept
    setMouseTracking(true);
    setAttribute(Qt::WA_OpaquePaintEvent);  // it fills itself
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(tr("Lanes: what happened over time"));
    QSettings settings;
    to_visible_ = settings.value("lanes/to_visible").toBool();
    settings.beginGroup("lanes/tall");
    for (const QString& key : settings.allKeys())
        if (const double tall = settings.value(key).toDouble(); tall >= kFull && tall <= 600)
            tall_[key.toStdString()] = tall;
    const auto again = [this] {
        lay_out();
        update();
    };
    connect(&document, &Document::opened, this, [this] {
        if (comparing_) std::exchange(comparing_, nullptr)->cancel();
        told_call_.reset();
        lay_out();  // at once: rows of the recording before lead nowhere in this one
    });
    connect(&document, &Document::grew, this, [this] { growth_.ask(); });
    connect(&document, &Document::finished, this, again);
    connect(&view, &Viewpoint::window_changed, this, again);
    connect(&view, &Viewpoint::selection_changed, this, [this, again] {
        reveal_ = true;
        again();
        tell_call();
    });
    connect(&navigator, &Navigator::went, this, [this, again] {
        reveal_ = true;  // also where the window was there already
        again();
    });
    connect(&judgement, &Judgement::changed, this, qOverload<>(&QWidget::update));
    connect(&store, &BlockStore::arrived, this, qOverload<>(&QWidget::update));
    connect(&inlined_, &InlinedStays::arrived, this, qOverload<>(&QWidget::update));
    connect(&view, &Viewpoint::scale_changed, this, qOverload<>(&QWidget::update));
    for (const auto signal : {&Viewpoint::cursor_changed, &Viewpoint::ruler_changed})
        connect(&view, signal, this, qOverload<>(&QWidget::update));
}

double Lanes::plot_left() const { return std::min(150.0, width() * 0.3); }
double Lanes::x_of(Time t) const { return plot_left() + view_.share_of(t) * (width() - plot_left()); }
Time Lanes::time_at(double x) const { return view_.at_share((x - plot_left()) / std::max(1.0, width() - plot_left())); }

// Lanes with nothing in view fold to a line.
void Lanes::lay_out() {
    rows_.clear();
    if (document_.lanes() == nullptr) return;
    if (book_ != document_.lanes()) {
        book_ = document_.lanes();
        order_ = book_->in_order(merged_);
    }
    std::size_t shown = 0;
    double fixed = 0;
    const auto selected = book_->find(view_.selection().lane) != nullptr ? view_.selection().lane : LaneId{};
    for (const LaneId& id : order_) {
        if (hidden_.count(std::string(id.kind->id())) > 0 && id != selected) continue;
        const Lane* lane = book_->find(id);
        Row row{id, lane, 0, kFolded, !lane->stirs(view_.from(), view_.to()) && id != selected};
        if (!row.folded && lane->shape() == Shape::stack) {
            const bool flat = too_short(view_, width() - plot_left(), *lane);
            const auto& span = view_.selection().span;
            const auto level = span && span->lane == id ? std::optional<std::size_t>(span->level) : std::nullopt;
            if (!flat) row.stack = stack_rows(view_, width() - plot_left(), *lane, level);
            row.height = (flat ? 2 * kLevel : row.stack.height()) + 2 * kCallsPad;
        } else if (!row.folded) {
            const auto tall = tall_.find(key_of(row));
            row.height = tall == tall_.end() ? 0 : tall->second;  // 0: full
        }
        rows_.push_back(row);
    }
    take_guests();
    for (const Row& row : rows_) {
        if (row.height == 0) ++shown;
        fixed += row.height;
    }
    // Full rows share what room there is, within reason.
    const double room = height() - kAxis - kRuler - fixed;
    const double full =
        std::clamp(room / static_cast<double>(std::max<std::size_t>(1, shown)), kFull, std::max(58.0, height() * 0.08));
    double y = kAxis;
    for (Row& r : rows_) {
        r.top = y;
        if (r.height == 0) r.height = full;
        y += r.height;
    }
    content_ = y;
    if (reveal_) reveal();
    scroll_ = std::clamp(scroll_, 0.0, scroll_limit());
    for (Row& r : rows_) r.top -= scroll_;
}

std::string Lanes::key_of(const LaneId& id, const Lane& lane) {
    return std::string(id.kind->id()) + "/" + lane.name();
}

// Lanes of numbers that are to be drawn in another's row have none of their own, as long as that one is there.
void Lanes::take_guests() {
    for (std::size_t i = 0; i < rows_.size();) {
        const Row& row = rows_[i];
        const std::string with =
            row.lane->shape() == Shape::line && !row.lane->fills() ? looks_.of(key_of(row)).with : std::string();
        const auto host = std::find_if(rows_.begin(), rows_.end(), [&](const Row& r) {
            return !with.empty() && r.id != row.id && r.lane->name() == with && r.lane->shape() == Shape::line &&
                   looks_.of(key_of(r)).with.empty();
        });
        if (host == rows_.end()) {
            ++i;
            continue;
        }
        host->guests.emplace_back(row.id, row.lane);
        host->folded = host->folded && row.folded;
        if (!host->folded && host->height == kFolded) host->height = 0;
        rows_.erase(rows_.begin() + static_cast<std::ptrdiff_t>(i));
    }
}

std::string Lanes::device_of(const LaneId& id) const {
    const auto trail = document_.trail();
    if (!trail || (id.kind != &values_kind() && id.kind != &states_kind()) || id.index >= trail->tasks.values.size())
        return {};
    const ValueLane& lane = trail->tasks.values[id.index];
    const bool laid = std::any_of(trail->beside.begin(), trail->beside.end(),
                                  [&](const LaidSignals& s) { return s.name == lane.source; });
    return laid ? lane.source : std::string();
}

void Lanes::set_look(const std::string& key, const LineLook& look) {
    looks_.set(key, look);
    lay_out();
    update();
}

const Lanes::Row* Lanes::edge_at(const QPointF& at) const {
    if (at.x() >= plot_left() || at.y() < kAxis) return nullptr;
    for (const Row& r : rows_)
        if (!r.folded && r.lane->shape() != Shape::stack && std::fabs(at.y() - (r.top + r.height)) < 4) return &r;
    return nullptr;
}

// 0: as tall as the others.
void Lanes::set_tall(const std::string& key, double height) {
    const QString name = "lanes/tall/" + QString::fromStdString(key).replace('\\', '_');
    if (height == 0) {
        tall_.erase(key);
        QSettings().remove(name);
    } else {
        tall_[key] = std::clamp(height, kFull, 600.0);
        QSettings().setValue(name, tall_[key]);
    }
    lay_out();
    update();
}

void Lanes::set_to_visible(bool on) {
    to_visible_ = on;
    QSettings().setValue("lanes/to_visible", on);
    update();
}

// Scrolls so that the selected row, in a stack the selected level, is in sight. Rows stand unscrolled.
void Lanes::reveal() {
    const Row* r = row_of(view_.selection().lane);
    if (r == nullptr) return;
    double low = r->top + r->height - (height() - kRuler), high = r->top - kAxis;
    if (r->lane->shape() == Shape::stack) {
        if (!view_.selection().span) return;
        const double top = r->top + kCallsPad + static_cast<double>(view_.selection().span->level) * kLevel;
        low = top + 3 * kLevel - (height() - kRuler);
        high = top - kAxis - kLevel;
    }
    scroll_ = low > high ? high : std::clamp(scroll_, low, high);
}

double Lanes::scroll_limit() const { return std::max(0.0, content_ - (height() - kRuler)); }

const Lanes::Row* Lanes::row_of(const LaneId& id) const {
    const auto found = std::find_if(rows_.begin(), rows_.end(), [&id](const Row& r) {
        return r.id == id ||
               std::any_of(r.guests.begin(), r.guests.end(), [&id](const auto& guest) { return guest.first == id; });
    });
    return id && found != rows_.end() ? &*found : nullptr;
}

QRectF Lanes::row_rect(const LaneId& id) const {
    const Row* r = row_of(id);
    return r == nullptr ? QRectF() : QRectF(plot_left(), r->top, width() - plot_left(), r->height);
}

QRectF Lanes::span_rect(const SpanRef& span) const {
    const Row* r = row_of(span.lane);
    if (r == nullptr || book_->find(span) == nullptr) return {};
    const Span s = r->lane->span(span.level, span.index);
    const double left = x_of(s.begin), wide = std::max(1.0, x_of(s.end) - left);
    if (r->lane->shape() != Shape::stack) return {left, r->top, wide, r->height};
    return {left, r->top + kCallsPad + static_cast<double>(span.level) * kLevel, wide, kLevel - 1};
}

const Lanes::Row* Lanes::row_at(double y) const {
    for (const Row& r : rows_)
        if (y >= r.top && y < r.top + r.height) return &r;
    return nullptr;
}

// A few pixels of grace on both sides; of several there the longest.
std::optional<SpanRef> Lanes::span_at(const Row& row, const QPointF& at) const {
    if (at.x() < plot_left()) return std::nullopt;
    const Shape shape = row.lane->shape();
    std::size_t level = 0;
    if (shape == Shape::stack) {
        const double y = at.y() - row.top - kCallsPad;
        if (y < 0) return std::nullopt;
        level = static_cast<std::size_t>(y / kLevel);
    }
    if (level >= row.lane->levels()) return std::nullopt;
    const double grace = shape == Shape::stack || shape == Shape::line ? 1 : shape == Shape::ticks ? 4 : 2;
    const Time from = time_at(at.x() - grace), to = time_at(at.x() + grace);
    auto [first, last] = row.lane->touching(level, from, to);
    const auto ref = [&](std::size_t i) { return SpanRef{row.id, static_cast<std::uint32_t>(level), i}; };
    if (shape == Shape::line) {  // what was in force there
        const Time t = time_at(at.x());
        while (last > first && row.lane->span(level, last - 1).begin > t && last - first > 1) --last;
        return first == last ? std::nullopt : std::optional(ref(last - 1));
    }
    if (!row.lane->ordered()) {
        std::optional<std::size_t> best;
        for (std::size_t i = first; i < last; ++i)
            if (const Span s = row.lane->span(level, i);
                s.end >= from && s.begin <= to && (!best || s.length() > row.lane->span(level, *best).length()))
                best = i;
        return best ? std::optional(ref(*best)) : std::nullopt;
    }
    if (first == last) return std::nullopt;
    const std::size_t i = row.lane->longest(level, first, last);
    if ((row.lane->span(level, i).flags & Span::kSilent) != 0) return std::nullopt;
    return ref(i);
}

void Lanes::set_measuring(bool on) {
    if (measuring_ == on) return;
    measuring_ = on;
    setCursor(on ? Qt::CrossCursor : Qt::ArrowCursor);
    emit measuring_changed(on);
}

void Lanes::set_key_shown(bool on) {
    key_shown_ = on;
    update();
}

void Lanes::set_hidden_kinds(std::set<std::string> ids) {
    hidden_ = std::move(ids);
    lay_out();
    update();
}

namespace {

// Of those within reach.
std::optional<Time> nearest_edge(const Lane& lane, Time t, Time reach) {
    std::optional<Time> best;
    if (lane.shape() == Shape::stack) return best;  // calls begin and end nearly everywhere
    lane.each_edge(t - reach, t + reach, [&](Time edge) {
        const auto away = [t](Time e) { return std::llabs((e - t).ps); };
        if (away(edge) <= reach.ps && (!best || away(edge) < away(*best))) best = edge;
    });
    return best;
}

}  // namespace

Time Lanes::snapped(Time t, Time reach) const {
    if (!book_) return t;
    std::optional<Time> best;
    for (const Row& row : rows_)
        if (const auto edge = nearest_edge(*row.lane, t, reach);
            edge && (!best || std::llabs((*edge - t).ps) < std::llabs((*best - t).ps)))
            best = edge;
    return best.value_or(t);
}

Time Lanes::snapped(const QPointF& at, Time reach) const {
    const Time t = time_at(at.x());
    if (const Row* row = book_ && at.y() >= kAxis ? row_at(at.y()) : nullptr)
        if (const auto edge = nearest_edge(*row->lane, t, reach)) return *edge;
    return snapped(t, reach);
}

void Lanes::select_neighbour(int direction) {
    if (step_depth(direction) || rows_.empty()) return;
    const std::size_t n = rows_.size();
    std::size_t at = direction > 0 ? n - 1 : 0;
    for (std::size_t i = 0; i < n; ++i)
        if (rows_[i].id == view_.selection().lane) at = i;
    view_.select(rows_[(at + (direction > 0 ? 1 : n - 1)) % n].id);
}

// In a stack: to the caller (-1), or to the first callee (1). False if no span of a stack is selected.
bool Lanes::step_depth(int direction) {
    const auto span = view_.selection().span;
    const Lane* lane = span && book_ ? book_->find(*span) : nullptr;
    if (lane == nullptr || lane->shape() != Shape::stack) return false;
    if (direction < 0 ? span->level == 0 : span->level + 1 >= lane->levels()) return true;
    const std::uint32_t level = direction < 0 ? span->level - 1 : span->level + 1;
    const Span now = lane->span(span->level, span->index);
    auto [i, last] = lane->touching(level, now.begin, now.end + Time{1});
    const auto around = [&](std::size_t k) {
        const Span s = lane->span(level, k);
        return direction < 0 ? s.end >= now.end : s.begin >= now.begin;
    };
    while (i < last && !around(i)) ++i;
    if (i >= last) return true;
    view_.select(SpanRef{span->lane, level, i});
    view_.set_cursor(lane->span(level, i).begin);
    return true;
}

// The begin or end of a span within a few pixels, else the moment itself.
Time Lanes::snapped_to(Time t, const Span& s) const {
    const Time reach = time_at(plot_left() + 6) - view_.from();
    if (std::llabs((t - s.begin).ps) <= reach.ps || x_of(s.end) - x_of(s.begin) < 8) return s.begin;
    return std::llabs((t - s.end).ps) <= reach.ps ? s.end : t;
}

void Lanes::mousePressEvent(QMouseEvent* e) {
    if (!document_.trail()) return;
    pressed_ = mouse_ = e->position();
    pressed_from_ = view_.from();
    pressed_to_ = view_.to();
    panned_ = 0;
    if (e->button() == Qt::MiddleButton) {
        drag_ = Drag::pan;
        return;
    }
    if (e->button() != Qt::LeftButton) return;
    if (const Row* edge = edge_at(pressed_)) {
        drag_ = Drag::height;
        dragged_ = key_of(*edge);
        dragged_from_ = edge->height;
        return;
    }
    const Time reach = time_at(plot_left() + 8) - view_.from();
    if (const Row* row = row_at(pressed_.y());
        (e->modifiers() & Qt::AltModifier) != 0 && row != nullptr && pressed_.x() >= plot_left() && !document_.live()) {
        moved_device_ = device_of(row->id);
        if (moved_device_.empty()) return;
        drag_ = Drag::clock;
        moved_by_ = {};
        grabbed_ = time_at(pressed_.x());
        // The edge that was taken hold of.
        const auto [first, last] = row->lane->touching(0, grabbed_ - reach, grabbed_ + reach);
        Time nearest = reach;
        for (std::size_t i = first; i < last && last - first < 10'000; ++i)
            if (const Time at = row->lane->span(0, i).begin, away{std::abs((at - time_at(pressed_.x())).ps)}; away < nearest) {
                nearest = away;
                grabbed_ = at;
            }
        setCursor(Qt::SizeHorCursor);
        return;
    }
    const auto near = [&](std::optional<Time> end) {
        return end && std::fabs(x_of(*end) - pressed_.x()) < 10 && pressed_.y() > height() - kRuler;
    };
    if (near(view_.a()))
        drag_ = Drag::ruler_a;
    else if (near(view_.b()))
        drag_ = Drag::ruler_b;
    else if (measuring_ && pressed_.x() >= plot_left()) {
        drag_ = Drag::ruler;
        view_.set_ruler(snapped(pressed_, reach), std::nullopt);
    } else
        drag_ = Drag::waiting;
}

void Lanes::mouseMoveEvent(QMouseEvent* e) {
    mouse_ = e->position();
    const Time reach = time_at(plot_left() + 8) - view_.from();
    const double moved = mouse_.x() - pressed_.x();
    if (drag_ == Drag::waiting && std::fabs(moved) > 4 && pressed_.x() >= plot_left())
        drag_ = pressed_.y() < kAxis ? Drag::zoom : Drag::pan;
    if (drag_ == Drag::none)
        setCursor(edge_at(mouse_) != nullptr ? Qt::SplitVCursor : measuring_ ? Qt::CrossCursor : Qt::ArrowCursor);
    switch (drag_) {
        case Drag::clock:
            moved_by_ = snapped(time_at(mouse_.x()), reach) - grabbed_;
            update();
            break;
        case Drag::height:
            set_tall(dragged_, dragged_from_ + mouse_.y() - pressed_.y());
            break;
        case Drag::pan: {
            const Time by{static_cast<std::int64_t>(-moved / std::max(1.0, width() - plot_left()) *
                                                    static_cast<double>((pressed_to_ - pressed_from_).ps))};
            setCursor(Qt::ClosedHandCursor);
            if (view_.scale() != nullptr) {
                view_.pan((panned_ - moved) / std::max(1.0, width() - plot_left()));
                panned_ = moved;
            } else {
                view_.show(pressed_from_ + by, pressed_to_ + by);
            }
            break;
        }
        case Drag::zoom:
            update();
            break;
        case Drag::ruler:
        case Drag::ruler_b:
            view_.set_ruler(view_.a(), snapped(mouse_, reach));
            break;
        case Drag::ruler_a:
            view_.set_ruler(snapped(mouse_, reach), view_.b());
            break;
        default:
            break;
    }
}

void Lanes::mouseReleaseEvent(QMouseEvent* e) {
    const bool kept = drag_ == Drag::height && std::fabs(e->position().y() - pressed_.y()) < 3;
    const Drag was = kept ? Drag::waiting : drag_;
    drag_ = Drag::none;
    setCursor(measuring_ ? Qt::CrossCursor : Qt::ArrowCursor);
    if (was == Drag::clock) {
        if (moved_by_ != Time{} && std::fabs(e->position().x() - pressed_.x()) > 2)
            emit clock_moved(words(moved_device_), moved_by_);
        moved_device_.clear();
    }
    if (was == Drag::zoom && std::fabs(e->position().x() - pressed_.x()) > 4) {
        const Time a = time_at(std::max(plot_left(), pressed_.x())),
                   b = time_at(std::max(plot_left(), e->position().x()));
        view_.go_to(std::min(a, b), std::max(a, b), view_.cursor());
    }
    if ((was == Drag::ruler) && !view_.b()) view_.set_ruler(view_.a(), view_.a());
    if (was == Drag::ruler) set_measuring(false);
    update();
    if (was != Drag::waiting || e->button() != Qt::LeftButton) return;
    // A click shows a place: the lane, the span under it, the moment.
    const Row* row = e->position().y() < kAxis ? nullptr : row_at(e->position().y());
    const auto span = row == nullptr ? std::nullopt : span_at(*row, e->position());
    const Time t = time_at(e->position().x()), reach = time_at(plot_left() + 6) - view_.from();
    const Lane* lane = row == nullptr ? nullptr : row->lane;  // selecting lays out anew
    clicked_ = span && lane->shape() != Shape::line ? span : std::nullopt;
    if (span)
        view_.select(*span);
    else if (row != nullptr)
        view_.select(lane_at(*row, e->position()));
    if (e->position().x() < plot_left()) return;
    if (span && lane->shape() == Shape::stack)
        view_.set_cursor(snapped_to(t, lane->span(span->level, span->index)));
    else if (const Span s = span ? lane->span(span->level, span->index) : Span{};
             span && lane->shape() != Shape::states && x_of(s.end) - x_of(s.begin) < 8)
        view_.set_cursor(s.begin);
    else
        view_.set_cursor(snapped(e->position(), reach));
}

// What the first click met counts: selecting it may have moved the rows under the mouse.
void Lanes::mouseDoubleClickEvent(QMouseEvent* e) {
    drag_ = Drag::none;
    if (e->button() != Qt::LeftButton || e->position().x() < plot_left() || e->position().y() < kAxis) return;
    if (clicked_)
        navigator_.go_to(*clicked_);
    else if (row_at(e->position().y()) != nullptr)
        view_.zoom(0.25, time_at(e->position().x()));
}

void Lanes::wheelEvent(QWheelEvent* e) {
    if (!document_.trail()) return;
    const double steps = e->angleDelta().y() / 120.0, sideways = e->angleDelta().x() / 120.0;
    if ((e->modifiers() & Qt::ShiftModifier) != 0 || sideways != 0)
        view_.pan(-0.15 * (sideways != 0 ? sideways : steps));
    else if (e->position().x() < plot_left()) {
        reveal_ = false;
        scroll_ = std::clamp(scroll_ - steps * 40, 0.0, scroll_limit());
        lay_out();
        update();
    } else
        view_.zoom(std::pow(0.75, steps), time_at(e->position().x()));
    e->accept();
}

void Lanes::keyPressEvent(QKeyEvent* e) {
    const Time cursor = view_.cursor();
    const bool seen = cursor >= view_.from() && cursor <= view_.to();
    const Time around = seen ? cursor : Time{(view_.from().ps + view_.to().ps) / 2};
    switch (e->key()) {
        case Qt::Key_Left:
            view_.pan(-0.15);
            break;
        case Qt::Key_Right:
            view_.pan(0.15);
            break;
        case Qt::Key_Up:
            select_neighbour(-1);
            break;
        case Qt::Key_Down:
            select_neighbour(1);
            break;
        case Qt::Key_Plus:
        case Qt::Key_Equal:
            view_.zoom(0.5, around);
            break;
        case Qt::Key_Minus:
            view_.zoom(2, around);
            break;
        case Qt::Key_Home:
            view_.fit();
            break;
        case Qt::Key_PageUp:
            view_.pan(-0.9);
            break;
        case Qt::Key_PageDown:
            view_.pan(0.9);
            break;
        default:
            QWidget::keyPressEvent(e);
    }
}

void Lanes::set_merged(bool on) {
    merged_ = on;
    book_.reset();
    lay_out();
    update();
}

void Lanes::set_start_shown(bool on) {
    start_shown_ = on;
    update();
}

void Lanes::leaveEvent(QEvent*) { QToolTip::hideText(); }

QString Lanes::told_at(const QPointF& at) const {
    const Row* row = at.x() < plot_left() || at.y() <= kAxis ? nullptr : row_at(at.y());
    if (row == nullptr) return {};
    const auto span = span_at(*row, at);
    const Time t = time_at(at.x());
    const Told told = row->lane->told(
        t, span ? std::optional(std::pair<std::size_t, std::size_t>(span->level, span->index)) : std::nullopt);
    if (told.title.empty()) return {};
    QString text = "<b>" + escaped(QString::fromStdString(told.title)) + "</b>";
    for (const std::string& line : told.lines)
        text += "<br>" + escaped(QString::fromStdString(line)).replace("  ", "&nbsp; ");
    if (span && span->lane.kind == &functions_kind()) text += inlined_at(*span, t);
    if (span) text += rules_at(*span);
    return text;
}

QString Lanes::row_name(int row) const {
    const auto [name, note] = heading(rows_[static_cast<std::size_t>(row)]);
    return note.isEmpty() ? name : name + ", " + note;
}

QString Lanes::row_told(int row) const {
    const Row& r = rows_[static_cast<std::size_t>(row)];
    std::size_t count = 0;
    std::optional<Span> longest;
    for (std::size_t level = 0; level < r.lane->levels(); ++level) {
        const auto [first, last] = r.lane->touching(level, view_.from(), view_.to());
        count += last - first;
        if (first == last || r.lane->shape() == Shape::ticks || r.lane->shape() == Shape::line) continue;
        const Span s = r.lane->span(level, r.lane->longest(level, first, last));
        if (!longest || longest->length() < s.length()) longest = s;
    }
    if (count == 0) return tr("nothing in view");
    QString text = tr("%1 in view").arg(words(count_text(count)));
    if (longest)
        text += tr(", the longest %1 at %2")
                    .arg(words(duration_text(longest->length())), words(moment_text(longest->begin)));
    return text;
}

QRectF Lanes::row_area(int row) const {
    const Row& r = rows_[static_cast<std::size_t>(row)];
    return {0, r.top, static_cast<double>(width()), r.height};
}

bool Lanes::row_selected(int row) const { return rows_[static_cast<std::size_t>(row)].id == view_.selection().lane; }

bool Lanes::event(QEvent* e) {
    if (e->type() == QEvent::Resize) {
        lay_out();
    } else if (e->type() == QEvent::ToolTip && document_.trail()) {
        auto* help = static_cast<QHelpEvent*>(e);
        show_tip(*help, told_at(help->pos()), this);
        return true;
    }
    return QWidget::event(e);
}

}  // namespace mt::app
