// What most lanes have in common: a name, a core and a shape that do not change.
#pragma once

#include <algorithm>
#include <string>
#include <utility>

#include "base/text.h"
#include "measure/lane_kind.h"

namespace mt {

class PlainLane : public Lane {
  public:
    struct Look {
        std::string name, note;
        std::size_t core = 0;
        Shape shape = Shape::bars;
        Ink ink = Ink::value;
    };
    PlainLane(const Trail& trail, Look look) : trail_(trail), look_(std::move(look)) {}
    std::string name() const override { return look_.name; }
    std::string note() const override { return look_.note; }
    std::size_t core() const override { return look_.core; }
    Shape shape() const override { return look_.shape; }
    Ink ink() const override { return look_.ink; }

  protected:
    const Trail& trail_;
    /// "runs at 1.203 s" of what is not there.
    Told nothing_at(Time t, const char* what) const {
        return {look_.name, {std::string(what) + " at " + moment_text(t)}};
    }

  private:
    Look look_;
};

/// The first of `n` for which `before` is false; it is true for all in front of that.
template <class Before>
std::size_t first_not(std::size_t n, Before before) {
    std::size_t first = 0;
    while (first < n)
        if (const std::size_t middle = first + (n - first) / 2; before(middle))
            first = middle + 1;
        else
            n = middle;
    return first;
}

/// Of spans in order of begin and of end: those that touch [from, to].
template <class BeginOf, class EndOf>
Lane::Range touching_of(std::size_t n, Time from, Time to, BeginOf begin_of, EndOf end_of) {
    const std::size_t first = first_not(n, [&](std::size_t i) { return end_of(i) < from; });
    const std::size_t last = first_not(n, [&](std::size_t i) { return !(to < begin_of(i)); });
    return {first, std::max(first, last)};
}

/// "from 1.203 s for 3.4 ms (3 400 000 ns)".
inline std::string stretch_text(const Span& s) {
    return "from " + moment_text(s.begin) + " for " + duration_text(s.length()) + " (" + ns_text(s.length()) + " ns)";
}

inline constexpr const char* kLeftOutEnd = "its end was not seen: excluded from the figures";

}  // namespace mt
