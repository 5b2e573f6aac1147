#include "model/even_scale.h"

namespace mt {

double steps_by(const StepTrail& trail, Time t) {
    const std::size_t next = trail.moments.partition_point([t](const StepMoment& m) { return m.time <= t; });
    if (next == trail.moments.size()) return static_cast<double>(trail.steps);
    const StepMoment to = trail.moments[next], from = next == 0 ? StepMoment{0, trail.begin} : trail.moments[next - 1];
    if (to.time <= from.time || t <= from.time) return static_cast<double>(from.step);
    return static_cast<double>(from.step) + static_cast<double>(to.step - from.step) *
                                                static_cast<double>((t - from.time).ps) /
                                                static_cast<double>((to.time - from.time).ps);
}

EvenScale::EvenScale(std::shared_ptr<const Trail> trail, std::size_t core) : trail_(std::move(trail)), core_(core) {
    for (std::size_t s = 0; s < trail_->steps.size(); ++s)
        if (trail_->steps[s].core_index == core && trail_->steps[s].moments.size() > 1) {
            steps_ = Steps::instructions;
            stream_ = s;
            return;
        }
    if (core < trail_->tasks.cores.size() && trail_->tasks.cores[core].runs.size() > 1) steps_ = Steps::switches;
}

// Knot 0 is the recording's begin, the last one its end.
std::size_t EvenScale::size() const {
    switch (steps_) {
        case Steps::instructions:
            return trail_->steps[stream_].moments.size() + 2;
        case Steps::switches:
            return trail_->tasks.cores[core_].runs.size() + 2;
        default:
            return trail_->cores[core_].change_time.size() + 2;
    }
}

EvenScale::Knot EvenScale::knot(std::size_t i) const {
    if (i == 0) return {};
    const std::size_t last = size() - 1;
    if (i < last) switch (steps_) {
            case Steps::instructions: {
                const StepMoment m = trail_->steps[stream_].moments[i - 1];
                return {static_cast<double>(m.step), m.time};
            }
            case Steps::switches:
                return {static_cast<double>(i), trail_->tasks.cores[core_].runs[i - 1].begin};
            default:
                return {static_cast<double>(i), trail_->cores[core_].change_time[i - 1]};
        }
    const double steps =
        steps_ == Steps::instructions ? static_cast<double>(trail_->steps[stream_].steps) : static_cast<double>(last);
    return {steps, trail_->end};
}

template <class Before>
std::size_t EvenScale::first_not(Before before) const {
    std::size_t low = 0, high = size();
    while (low < high) {
        const std::size_t middle = (low + high) / 2;
        if (before(knot(middle)))
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

double EvenScale::place(Time t) const {
    const std::size_t next = first_not([t](const Knot& k) { return k.time <= t; });
    if (next == 0) return 0;
    const Knot from = knot(next - 1);
    if (next == size()) return from.place;
    const Knot to = knot(next);
    return from.place + (to.place - from.place) * static_cast<double>((t - from.time).ps) /
                            static_cast<double>(std::max<std::int64_t>(1, (to.time - from.time).ps));
}

Time EvenScale::time(double place) const {
    const std::size_t next = first_not([place](const Knot& k) { return k.place <= place; });
    if (next == 0) return {};
    const Knot from = knot(next - 1);
    if (next == size()) return from.time;
    const Knot to = knot(next);
    return from.time + Time{static_cast<std::int64_t>((place - from.place) / (to.place - from.place) *
                                                      static_cast<double>((to.time - from.time).ps))};
}

}  // namespace mt
