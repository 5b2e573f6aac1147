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
#include "model/sample_column.h"
#include "target/value_type.h"

namespace mt {

/// What told a value; `measured`: a device outside the chip.
enum class ValueAccess : std::uint8_t { written, read, sampled, measured };
std::string_view value_access_name(ValueAccess access);

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

/// Of what a device outside the chip told.
inline ValueOrigin measured_origin() {
    ValueOrigin origin;
    origin.access = ValueAccess::measured;
    return origin;
}

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
    SampleColumn samples;
    static constexpr std::size_t kBlock = 64;
    struct Extent {
        std::uint64_t least, greatest;  ///< bits
    };
    Column<Extent> extents;       ///< of each full block of kBlock samples
    Column<Extent> wide_extents;  ///< of each full block of kBlock extents
    Extent now{};                 ///< of the block that is not full
    /// Times in which nothing is known of it: a sample before one holds only up to its begin.
    struct Hole {
        Time begin, end;
    };
    std::vector<Hole> holes;  ///< ascending

    Value value(std::size_t i) const { return {sort, samples.bits(i)}; }
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
    /// The same of an even lane: what the device sent. REQUIRES: samples.even(), and a stretch was begun.
    void append_word(std::uint64_t word);
    /// What samples come from unless it is said. REQUIRES: there are none yet.
    void set_usual_origin(const ValueOrigin& origin) {
        usual_ = origin;
        usual_set_ = true;
    }
    /// The same of what all samples come from, as set before: quick.
    void append_usual(Time t, std::uint64_t bits) {
        widen(bits, true);
        if (!origins_.empty()) origins_.push_back(usual_);
        samples.push_back({t, bits});
        if (samples.size() % kBlock == 0) end_block();
    }
    /// Every time, moved; copies keep theirs. REQUIRES: the order stays; the lane is not even.
    template <class To>
    void move_times(To to) {
        SampleColumn moved;
        for (std::size_t i = 0; i < samples.size(); ++i) moved.push_back({to(samples.time(i)), samples.bits(i)});
        samples = std::move(moved);
        for (Hole& h : holes) h = {to(h.begin), to(h.end)};
    }
    /// The same of an even lane: each time becomes `offset` + `factor` * time.
    void move_times(Time offset, double factor);
    /// A sample whose value is not known: its bits are those before, so that it neither is least nor greatest.
    void append_unknown(Time t, ValueOrigin origin);
    /// Least and greatest of the samples [first, last). REQUIRES: first < last <= samples.size().
    Extent extent(std::size_t first, std::size_t last) const;
    /// Up to when sample `i` holds, as far as this lane tells: the next sample or a hole; `end` for the last.
    Time holds_until(std::size_t i, Time end) const;
    /// Index of the sample in force at `t`; samples.size() before the first.
    std::size_t at(Time t) const {
        const std::size_t n = samples.up_to(t);
        return n == 0 ? samples.size() : n - 1;
    }

  private:
    Extent joined(Extent a, const Extent& b) const;
    /// What bits are worth in the order of their sort, as whole numbers. What is no number has no place in it.
    static std::uint64_t key_of(ValueSort sort, std::uint64_t bits) {
        constexpr std::uint64_t kTop = std::uint64_t{1} << 63;
        if (sort == ValueSort::signed_whole) return bits ^ kTop;
        if (sort != ValueSort::real && sort != ValueSort::small_real) return bits;
        if (bits == kTop) return kTop;  // minus zero is zero
        return (bits & kTop) != 0 ? ~bits : bits | kTop;
    }
    static bool is_no_number(ValueSort sort, std::uint64_t bits) {
        return (sort == ValueSort::real || sort == ValueSort::small_real) && (bits << 1) > 0xFFE0'0000'0000'0000;
    }
    // Samples before the first that is known, and what is no number, neither are the least nor the greatest, unless
    // there is nothing else.
    void widen(std::uint64_t bits, bool known) {
        const bool starts = samples.size() % kBlock == 0;
        if (!any_known_ || any_nan_ || is_no_number(sort, bits)) [[unlikely]]
            return widen_slowly(bits, known);
        const std::uint64_t key = key_of(sort, bits);
        if (key < key_of(sort, least)) least = bits;
        if (key > key_of(sort, greatest)) greatest = bits;
        if (starts) {
            now = {bits, bits};
        } else {
            if (key < key_of(sort, now.least)) now.least = bits;
            if (key > key_of(sort, now.greatest)) now.greatest = bits;
        }
    }
    void widen_slowly(std::uint64_t bits, bool known);
    void end_block();
    bool any_known_ = false, any_nan_ = false, usual_set_ = false;
    ValueOrigin usual_;            ///< of all samples, as long as they are alike …
    Column<ValueOrigin> origins_;  ///< … else of each
};

}  // namespace mt
