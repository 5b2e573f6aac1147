#include "navigate/viewpoint.h"

#include <QDateTime>

#include <algorithm>

namespace mt::app {
namespace {
constexpr Time kNarrowest{10'000};  // 10 ns
constexpr std::size_t kMostPlaces = 200;
constexpr qint64 kSameVisitMs = 900;
constexpr int kFrame = 16;          ///< ms
constexpr double kBetween = 110;    ///< ms from one snapshot to the next, about
}  // namespace

void Viewpoint::reset(Time end) {
    end_ = std::max(end, Time{1'000'000});
    from_ = {};
    to_ = end_;
    cursor_ = {};
    selection_ = {};
    core_ = 0;
    a_.reset();
    b_.reset();
    scale_.reset();
    live_ = following_ = false;
    places_ = {{from_, to_, cursor_, {}}};
    place_ = 0;
    emit scale_changed();
    emit window_changed();
    emit cursor_changed();
    emit selection_changed();
    emit core_changed();
    emit ruler_changed();
    emit places_changed();
}

void Viewpoint::extend(Time end) {
    if (end <= end_) return;
    const bool whole = from_ == Time{} && to_ == end_;
    if (places_.size() == 1 && whole) places_[0].to = end;
    end_ = end;
    if (following_) {
        const Time to = std::max({end_, follow_width_, kNarrowest});
        // A leap, as after a pause, is no movement.
        if (to - to_ > Time{} && (to - to_).ps < follow_width_.ps / 4) {
            glide_from_ = to_;
            glide_to_ = to;
            glided_.start();
            if (!glide_.isActive()) glide_.start();
            return;
        }
        to_ = to;
        from_ = std::max(Time{}, to_ - follow_width_);
    } else if (whole && !live_) {
        to_ = end;
    }
    emit window_changed();
}

Viewpoint::Viewpoint(QObject* parent) : QObject(parent) {
    glide_.setInterval(kFrame);
    glide_.setTimerType(Qt::PreciseTimer);
    connect(&glide_, &QTimer::timeout, this, &Viewpoint::glide);
}

void Viewpoint::glide() {
    const double share = static_cast<double>(glided_.elapsed()) / kBetween;
    if (!following_ || share >= 1) glide_.stop();
    if (!following_) return;
    to_ = glide_from_ + Time{static_cast<std::int64_t>(static_cast<double>((glide_to_ - glide_from_).ps) * std::min(1.0, share))};
    from_ = std::max(Time{}, to_ - follow_width_);
    emit window_changed();
}

void Viewpoint::follow(bool on, Time width) {
    live_ = live_ || on;
    following_ = on;
    if (!on) return;
    follow_width_ = width > Time{} ? width : to_ - from_;
    from_ = std::max(Time{}, end_ - follow_width_);
    to_ = from_ + follow_width_;
    emit window_changed();
}

void Viewpoint::set_window(Time from, Time to) {
    Time width = free_ ? std::max(to - from, kNarrowest) : std::clamp(to - from, kNarrowest, std::max(end_, kNarrowest));
    // A little room behind the end, so that what happens at the very end can be seen.
    const Time last = width >= end_ ? Time{} : end_ - Time{width.ps - width.ps / 10};
    if (!free_) from = std::clamp(from, Time{}, std::max(Time{}, last));
    if (from == from_ && from + width == to_) return;
    from_ = from;
    to_ = from + width;
    emit window_changed();
}

void Viewpoint::remember(bool merge) {
    const qint64 now = QDateTime::currentMSecsSinceEpoch();
    places_.resize(std::min(places_.size(), place_ + 1));
    if (merge && place_ > 0 && now - last_step_ms_ < kSameVisitMs)
        places_[place_] = {from_, to_, cursor_, selection_};
    else
        places_.push_back({from_, to_, cursor_, selection_});
    if (places_.size() > kMostPlaces) places_.erase(places_.begin() + 1);
    place_ = places_.size() - 1;
    last_step_ms_ = merge ? now : 0;
    emit places_changed();
}

void Viewpoint::show(Time from, Time to) {
    const Time before_from = from_, before_to = to_;
    if (live_) following_ = to >= end_ && (following_ || to > before_to);
    if (following_) {
        follow_width_ = std::max(to - from, kNarrowest);
        to = end_;
        from = end_ - follow_width_;
    }
    set_window(from, to);
    if (from_ != before_from || to_ != before_to) remember(true);
}

void Viewpoint::go_to(Time from, Time to, Time cursor) {
    following_ = false;
    set_window(from, to);
    set_cursor(cursor);
    remember(false);
}

void Viewpoint::go_to(Time from, Time to, Time cursor, const Selection& selection) {
    following_ = false;
    set_window(from, to);
    take_selection(selection);
    set_cursor(cursor);
    remember(false);
}

void Viewpoint::set_scale(std::shared_ptr<const EvenScale> scale) {
    if (scale == scale_) return;
    scale_ = std::move(scale);
    emit scale_changed();
}

double Viewpoint::share_of(Time t) const {
    if (!scale_) return static_cast<double>((t - from_).ps) / static_cast<double>((to_ - from_).ps);
    const double left = scale_->place(from_), right = scale_->place(to_);
    if (t < from_ || t > to_ || right <= left)  // outside, and where no step is: by time
        return static_cast<double>((t - from_).ps) / static_cast<double>((to_ - from_).ps);
    return (scale_->place(t) - left) / (right - left);
}

Time Viewpoint::at_share(double share) const {
    const auto by_time = [&] {
        return from_ + Time{static_cast<std::int64_t>(share * static_cast<double>((to_ - from_).ps))};
    };
    if (!scale_ || share < 0 || share > 1) return by_time();
    const double left = scale_->place(from_), right = scale_->place(to_);
    return right <= left ? by_time() : std::clamp(scale_->time(left + share * (right - left)), from_, to_);
}

void Viewpoint::zoom(double factor, Time around) {
    if (following_) around = end_;
    if (scale_) {
        const double middle = scale_->place(around), left = scale_->place(from_), right = scale_->place(to_);
        if (right > left) {
            const double width = std::max(4.0, (right - left) * factor), share = (middle - left) / (right - left);
            const Time from = scale_->time(std::max(0.0, middle - width * share)),
                       to = scale_->time(middle + width * (1 - share));
            show(from, std::max(to, from + kNarrowest));
            return;
        }
    }
    const double width = static_cast<double>((to_ - from_).ps) * factor;
    const double left = static_cast<double>((around - from_).ps) * factor;
    const double limit = static_cast<double>(end_.ps);
    const Time w{
        static_cast<std::int64_t>(std::clamp(width, static_cast<double>(kNarrowest.ps), std::max(limit, 1e4)))};
    const Time from = around - Time{static_cast<std::int64_t>(left * static_cast<double>(w.ps) / std::max(width, 1.0))};
    show(from, from + w);
}

void Viewpoint::pan(double share) {
    if (scale_) {
        const double left = scale_->place(from_), right = scale_->place(to_), width = right - left;
        const double last = scale_->place(end_), to = std::min(last, right + width * share),
                     from = std::max(0.0, share > 0 ? to - width : left + width * share);
        show(scale_->time(from), scale_->time(from + width));
        return;
    }
    const Time step{static_cast<std::int64_t>(static_cast<double>((to_ - from_).ps) * share)};
    show(from_ + step, to_ + step);
}

void Viewpoint::fit() { go_to({}, end_, cursor_); }

void Viewpoint::set_cursor(Time t) {
    t = std::clamp(t, Time{}, end_);
    if (t == cursor_) return;
    cursor_ = t;
    emit cursor_changed();
}

void Viewpoint::select(const Selection& selection) {
    if (place_ < places_.size()) places_[place_].selection = selection;
    take_selection(selection);
}

void Viewpoint::take_selection(const Selection& selection) {
    if (selection == selection_) return;
    selection_ = selection;
    emit selection_changed();
}

void Viewpoint::set_core(std::size_t core) {
    if (core == core_) return;
    core_ = core;
    emit core_changed();
}

void Viewpoint::set_ruler(std::optional<Time> a, std::optional<Time> b) {
    a_ = a;
    b_ = b;
    emit ruler_changed();
}

void Viewpoint::revisit() {
    const Visited v = places_[place_];
    last_step_ms_ = 0;
    following_ = false;
    set_window(v.from, v.to);
    take_selection(v.selection);
    set_cursor(v.cursor);
    emit places_changed();
}

void Viewpoint::back() {
    if (!can_go_back()) return;
    --place_;
    revisit();
}

void Viewpoint::forward() {
    if (!can_go_forward()) return;
    ++place_;
    revisit();
}

}  // namespace mt::app
