// The samples of a lane of values: each with a time of its own, or of a device that samples evenly, of which only what
// it sent is kept.
#pragma once

#include <cstdint>
#include <vector>

#include "base/column.h"
#include "base/search.h"
#include "base/time.h"
#include "target/value_type.h"

namespace mt {

struct ValueSample {
    Time time;
    std::uint64_t bits = 0;  ///< see Value; the lane has the sort
};

/// What evenly sampled words are worth: value = word * scale + offset.
struct EvenReading {
    enum class Word : std::uint8_t { whole, signed_whole, real32, real64 } word = Word::signed_whole;
    bool raw = true;  ///< neither scaled nor moved: whole numbers stay so
    double scale = 1, offset = 0;

    ValueSort sort() const {
        if (word == Word::whole && raw) return ValueSort::whole;
        if (word == Word::signed_whole && raw) return ValueSort::signed_whole;
        return word == Word::real32 && raw ? ValueSort::small_real : ValueSort::real;
    }
    std::uint64_t bits(std::uint64_t w) const;
};

/// A copy is a snapshot (see Column).
class SampleColumn {
  public:
    std::size_t size() const { return even_ ? low_.size() : each_.size(); }
    bool empty() const { return size() == 0; }
    // Of sample i. REQUIRES: i < size().
    ValueSample operator[](std::size_t i) const { return {time(i), bits(i)}; }
    Time time(std::size_t i) const { return even_ ? even_time(i) : each_[i].time; }
    std::uint64_t bits(std::size_t i) const {
        if (!even_) return each_[i].bits;
        std::uint64_t w = low_[i];
        if (reading_.word == EvenReading::Word::real64) w |= std::uint64_t{high_[i]} << 32;
        return reading_.bits(w);
    }
    ValueSample back() const { return (*this)[size() - 1]; }
    /// How many samples are earlier than `t`, which is where the first other one stands.
    std::size_t before(Time t) const {
        return first_false(low_guess(t), high_guess(t), [&](std::size_t i) { return time(i) < t; });
    }
    /// How many are no later than `t`.
    std::size_t up_to(Time t) const {
        return first_false(low_guess(t), high_guess(t), [&](std::size_t i) { return !(t < time(i)); });
    }
    /// REQUIRES: it is not even.
    void push_back(const ValueSample& s) { each_.push_back(s); }

    bool even() const { return even_; }
    /// Samples follow each other after so many picoseconds. REQUIRES: it is empty; period_ps > 0.
    void make_even(long double period_ps, const EvenReading& reading) {
        even_ = true;
        period_ps_ = period_ps;
        reading_ = reading;
    }
    long double period_ps() const { return period_ps_; }
    /// The next sample is of this moment, and those behind it follow it evenly.
    void begin_stretch(Time at) { stretches_.push_back({size(), static_cast<long double>(at.ps)}); }
    std::uint64_t worth(std::uint64_t word) const { return reading_.bits(word); }
    /// Appends what was sent. REQUIRES: a stretch was begun.
    void push_word(std::uint64_t w) {
        low_.push_back(static_cast<std::uint32_t>(w));
        if (reading_.word == EvenReading::Word::real64) high_.push_back(static_cast<std::uint32_t>(w >> 32));
    }
    /// Another clock: each time becomes offset + factor * time. REQUIRES: it is even. Snapshots keep theirs.
    void retime(long double offset_ps, long double factor) {
        for (Stretch& s : stretches_) s.begin_ps = offset_ps + factor * s.begin_ps;
        period_ps_ *= factor;
    }

  private:
    struct Stretch {
        std::size_t first;
        long double begin_ps;
    };
    Time even_time(std::size_t i) const {
        std::size_t s = stretches_.size() - 1;
        while (s > 0 && stretches_[s].first > i) --s;
        const long double at = stretches_[s].begin_ps + period_ps_ * static_cast<long double>(i - stretches_[s].first) + 0.5L;
        const auto whole = static_cast<std::int64_t>(at);  // std::floor takes ten times as long
        return Time{static_cast<long double>(whole) > at ? whole - 1 : whole};
    }

    // Where the sample of a moment stands at the least, and at the most: of even samples nearly the place itself.
    std::size_t low_guess(Time t) const {
        const std::size_t at = guess(t);
        return !even_ ? 0 : at > 2 && time(at - 2) < t ? at - 2 : 0;
    }
    std::size_t high_guess(Time t) const {
        const std::size_t at = guess(t), n = size();
        return even_ && at + 2 < n && t < time(at + 2) ? at + 2 : n;
    }
    std::size_t guess(Time t) const {
        if (!even_) return 0;
        std::size_t s = stretches_.size();
        while (s > 1 && static_cast<long double>(t.ps) < stretches_[s - 1].begin_ps) --s;
        if (s == 0) return 0;
        const Stretch& in = stretches_[s - 1];
        const std::size_t end = s < stretches_.size() ? stretches_[s].first : size();
        const long double steps = (static_cast<long double>(t.ps) - in.begin_ps) / period_ps_;
        if (!(steps > 0)) return in.first;
        return steps < static_cast<long double>(end - in.first) ? in.first + static_cast<std::size_t>(steps) : end;
    }

    Column<ValueSample> each_;
    bool even_ = false;  ///< else each has its own time
    long double period_ps_ = 0;
    EvenReading reading_;
    std::vector<Stretch> stretches_;  ///< ascending
    Column<std::uint32_t> low_, high_;
};

}  // namespace mt
