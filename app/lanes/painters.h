// How lanes are drawn: one painter for each shape, whatever the lane is of.
#pragma once

#include <optional>
#include <utility>

#include <QPainter>
#include <QRectF>

#include "lanes/line_looks.h"
#include "model/lane.h"
#include "navigate/viewpoint.h"

namespace mt::app {

/// How the levels of a stack are drawn: the outer ones each for itself; where from some level on every span in view is
/// narrower than a few pixels, those together as a profile of how deep it was.
struct StackRows {
    std::size_t each = 0, together = 0;
    /// Height in pixels, without the room around.
    double height() const;
};

/// Where a lane is drawn: its row of the plot, and the window in time.
struct Pane {
    QPainter& p;
    const Viewpoint& view;
    QRectF row;                                                     ///< from the first to the last pixel of time
    double ceiling;                                                 ///< what lies above is covered
    Time end;                                                       ///< of the recording
    std::optional<std::pair<std::size_t, std::size_t>> selected{};  ///< level and index of the span that is
    StackRows stack{};                                              ///< of a stack: how its levels are drawn
    bool to_visible = false;                                        ///< numbers are scaled to those in view
    LineLook look{};                                                ///< of a lane of numbers
    std::optional<std::pair<double, double>> range{};               ///< of several in one row: the scale that they share
    QColor line{};                                                  ///< not valid: the lane's own colour
    bool numbers = true;                                            ///< the scale stands at the left

    double x_of(Time t) const { return row.left() + view.share_of(t) * row.width(); }
    Time time_at(double x) const { return view.at_share((x - row.left()) / std::max(1.0, row.width())); }
};

void paint_lane(const Pane& pane, const Lane& lane);
void paint_bars(const Pane& pane, const Lane& lane);
void paint_stack(const Pane& pane, const Lane& lane);
void paint_states(const Pane& pane, const Lane& lane);
void paint_line(const Pane& pane, const Lane& lane);
void paint_ticks(const Pane& pane, const Lane& lane);
/// Least and greatest of the scale on which a lane of numbers is drawn.
std::pair<double, double> line_range(const Pane& pane, const Lane& lane);
/// The colour of the n-th lane in a row of several.
QColor line_colour(std::size_t n);
/// `shown`: a level that must be drawn for itself, as something in it is selected.
StackRows stack_rows(const Viewpoint& view, double width, const Lane& lane, std::optional<std::size_t> shown);
/// Whether so little of what is in view is known of a lane that its spans cannot be told apart.
bool too_short(const Viewpoint& view, double width, const Lane& lane);

QColor ink_colour(Ink ink);
/// The part of a row that bars fill.
QRectF band_of(const QRectF& row);
/// The frame around what is selected.
void paint_frame(const Pane& pane, const QRectF& around);
/// A sentence where nothing can be drawn.
void paint_sentence(const Pane& pane, const QString& text);

/// Pixel columns of one colour; neighbours of the same height become one rectangle.
class Columns {
  public:
    Columns(QPainter& p, const QColor& colour) : p_(p), colour_(colour) {}
    void add(int x, int top, int bottom);
    void flush();

  private:
    QPainter& p_;
    QColor colour_;
    QRect run_;
};

/// Pixel columns over the whole height of a band: solid from the bottom up to a share of it, light above.
class SharedColumns {
  public:
    SharedColumns(QPainter& p, const QRectF& band, const QColor& light, const QColor& solid)
        : band_(band), light_(p, light), solid_(p, solid) {}
    /// `px`: pixels from the band's left; `share`: 0 to 1.
    void add(int px, double share);
    void flush();

  private:
    QRectF band_;
    Columns light_, solid_;
};

}  // namespace mt::app
