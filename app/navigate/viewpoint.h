// Where the person looks: one window in time, one cursor, one selection, one core, A and B, and the places visited.
#pragma once

#include <optional>
#include <vector>

#include <QElapsedTimer>
#include <QObject>
#include <QTimer>

#include "base/time.h"
#include "model/even_scale.h"
#include "model/lane.h"

namespace mt::app {

/// What is selected in every view: a lane and, if any, one span of it; or nothing.
struct Selection {
    Selection() = default;
    Selection(const LaneId& of) : lane(of) {}
    Selection(const SpanRef& of) : lane(of.lane), span(of) {}
    LaneId lane;
    std::optional<SpanRef> span;
    bool operator==(const Selection&) const = default;
};

/// Shared by all views of a window; only the window's thread may use it.
class Viewpoint : public QObject {
    Q_OBJECT
  public:
    explicit Viewpoint(QObject* parent = nullptr);

    /// Forgets everything; the whole of [0, end] is visible, and stays so while `end` grows.
    void reset(Time end);
    /// Keeps the newest in view while the recording grows, until the person moves away from the end.
    void follow(bool on, Time width = {});
    bool following() const { return following_; }
    /// The recording grows no more.
    void end_live() { live_ = following_ = false; }
    /// The recording reaches further now.
    void extend(Time end);

    Time from() const { return from_; }
    Time to() const { return to_; }
    Time end() const { return end_; }
    Time cursor() const { return cursor_; }
    const Selection& selection() const { return selection_; }
    std::optional<Time> a() const { return a_; }
    std::optional<Time> b() const { return b_; }
    bool can_go_back() const { return place_ > 0; }
    bool can_go_forward() const { return place_ + 1 < places_.size(); }

    /// Shows [from, to], kept inside the recording (but for a tenth behind its end) and at least 10 ns wide. Steps that
    /// follow each other closely (a wheel, a drag) count as one visit.
    void show(Time from, Time to);
    /// On: what is visible may lie beyond the recording's begin and end, as it follows another recording's.
    void set_free(bool on) { free_ = on; }
    /// A jump: always a visit of its own. With a selection, that belongs to the new place, and the old one keeps its.
    void go_to(Time from, Time to, Time cursor);
    void go_to(Time from, Time to, Time cursor, const Selection& selection);
    void zoom(double factor, Time around);
    void pan(double share);
    /// Null: width is time. Else each of its steps is equally wide.
    void set_scale(std::shared_ptr<const EvenScale> scale);
    const EvenScale* scale() const { return scale_.get(); }
    /// Where a moment lies between begin (0) and end (1) of what is visible, and back.
    double share_of(Time t) const;
    Time at_share(double share) const;
    void fit();
    void set_cursor(Time t);
    void select(const Selection& selection);
    /// The core that every view of a single core shows, an index into the trail's cores.
    void set_core(std::size_t core);
    std::size_t core() const { return core_; }
    void set_ruler(std::optional<Time> a, std::optional<Time> b);
    void back();
    void forward();

  signals:
    void window_changed();
    void scale_changed();
    void cursor_changed();
    void selection_changed();
    void core_changed();
    void ruler_changed();
    void places_changed();
    /// Other colours are in force: what holds some of its own takes the new ones.
    void colours_changed();

  private:
    struct Visited {
        Time from, to, cursor;
        Selection selection;
    };
    void take_selection(const Selection& selection);
    void set_window(Time from, Time to);
    void remember(bool merge);
    void revisit();

    Time from_{}, to_{1'000'000}, end_{1'000'000}, cursor_{};
    std::shared_ptr<const EvenScale> scale_;
    Selection selection_;
    std::size_t core_ = 0;
    std::optional<Time> a_, b_;
    std::vector<Visited> places_;
    std::size_t place_ = 0;
    qint64 last_step_ms_ = 0;
    bool live_ = false, following_ = false, free_ = false;
    void glide();
    Time follow_width_{};
    // While it follows, the picture moves on evenly between two snapshots, instead of by a leap with each.
    QTimer glide_;
    QElapsedTimer glided_;
    Time glide_from_{}, glide_to_{};  ///< the end of what is visible, from here to there
};

}  // namespace mt::app
