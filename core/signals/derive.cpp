#include "signals/derive.h"

#include <algorithm>
#include <cmath>
#include <deque>
#include <limits>

#include "base/near_names.h"

namespace mt {
namespace {

using Does = SignalExpression::Does;
constexpr double kUnknown = std::numeric_limits<double>::quiet_NaN();

double truth(bool is) { return is ? 1 : 0; }

// What a number is as bits: whole numbers as in C, in 64 bits; nothing beyond.
std::int64_t bits_of(double v) { return std::fabs(v) < 9.2e18 ? static_cast<std::int64_t>(std::trunc(v)) : 0; }

// What looks back in time. Values hold until the next.
class Window {
  public:
    double rate(double t, double v) {
        const double per_s = t > at_ ? (v - last_) / (t - at_) : kUnknown;
        last_ = v;
        at_ = t;
        return per_s;
    }
    double integral(double t, double v) {
        go_on(t, v);
        return sum_;
    }
    // Over the last `length` seconds, as far as anything is known in them.
    double mean(double t, double v, double length) {
        go_on(t, v);
        held_.push_back({t, v, 0, sum_, known_});
        while (held_.size() > 1 && held_[1].from <= t - length) held_.pop_front();
        const Held& first = held_.front();
        const double late = std::max(0.0, t - length - first.from);  // of the first, so much lies before
        const bool counts = !std::isnan(first.value);
        const double sum = sum_ - first.sum - (counts ? late * first.value : 0),
                     known = known_ - first.known - (counts ? late : 0);
        return known > 0 ? sum / known : v;
    }
    double extreme(double t, double v, double length, bool least) {
        if (!held_.empty()) held_.back().until = t;
        while (!held_.empty() && held_.front().until <= t - length) held_.pop_front();
        if (std::isnan(v)) return kUnknown;
        // What the new value makes needless goes: the rest ascends (descends).
        while (!held_.empty() && (least ? held_.back().value >= v : held_.back().value <= v)) held_.pop_back();
        held_.push_back({t, v, std::numeric_limits<double>::infinity(), 0, 0});
        return held_.front().value;
    }

  private:
    struct Held {
        double from, value, until, sum, known;  ///< seconds; sums up to `from`
    };
    void go_on(double t, double v) {
        if (!std::isnan(last_) && t > at_) {
            sum_ += last_ * (t - at_);
            known_ += t - at_;
        }
        last_ = v;
        at_ = t;
    }
    std::deque<Held> held_;
    double sum_ = 0, known_ = 0;  ///< value times seconds, and seconds in which it is known
    double last_ = kUnknown, at_ = kUnknown;
};

class Evaluation {
  public:
    explicit Evaluation(const SignalExpression& e) : e_(e), values_(e.nodes().size()), windows_(e.windows()) {}

    double at(double t, const std::vector<double>& signals) {
        const auto& nodes = e_.nodes();
        for (std::size_t i = 0; i < nodes.size(); ++i) values_[i] = of(nodes[i], t, signals);
        return values_.back();
    }

  private:
    double of(const SignalExpression::Node& n, double t, const std::vector<double>& signals) {
        const auto v = [&](std::size_t k) { return values_[n.of[k]]; };
        const auto known = [&] {
            for (const std::uint32_t k : n.of)
                if (std::isnan(values_[k])) return false;
            return true;
        };
        switch (n.does) {
            case Does::number: return n.number;
            case Does::signal: return signals[n.signal];
            case Does::negate: return -v(0);
            case Does::is_not: return known() ? truth(v(0) == 0) : kUnknown;
            case Does::complement: return known() ? static_cast<double>(~bits_of(v(0))) : kUnknown;
            case Does::times: return v(0) * v(1);
            case Does::over: return v(1) == 0 ? kUnknown : v(0) / v(1);
            case Does::modulo: return v(1) == 0 ? kUnknown : std::fmod(v(0), v(1));
            case Does::plus: return v(0) + v(1);
            case Does::minus: return v(0) - v(1);
            case Does::left: return shifted(v(0), v(1));
            case Does::right: return shifted(v(0), -v(1));
            case Does::less: return known() ? truth(v(0) < v(1)) : kUnknown;
            case Does::less_equal: return known() ? truth(v(0) <= v(1)) : kUnknown;
            case Does::greater: return known() ? truth(v(0) > v(1)) : kUnknown;
            case Does::greater_equal: return known() ? truth(v(0) >= v(1)) : kUnknown;
            case Does::equal: return known() ? truth(v(0) == v(1)) : kUnknown;
            case Does::not_equal: return known() ? truth(v(0) != v(1)) : kUnknown;
            case Does::bits_and: return known() ? static_cast<double>(bits_of(v(0)) & bits_of(v(1))) : kUnknown;
            case Does::bits_xor: return known() ? static_cast<double>(bits_of(v(0)) ^ bits_of(v(1))) : kUnknown;
            case Does::bits_or: return known() ? static_cast<double>(bits_of(v(0)) | bits_of(v(1))) : kUnknown;
            case Does::both:
                if (v(0) == 0 || v(1) == 0) return 0;
                return known() ? 1 : kUnknown;
            case Does::either:
                if ((!std::isnan(v(0)) && v(0) != 0) || (!std::isnan(v(1)) && v(1) != 0)) return 1;
                return known() ? 0 : kUnknown;
            case Does::choose: return std::isnan(v(0)) ? kUnknown : v(0) != 0 ? v(1) : v(2);
            case Does::absolute: return std::fabs(v(0));
            case Does::root: return v(0) < 0 ? kUnknown : std::sqrt(v(0));
            case Does::floor: return std::floor(v(0));
            case Does::least:
            case Does::greatest: {
                if (!known()) return kUnknown;
                double best = v(0);
                for (std::size_t k = 1; k < n.of.size(); ++k)
                    best = n.does == Does::least ? std::min(best, v(k)) : std::max(best, v(k));
                return best;
            }
            case Does::bit: return known() ? truth(v(1) >= 0 && v(1) < 64 && (bits_of(v(0)) >> bits_of(v(1)) & 1) != 0)
                                           : kUnknown;
            case Does::rate: return windows_[n.window].rate(t, v(0));
            case Does::integral: return windows_[n.window].integral(t, v(0));
            case Does::mean_of_time: return windows_[n.window].mean(t, v(0), v(1));
            case Does::least_of_time: return windows_[n.window].extreme(t, v(0), v(1), true);
            case Does::greatest_of_time: return windows_[n.window].extreme(t, v(0), v(1), false);
        }
        return kUnknown;
    }
    static double shifted(double v, double by) {
        if (std::isnan(v) || std::isnan(by)) return kUnknown;
        const auto n = static_cast<int>(std::clamp(std::trunc(by), -64.0, 64.0));
        const auto bits = static_cast<std::uint64_t>(bits_of(v));
        if (n <= -64) return bits_of(v) < 0 ? -1 : 0;
        if (n >= 64) return 0;
        return static_cast<double>(n >= 0 ? static_cast<std::int64_t>(bits << n) : bits_of(v) >> -n);
    }

    const SignalExpression& e_;
    std::vector<double> values_;
    std::vector<Window> windows_;
};

// The samples of one signal as they are passed.
struct Input {
    const ValueLane& lane;
    std::size_t next = 0, hole = 0;
    double now = kUnknown;

    bool done() const { return next >= lane.samples.size() && hole >= lane.holes.size(); }
    // A hole begins before the sample behind it.
    Time time() const {
        const Time sample = next < lane.samples.size() ? lane.samples.time(next) : Time::max();
        return hole < lane.holes.size() ? std::min(sample, lane.holes[hole].begin) : sample;
    }
    void pass() {
        if (hole < lane.holes.size() && (next >= lane.samples.size() || lane.holes[hole].begin < lane.samples.time(next))) {
            now = kUnknown;
            ++hole;
            return;
        }
        now = lane.known(next) ? lane.value(next).number() : kUnknown;
        ++next;
    }
};

}  // namespace

ValueLane derived_lane(const SignalExpression& expression, const std::vector<const ValueLane*>& of,
                       const Progress* progress) {
    ValueLane out;
    out.core = ValueLane::kNoCore;
    out.sort = ValueSort::real;
    std::vector<Input> inputs;
    for (const ValueLane* lane : of) inputs.push_back({*lane});
    std::vector<double> values(of.size(), kUnknown);
    Evaluation evaluation(expression);
    ValueOrigin origin = measured_origin();
    out.set_usual_origin(origin);
    double before = kUnknown;
    bool any = false;
    for (std::uint64_t n = 0;; ++n) {
        if (n % 65'536 == 0 && progress != nullptr && progress->cancelled()) break;
        Time t = Time::max();
        for (const Input& i : inputs)
            if (!i.done()) t = std::min(t, i.time());
        if (t == Time::max()) break;
        for (std::size_t i = 0; i < inputs.size(); ++i) {
            while (!inputs[i].done() && inputs[i].time() == t) inputs[i].pass();
            values[i] = inputs[i].now;
        }
        const double v = evaluation.at(t.seconds(), values);
        if (any && (v == before || (std::isnan(v) && std::isnan(before)))) continue;
        if (!any && std::isnan(v)) continue;  // nothing yet
        origin.worth = std::isnan(v) ? ValueOrigin::Worth::undefined : ValueOrigin::Worth::known;
        if (std::isnan(v))
            out.append_unknown(t, origin);
        else
            out.append(t, Value::of(v).bits, origin);
        any = true;
        before = v;
    }
    return out;
}

void derive_signals(const TargetFile& target, Trail& trail, const Progress* progress) {
    for (const DerivedSpec& spec : target.derived) {
        const auto doubt = [&](const Problem& p) {
            trail.doubts.push_back({"The derived signal '" + spec.name + "' cannot be made: " + p.what, p.advice});
        };
        const auto expression = SignalExpression::read(spec.expression);
        if (!expression) {
            doubt(expression.error());
            continue;
        }
        std::vector<const ValueLane*> of;
        for (const std::string& name : expression->signals()) {
            std::vector<std::string> known;
            const ValueLane* found = nullptr;
            for (const ValueLane& lane : trail.tasks.values) {
                known.push_back(lane.name);
                if (found == nullptr && lane.name == name) found = &lane;
            }
            if (found == nullptr) {
                doubt({"no value is called '" + name + "'", "", near_names_text(name, known, "the recording holds none")});
                break;
            }
            of.push_back(found);
        }
        if (of.size() < expression->signals().size()) continue;
        ValueLane lane = derived_lane(*expression, of, progress);
        lane.id = static_cast<std::uint32_t>(kBesideNumbers + trail.tasks.values.size());
        lane.name = spec.name;
        lane.unit = spec.unit;
        lane.source = "derived";
        trail.tasks.values.push_back(std::move(lane));
    }
}

}  // namespace mt
