// The shapes of state, drawn by the lanes, the ridge and the key from this one place.
#pragma once

#include <QPainter>
#include <QRectF>

namespace mt::app {

/// A handler that runs: a solid bar with its upper left corner cut.
void draw_handler(QPainter& p, const QRectF& bar, const QColor& colour);
/// A task or thread mode that runs: a solid bar.
void draw_running(QPainter& p, const QRectF& bar, const QColor& colour);
/// Cut into by something more urgent: the bar narrows to a thread.
void draw_cut_into(QPainter& p, const QRectF& bar, const QColor& colour);
/// Not known: slanting hatch.
void draw_gap(QPainter& p, const QRectF& area);
/// An edge known only within bounds: from nothing at `earliest` to the colour at `latest`.
void draw_soft_edge(QPainter& p, const QRectF& area, const QColor& colour);
/// A begin or end that was not seen: the bar is torn.
void draw_torn_edge(QPainter& p, double x, double top, double bottom, bool at_left);
/// Ready but held off: a thin line with slanting ticks.
void draw_held_off(QPainter& p, const QRectF& bar, const QColor& colour);
/// Waiting for a lock: a dotted line with a ring.
void draw_lock_wait(QPainter& p, const QRectF& bar, const QColor& colour);
/// Waiting for time or data: nothing but a faint line of dots.
void draw_idle_wait(QPainter& p, const QRectF& bar, const QColor& colour);
/// A share from 0 to 1 as a thin bar at the bottom of a table's cell, below its figure.
void draw_share(QPainter& p, const QRectF& cell, double share);
/// A finding: three stones on each other, standing on (x, ground).
void draw_cairn(QPainter& p, double x, double ground, double height);

}  // namespace mt::app
