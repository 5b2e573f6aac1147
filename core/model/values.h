// Values over time: what a variable, a port or a signal was, from which moment on, and what is known of who told it.
// Columns only, so that a copy is a snapshot (see trail.h).
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>

#include "base/column.h"
#include "base/time.h"
#include "target/value_type.h"

namespace mt {

/// What told a value.
enum class ValueAccess : std::uint8_t { written, read, sampled };
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
    bool instruction_known = false;
    bool operator==(const ValueOrigin&) const = default;
};

struct ValueLane {
    std::uint32_t id = 0;
    std::string name;
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

    Value value(std::size_t i) const { return {sort, samples[i].bits}; }
    Value value_of(std::uint64_t bits) const { return {sort, bits}; }
    /// The name of a value; null if it has none.
    const std::string* name_of(std::uint64_t bits) const {
        const auto found = value_names.find(bits);
        return found == value_names.end() ? nullptr : &found->second;
    }
    ValueOrigin origin(std::size_t i) const { return origins_.size() > i ? origins_[i] : usual_; }
    void append(Time t, std::uint64_t bits, const ValueOrigin& origin = {});
    /// Least and greatest of the samples [first, last). REQUIRES: first < last <= samples.size().
    Extent extent(std::size_t first, std::size_t last) const;
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
