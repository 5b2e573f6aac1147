// Values over time: what a variable, a port or a signal was, from which moment on, and what is known of who told it.
// Columns only, so that a copy is a snapshot (see trail.h).
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/column.h"
#include "base/time.h"
#include "target/value_type.h"

namespace mt {

/// What told a value; `measured`: a device outside the chip.
enum class ValueAccess : std::uint8_t { written, read, sampled, measured };
std::string_view value_access_name(ValueAccess access);

struct ValueSample {
    Time time;
    std::uint64_t bits = 0;  ///< see Value; the lane has the sort
};
/// What else is known of a sample.
struct ValueOrigin {
    std::uint64_t instruction = 0;  ///< address of the instruction that accessed it
    std::uint32_t slack_ns = 0;     ///< so much earlier it may have been; rounded up, saturating
    ValueAccess access = ValueAccess::written;
    /// What a sample is worth: of an undefined or undriven line, and of an invalid sample, the value is not known.
    enum class Worth : std::uint8_t { known, undefined, undriven, invalid };
    Worth worth = Worth::known;
    bool instruction_known = false;
    bool operator==(const ValueOrigin&) const = default;
};

struct ValueLane {
    static constexpr std::uint16_t kNoCore = 0xFFFF;  ///< of no core: measured outside the chip
    std::uint32_t id = 0;
    std::string name;
    std::string unit;    ///< of its numbers; empty if it is not known
    std::string source;  ///< what told it, if that was none of the recording's streams
    std::uint16_t core = 0;
    ValueSort sort = ValueSort::signed_whole;
    std::map<std::uint64_t, std::string> value_names;  ///< what values stand for, by their bits, where that is known
    std::uint64_t least = 0, greatest = 0;             ///< bits; of all samples that are numbers
    Column<ValueSample> samples;
    static constexpr std::size_t kBlock = 64;
    struct Extent {
        std::uint64_t least, greatest;  ///< bits
    };
    Column<Extent> extents;  ///< of each full block of kBlock samples
    Extent now{};            ///< of the block that is not full
    /// Times in which nothing is known of it: a sample before one holds only up to its begin.
    struct Hole {
        Time begin, end;
    };
    std::vector<Hole> holes;  ///< ascending

    Value value(std::size_t i) const { return {sort, samples[i].bits}; }
    Value value_of(std::uint64_t bits) const { return {sort, bits}; }
    /// The name of a value; null if it has none.
    const std::string* name_of(std::uint64_t bits) const {
        const auto found = value_names.find(bits);
        return found == value_names.end() ? nullptr : &found->second;
    }
    bool known(std::size_t i) const { return origin(i).worth == ValueOrigin::Worth::known; }
    /// The value of a sample as people read it: "-20", "ready", "x" (undefined), "z" (undriven), "invalid".
    std::string text(std::size_t i) const;
    ValueOrigin origin(std::size_t i) const { return origins_.size() > i ? origins_[i] : usual_; }
    void append(Time t, std::uint64_t bits, const ValueOrigin& origin = {});
    /// Every time, moved. REQUIRES: no snapshot holds the lane, and the order stays.
    template <class To>
    void move_times(To to) {
        for (std::size_t i = 0; i < samples.size(); ++i) samples.edit(i).time = to(samples[i].time);
        for (Hole& h : holes) h = {to(h.begin), to(h.end)};
    }
    /// A sample whose value is not known: its bits are those before, so that it neither is least nor greatest.
    void append_unknown(Time t, ValueOrigin origin);
    /// Least and greatest of the samples [first, last). REQUIRES: first < last <= samples.size().
    Extent extent(std::size_t first, std::size_t last) const;
    /// Up to when sample `i` holds, as far as this lane tells: the next sample or a hole; `end` for the last.
    Time holds_until(std::size_t i, Time end) const;
    /// Index of the sample in force at `t`; samples.size() before the first.
    std::size_t at(Time t) const {
        const std::size_t n = samples.partition_point([t](const ValueSample& s) { return !(t < s.time); });
        return n == 0 ? samples.size() : n - 1;
    }

  private:
    Extent joined(Extent a, const Extent& b) const;
    ValueOrigin usual_;            ///< of all samples, as long as they are alike …
    Column<ValueOrigin> origins_;  ///< … else of each
};

}  // namespace mt
