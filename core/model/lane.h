// A lane: one thing of which stretches, ticks or samples follow each other in time, whatever it is: executions of an
// interrupt, calls on a stack, jobs of a task, holds of a lock, values of a variable. Everything that is drawn,
// selected, walked through and measured is a lane, seen through this one interface.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "base/time.h"

namespace mt {

class LaneKind;

/// Which lane: of a kind, by a number of that kind's own. Stays the same over all snapshots of a recording.
struct LaneId {
    const LaneKind* kind = nullptr;
    std::uint64_t index = 0;
    explicit operator bool() const { return kind != nullptr; }
    bool operator==(const LaneId&) const = default;
};

/// One span of a lane. Stays the same over all snapshots of a recording.
struct SpanRef {
    LaneId lane;
    std::uint32_t level = 0;  ///< depth in a stack, 0 the outermost; 0 elsewhere
    std::uint64_t index = 0;
    bool operator==(const SpanRef&) const = default;
};

/// A stretch of time, or a moment: then begin and end are the same.
struct Span {
    enum Flag : std::uint8_t {
        kCutBegin = 1,  ///< its begin was not seen
        kCutEnd = 2,    ///< its end was not seen
        kCutInto = 4,   ///< something else had the core meanwhile: see Lane::each_part
        kHandler = 8,   ///< an exception entered it
        kTrouble = 16,  ///< something was refused or lost
        kSilent = 32    ///< nothing to be drawn
    };
    Time begin, end;
    Time begin_slack, end_slack;  ///< so much earlier it may have been
    std::uint8_t flags = 0;
    std::uint32_t hue = 0;  ///< spans that belong together have the same
    /// How privileged it was where it began: 0: not told; 1: without privilege; 2: the system's; 3 and 4: above that.
    std::uint8_t shade = 0;

    Time length() const { return end - begin; }
    bool whole() const { return (flags & (kCutBegin | kCutEnd)) == 0; }
};

/// How a lane is drawn.
enum class Shape : std::uint8_t {
    bars,    ///< spans that do not overlap, or hardly
    stack,   ///< spans within spans
    states,  ///< what somebody does at each moment; its spans are drawn around when selected
    line,    ///< numbers over time
    ticks    ///< moments
};
/// What a lane's colour says.
enum class Ink : std::uint8_t { interrupt, running, waiting, value, mark, gap, fault };

/// A stretch of a lane of shape `states`.
struct LaneState {
    enum Look : std::uint8_t { runs, cut_into, held_off, waits_for_lock, waits, unknown };
    Time begin, end;
    Look look = unknown;
    bool faint = false;    ///< what nobody needs to see: the idle task
    std::uint64_t at = 0;  ///< for Lane::state_label
};

/// What is said of something that a person points at.
struct Told {
    std::string title;
    std::vector<std::string> lines;
};

/// A lane of one trail, valid as long as that is. Any thread may ask. Levels count from 0, indices within a level.
class Lane {
  public:
    using Range = std::pair<std::size_t, std::size_t>;  ///< [first, second)
    using EachPart = std::function<void(Time from, Time to)>;
    using EachState = std::function<void(const LaneState&)>;

    virtual ~Lane() = default;
    virtual std::string name() const = 0;
    /// What it is: "interrupt 3".
    virtual std::string note() const = 0;
    /// The core that it belongs to.
    virtual std::size_t core() const { return 0; }
    /// Measured outside the chip: what was lost of a core's trace is not missing in it.
    virtual bool from_outside() const { return false; }
    /// So far each of its times may be wrong either way, as its device's clock is known no better.
    virtual Time unsure() const { return {}; }
    virtual Shape shape() const = 0;
    virtual Ink ink() const = 0;

    virtual std::size_t levels() const { return 1; }
    virtual std::size_t size(std::size_t level) const = 0;
    /// REQUIRES: level < levels(), i < size(level).
    virtual Span span(std::size_t level, std::size_t i) const = 0;
    /// All spans that touch [from, to] are in this range; where spans overlap, it may hold others.
    virtual Range touching(std::size_t level, Time from, Time to) const = 0;
    /// The longest of [first, last). REQUIRES: first < last <= size(level).
    virtual std::size_t longest(std::size_t level, std::size_t first, std::size_t last) const;
    /// The first that begins at or after `t`; size(level) if none does.
    virtual std::size_t first_from(std::size_t level, Time t) const;

    /// Whether anything of it is worth a row between these times.
    virtual bool stirs(Time from, Time to) const;
    /// Which colour a hue has, of a few; 0: none of its own.
    virtual unsigned tint(std::uint32_t hue) const { return hue; }
    /// What stands in a span that has room; may be empty.
    virtual std::string label(std::size_t level, std::size_t i) const;
    /// What is said of the moment `t`, or of the span that lies there.
    virtual Told told(Time t, const std::optional<std::pair<std::size_t, std::size_t>>& span) const = 0;
    /// The parts of a span in which nothing cut in. By default all of it.
    virtual void each_part(std::size_t level, std::size_t i, const EachPart& each) const;
    /// Moments between `from` and `to` that a measuring hand may want to catch, at most a few near each end.
    virtual void each_edge(Time from, Time to, const std::function<void(Time)>& each) const;

    /// Shape states: how many there are, and each, between these times; and the share of them in which it runs.
    virtual std::size_t states_between(Time, Time) const { return 0; }
    virtual void each_state(Time, Time, const EachState&) const {}
    virtual double running_share(Time, Time) const { return 0; }
    virtual std::string state_label(const LaneState&) const { return {}; }
    /// Parts of a running state in which nothing cut in.
    virtual void each_running_part(Time, Time, const EachPart&) const {}
    /// What is said where nothing can be drawn; empty if something can.
    virtual std::string empty_text() const { return {}; }

    /// Shape line: the number of span `i`, the least and greatest of [first, last), of all, and whether it is the
    /// height of something that fills.
    virtual double value(std::size_t) const { return 0; }
    virtual std::pair<double, double> extent(std::size_t, std::size_t) const { return {0, 0}; }
    virtual std::pair<double, double> bounds() const { return {0, 0}; }
    virtual bool fills() const { return false; }

    /// The stretch in which anything is known of it, where that is less than the recording.
    virtual std::optional<std::pair<Time, Time>> known() const { return std::nullopt; }
    /// Whether spans are in order of begin and of end: then `touching` is exact.
    virtual bool ordered() const { return true; }
    /// The time within [from, to) that its spans take; nothing where that says nothing.
    virtual std::optional<Time> busy(Time, Time) const { return std::nullopt; }

    /// The lengths that a span has, as captions: "response"; and one of them. Shape line: what its number is.
    virtual std::vector<std::string> lengths() const { return {"duration"}; }
    virtual Time length(std::size_t level, std::size_t i, std::size_t /*which*/) const {
        return span(level, i).length();
    }
};

}  // namespace mt
