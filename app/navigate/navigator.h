// The one place that goes anywhere in a document: to a time, a span, a finding, a name.
#pragma once

#include <optional>

#include <QObject>
#include <QString>

#include "document/document.h"
#include "navigate/viewpoint.h"

namespace mt::app {

/// Every way leads through here: it selects what one goes to, looks at its core, shows it with some room around it, and
/// leaves a visit behind that one can go back to. Only the window's thread may call its members.
class Navigator : public QObject {
    Q_OBJECT
  public:
    Navigator(Document& document, Viewpoint& view, QObject* parent = nullptr);

    /// Selects a span and shows it with some room around it. `leave`: whoever covers the lanes makes way for them.
    void go_to(const SpanRef& span, bool leave = true);
    /// A moment, at the present scale but no wider than a millisecond.
    void go_to(Time t);
    void go_to(Time from, Time to, Time cursor);
    /// Selects a span, keeps the scale, and moves only as far as needed to have its begin in the middle.
    void show(const SpanRef& span);

    /// A finding with everything that proves it. `led` follows.
    void go_to_finding(std::size_t index);
    /// What somebody who is involved in a finding did there: the span of its lane at the finding's moment.
    void go_to_involved(std::size_t finding, std::size_t which);
    /// The finding that was gone to last, as long as the recording is open.
    std::optional<std::size_t> finding() const { return finding_; }
    /// Selects what the first finding is about without going there; else what happens most.
    void select_first();

    /// To what a person typed: a time with its unit, or the name of anything in the lanes. False, and `missed` says
    /// why, if there is no such place.
    bool go_to_text(const QString& text);
    /// "7.063 s", "3 250 µs" as a time; nothing if it is none.
    static std::optional<Time> time_of(const QString& text);

    /// To the next (1) or previous (-1) span of what is selected; without a span, seen from the cursor.
    void step(int direction);
    /// To the longest of what is selected, or to what stands for that.
    void go_to_longest();
    /// In the selected value, from its sample at the cursor: to the next (1) or previous (-1) change, crossing of the
    /// level, or sample outside of its usual range.
    enum class InValue : std::uint8_t { change, crossing, outside };
    void step_value(InValue what, int direction);
    /// The level that was set; else crossings are of what the value is at the cursor.
    std::optional<double> level() const;
    void set_level(double level);
    std::optional<double> value_at_cursor() const;

  signals:
    void arrived();  ///< at something that the lanes show
    void went();     ///< to a span, which may be the one that was shown already
    void led(std::size_t finding);
    /// Something that a person asked for was not found.
    void missed(const QString& text);

  private:
    Document& document_;
    Viewpoint& view_;
    std::optional<std::size_t> finding_;
    std::optional<std::pair<LaneId, double>> level_;  ///< and of which value
    /// The value that is selected; null if none is.
    const ValueLane* selected_value() const;
};

}  // namespace mt::app
