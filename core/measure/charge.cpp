#include "measure/charge.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <utility>

namespace mt {
namespace {

double scale_of(std::string_view unit, char base) {
    if (unit.empty() || unit.back() != base) return 0;
    unit.remove_suffix(1);
    if (unit.empty()) return 1;
    if (unit == "m") return 1e-3;
    if (unit == "u" || unit == "µ" || unit == "μ") return 1e-6;
    if (unit == "n") return 1e-9;
    if (unit == "p") return 1e-12;
    return unit == "k" ? 1e3 : 0;
}

// Its instances in the order of time: jobs, executions; those that have an end.
struct Instances {
    std::size_t size = 0;
    std::function<Time(std::size_t)> begin, end;
    std::function<bool(std::size_t)> whole;
};
Instances instances_of(const Trail& trail, const Owner& o) {
    if (o.sort == Owner::task) {
        const auto& jobs = trail.tasks.tasks[o.index].jobs;
        return {jobs.size(), [&jobs](std::size_t i) { return jobs[i].start; },
                [&jobs](std::size_t i) { return jobs[i].end; }, [&jobs](std::size_t i) { return jobs[i].whole(); }};
    }
    if (o.sort == Owner::interrupt) {
        const ExceptionLane& lane = trail.cores[o.core].lanes[o.index];
        return {lane.size(), [&lane](std::size_t i) { return lane.begin(i); },
                [&lane](std::size_t i) { return lane.end(i); }, [&lane](std::size_t i) { return lane.whole(i); }};
    }
    return {};
}

// The sums of one owner.
struct Gathered {
    Time ran;
    double charge = 0, known_s = 0, energy = 0;
    std::uint64_t count = 0;
    double greatest = 0;
    std::size_t greatest_of = 0;
    // The instance that it is in.
    Instances instances;
    bool asked = false;
    std::size_t at = 0;
    double of_one = 0;
    Time ran_of_one;
    // Of functions: bounds of the charge, and up to where the wider one has been counted.
    double low = 0, high = 0;
    Time wide_end = Time::min();
};

// Each instance as it is done.
using EachInstance = std::function<void(const Owner&, std::size_t instance, double charge, Time ran)>;

// What flowed in a stretch, as far as it is known.
using Over = std::function<Integral::Sum(Time from, Time to)>;
// Each with cursors of its own: stretches come in the order of time.
using MakeOver = std::function<Over()>;

// As it was measured, with the lane so much later.
MakeOver measured(const Integral& whole, Time shift) {
    return [&whole, shift]() -> Over {
        return [integral = std::make_shared<Integral>(whole), shift](Time from, Time to) {
            return integral->over(from + shift, to + shift);
        };
    };
}

class Gatherer {
  public:
    Gatherer(const Trail& trail, Over over, EachInstance each = {})
        : trail_(trail), over_(std::move(over)), each_(std::move(each)) {}

    void add(const Owner& o, Time from, Time to) {
        if (trail_.gaps.touch(static_cast<std::uint16_t>(o.core), from, to)) return;
        const Integral::Sum q = over_(from, to);
        if (q.known_s <= 0) return;
        Gathered& g = all[o];
        g.ran += to - from;
        g.charge += q.value;
        g.known_s += q.known_s;
        if (!each_) return;
        if (!std::exchange(g.asked, true)) g.instances = instances_of(trail_, o);
        while (g.at < g.instances.size && g.instances.end(g.at) <= from) finish(o, g);
        g.of_one += q.value;
        g.ran_of_one += to - from;
    }
    void finish_all() {
        for (auto& [owner, g] : all)
            while (g.at < g.instances.size && (g.of_one != 0 || g.ran_of_one > Time{})) finish(owner, g);
    }
    std::map<Owner, Gathered> all;

  private:
    void finish(const Owner& o, Gathered& g) {
        if (g.instances.whole(g.at) && g.ran_of_one > Time{}) {
            ++g.count;
            if (g.of_one > g.greatest) {
                g.greatest = g.of_one;
                g.greatest_of = g.at;
            }
            each_(o, g.at, g.of_one, g.ran_of_one);
        }
        g.of_one = 0;
        g.ran_of_one = {};
        ++g.at;
    }

    const Trail& trail_;
    Over over_;
    EachInstance each_;
};

// Of each function what it drew without what it called: a call's, less those right below it. Where a call lies is sure
// up to `reach`: at the least it drew what flowed that far inside of it, less what flowed in its callees and that far
// around them; at the most what flowed in it and that far around it, each moment counted once, less what flowed that
// far inside its callees. Currents are taken to be positive.
void gather_functions(const Trail& trail, const MakeOver& make, Time reach, std::map<Owner, Gathered>& all,
                      const Progress* progress) {
    for (std::size_t s = 0; s < trail.steps.size(); ++s) {
        const StepTrail& steps = trail.steps[s];
        if (steps.clock == StepClock::none) continue;
        const auto core = static_cast<std::uint16_t>(steps.core_index);
        const auto owner = [&](std::uint32_t function) {
            return Owner{Owner::function, steps.core_index, s << 32 | function};
        };
        for (std::size_t level = 0; level < steps.levels.size(); ++level) {
            const Over over = make(), around = make(), inside = make();
            const CallLevel& here = steps.levels[level];
            std::size_t parent = 0;
            const CallLevel* below = level + 1 < steps.levels.size() ? &steps.levels[level + 1] : nullptr;
            const Over around_callee = make(), inside_callee = make();
            std::size_t callee = 0;
            const auto within = [reach](const Over& of, Time begin, Time end) {
                return end - begin > reach + reach ? std::max(0.0, of(begin + reach, end - reach).value) : 0.0;
            };
            for (std::size_t i = 0; i < here.size(); ++i) {
                if (i % 4096 == 0 && progress != nullptr && progress->cancelled()) return;
                const CallSpan call = here[i];
                const bool counts = call.whole() && !trail.gaps.touch(core, call.begin, call.end());
                const Integral::Sum q = over(call.begin, call.end());
                if (counts && q.known_s > 0) {
                    Gathered& g = all[owner(call.function)];
                    g.charge += q.value;
                    g.known_s += q.known_s;
                    g.ran += call.length;
                    ++g.count;
                    double callees_most = 0, callees_least = 0;
                    while (below != nullptr && callee < below->size() && (*below)[callee].begin < call.begin) ++callee;
                    for (Time counted = call.begin; below != nullptr && callee < below->size(); ++callee) {
                        const CallSpan inner = (*below)[callee];
                        if (inner.begin >= call.end()) break;
                        const Time from = std::max(counted, inner.begin - reach), to = std::min(call.end(), inner.end() + reach);
                        if (from < to) callees_most += std::max(0.0, around_callee(from, to).value);
                        counted = std::max(counted, to);
                        callees_least += within(inside_callee, inner.begin, inner.end());
                    }
                    const Time from = std::max(g.wide_end, call.begin - reach), to = call.end() + reach;
                    if (from < to) g.high += std::max(0.0, around(from, to).value - callees_least);
                    g.wide_end = std::max(g.wide_end, to);
                    g.low += std::max(0.0, within(inside, call.begin, call.end()) - callees_most);
                }
                if (level == 0) continue;
                const CallLevel& above = steps.levels[level - 1];
                while (parent < above.size() && above[parent].end() < call.end()) ++parent;
                if (parent >= above.size() || call.begin < above[parent].begin) continue;
                const CallSpan caller = above[parent];
                if (!caller.whole() || trail.gaps.touch(core, caller.begin, caller.end())) continue;
                if (const auto found = all.find(owner(caller.function)); found != all.end()) {
                    found->second.charge -= q.value;
                    found->second.known_s -= q.known_s;
                    found->second.ran = found->second.ran - call.length;
                }
            }
        }
    }
}

// `functions`: with the instances and the functions, whose calls are many; their times are sure up to that.
std::map<Owner, Gathered> gathered(const Trail& trail, const MakeOver& make, std::optional<Time> functions,
                                   const Progress* progress) {
    const bool instances = functions.has_value();
    std::map<Owner, Gathered> all;
    for (std::size_t c = 0; c < trail.cores.size(); ++c) {
        if (!trail.cores[c].timed) continue;
        Gatherer g(trail, make(), instances ? EachInstance([](auto&&...) {}) : EachInstance());
        std::uint64_t n = 0;
        each_own_stretch(trail, c, [&](const Owner& o, Time from, Time to) {
            g.add(o, from, to);
            return ++n % 4096 != 0 || progress == nullptr || !progress->cancelled();
        });
        g.finish_all();
        for (auto& [owner, sums] : g.all) all.insert_or_assign(owner, std::move(sums));
    }
    if (functions) gather_functions(trail, make, *functions, all, progress);
    return all;
}

// The mean current of each owner by least squares: how the current of short stretches of time goes with the shares that
// each owner has of them. A slow input smears what is shorter than a few samples over its surroundings; over stretches
// that are long against that nothing is lost. Its error by leaving out one tenth of the recording after another.
struct Fitted {
    double mean = 0, error = 0;  ///< in the lane's unit; standard error
};

class ShareFit {
  public:
    ShareFit(const Trail& trail, const ValueLane& lane, const Integral& whole, std::size_t core)
        : trail_(trail), integral_(whole), core_(core) {
        const std::size_t n = lane.samples.size();
        const Time span = lane.samples.time(n - 1) - lane.samples.time(0);
        width_ = Time{std::max<std::int64_t>(1, span.ps / static_cast<std::int64_t>(n - 1) * kSamples)};
        first_ = lane.samples.time(0);
        bins_ = static_cast<std::uint64_t>(span.ps / width_.ps) + 1;
    }
    void add(const Owner& o, Time from, Time to) {
        from = std::max(from, first_);
        while (from < to) {
            const auto bin = static_cast<std::uint64_t>((from - first_).ps / width_.ps);
            if (bin != bin_) finish();
            bin_ = bin;
            const Time end = std::min(to, first_ + Time{static_cast<std::int64_t>(bin + 1) * width_.ps});
            std::size_t k = 0;
            while (k < owners_.size() && !(owners_[k] == o)) ++k;
            if (k == owners_.size()) {
                if (owners_.size() >= kMostOwners) return;
                owners_.push_back(o);
                shares_.push_back(0);
            }
            shares_[k] += (end - from).seconds();
            from = end;
        }
    }
    std::map<Owner, Fitted> fit() {
        finish();
        const auto whole = solved(kParts);
        std::map<Owner, Fitted> all;
        if (whole.empty()) return all;
        std::vector<double> squares(owners_.size());
        for (std::size_t part = 0; part < kParts; ++part) {
            const auto without = solved(part);
            if (without.empty()) return all;
            for (std::size_t k = 0; k < owners_.size(); ++k) squares[k] += (without[k] - whole[k]) * (without[k] - whole[k]);
        }
        for (std::size_t k = 0; k < owners_.size(); ++k)
            all[owners_[k]] = {whole[k], std::sqrt(squares[k] * (kParts - 1) / kParts)};
        return all;
    }

  private:
    static constexpr std::int64_t kSamples = 12;
    static constexpr std::size_t kMostOwners = 64, kParts = 10;
    struct Sums {
        std::vector<double> squares, products;  ///< kMostOwners × kMostOwners, kMostOwners
    };

    void finish() {
        const Time from = first_ + Time{static_cast<std::int64_t>(bin_) * width_.ps};
        double known = 0;
        for (const double s : shares_) known += s;
        if (known > 0.98 * width_.seconds() && !trail_.gaps.touch(static_cast<std::uint16_t>(core_), from, from + width_)) {
            const Integral::Sum q = integral_.over(from, from + width_);
            if (q.known_s > 0.98 * width_.seconds()) {
                Sums& sums = parts_[std::min<std::size_t>(kParts - 1, bin_ * kParts / bins_)];
                if (sums.squares.empty()) {
                    sums.squares.resize(kMostOwners * kMostOwners);
                    sums.products.resize(kMostOwners);
                }
                for (std::size_t a = 0; a < shares_.size(); ++a) {
                    if (shares_[a] == 0) continue;
                    sums.products[a] += shares_[a] / known * q.value / q.known_s;
                    for (std::size_t b = 0; b < shares_.size(); ++b)
                        sums.squares[a * kMostOwners + b] += shares_[a] / known * shares_[b] / known;
                }
            }
        }
        std::fill(shares_.begin(), shares_.end(), 0.0);
    }
    // Without one part; kParts: with all. Empty where nothing can be told.
    std::vector<double> solved(std::size_t without) const {
        const std::size_t n = owners_.size();
        std::vector<double> m(n * (n + 1));
        for (std::size_t part = 0; part < kParts; ++part) {
            if (part == without || parts_[part].squares.empty()) continue;
            for (std::size_t a = 0; a < n; ++a) {
                for (std::size_t b = 0; b < n; ++b) m[a * (n + 1) + b] += parts_[part].squares[a * kMostOwners + b];
                m[a * (n + 1) + n] += parts_[part].products[a];
            }
        }
        for (std::size_t k = 0; k < n; ++k) {
            std::size_t pivot = k;
            for (std::size_t r = k + 1; r < n; ++r)
                if (std::fabs(m[r * (n + 1) + k]) > std::fabs(m[pivot * (n + 1) + k])) pivot = r;
            if (std::fabs(m[pivot * (n + 1) + k]) < 1e-12) {  // its share goes with others': nothing can be told of it
                m[k * (n + 1) + k] += 1;
                pivot = k;
            }
            for (std::size_t c = 0; c <= n && pivot != k; ++c) std::swap(m[k * (n + 1) + c], m[pivot * (n + 1) + c]);
            for (std::size_t r = 0; r < n; ++r) {
                if (r == k) continue;
                const double by = m[r * (n + 1) + k] / m[k * (n + 1) + k];
                for (std::size_t c = k; c <= n && by != 0; ++c) m[r * (n + 1) + c] -= by * m[k * (n + 1) + c];
            }
        }
        std::vector<double> means(n);
        for (std::size_t k = 0; k < n; ++k) {
            means[k] = m[k * (n + 1) + n] / m[k * (n + 1) + k];
            if (!std::isfinite(means[k])) return {};
        }
        return means;
    }

    const Trail& trail_;
    Integral integral_;
    std::size_t core_;
    Time width_, first_;
    std::uint64_t bins_ = 1, bin_ = 0;
    std::vector<Owner> owners_;
    std::vector<double> shares_;  ///< seconds in this bin
    std::array<Sums, kParts> parts_;
};

std::map<Owner, Fitted> fitted(const Trail& trail, const ValueLane& lane, const Integral& whole,
                               const Progress* progress) {
    std::map<Owner, Fitted> all;
    for (std::size_t c = 0; c < trail.cores.size(); ++c) {
        if (!trail.cores[c].timed) continue;
        ShareFit fit(trail, lane, whole, c);
        std::uint64_t n = 0;
        each_own_stretch(trail, c, [&](const Owner& o, Time from, Time to) {
            fit.add(o, from, to);
            return ++n % 4096 != 0 || progress == nullptr || !progress->cancelled();
        });
        for (const auto& [owner, mean] : fit.fit()) all[owner] = mean;
    }
    return all;
}

}  // namespace

double amperes_of(std::string_view unit) { return scale_of(unit, 'A'); }
double volts_of(std::string_view unit) { return scale_of(unit, 'V'); }

Integral::Integral(const ValueLane& lane) : lane_(lane) {
    const std::size_t n = lane.samples.size();
    auto before = std::make_shared<std::vector<Sum>>();
    before->reserve(n / kEach + 1);
    Sum sum;
    ValueSample here = n > 0 ? lane.samples[0] : ValueSample{};
    for (std::size_t i = 0; i < n; ++i) {
        if (i % kEach == 0) before->push_back(sum);
        if (i + 1 == n) break;
        const ValueSample next = lane.samples[i + 1];
        const Sum p = piece(i, here, next, next.time);
        sum.value += p.value;
        sum.known_s += p.known_s;
        here = next;
    }
    before_ = std::move(before);
}

Integral::Sum Integral::piece(std::size_t i, const ValueSample& s, const ValueSample& next, Time to) const {
    const Time end = lane_.holes.empty() ? to : std::min(to, lane_.holds_until(i, to));
    if (!(s.time < end) || !lane_.known(i)) return {};
    const double length = (end - s.time).seconds(), v = lane_.value_of(s.bits).number();
    if (std::isnan(v)) return {};
    if (!lane_.samples.even() || !(s.time < next.time)) return {v * length, length};
    const double w = lane_.value_of(next.bits).number(), whole = (next.time - s.time).seconds();
    if (std::isnan(w) || whole > 2e-12 * static_cast<double>(lane_.samples.period_ps())) return {v * length, length};
    return {(v + (w - v) * length / whole / 2) * length, length};
}

ValueSample Integral::behind(std::size_t i) const {
    return lane_.samples[std::min(i + 1, lane_.samples.size() - 1)];
}

void Integral::place(std::size_t i, const Sum& up_to) {
    at_ = i;
    at_sum_ = up_to;
    here_ = lane_.samples[i];
    next_ = behind(i);
    placed_ = true;
}

// Behind the last sample an even lane tells nothing: nobody knows whether it went on.
Integral::Sum Integral::until(Time t) {
    if (t == asked_) return answer_;
    const std::size_t n = lane_.samples.size();
    if (n == 0 || t <= lane_.samples.time(0)) return {};
    const std::size_t far = at_ + 3 * kEach;
    if (!placed_ || t < here_.time || (far < n && lane_.samples.time(far) <= t)) {
        const std::size_t at = lane_.at(t) / kEach * kEach;
        place(at, (*before_)[at / kEach]);
    }
    while (at_ + 1 < n && next_.time <= t) {
        const Sum p = piece(at_, here_, next_, next_.time);
        at_sum_.value += p.value;
        at_sum_.known_s += p.known_s;
        here_ = next_;
        next_ = behind(++at_);
    }
    asked_ = t;
    answer_ = at_sum_;
    if (at_ + 1 >= n && lane_.samples.even()) return answer_;
    const Sum rest = piece(at_, here_, next_, t);
    answer_.value += rest.value;
    answer_.known_s += rest.known_s;
    return answer_;
}

Time reach_of(const Trail& trail, const ValueLane& lane) {
    double ns = 0;
    for (const LaidSignals& laid : trail.beside)
        if (laid.name == lane.source) ns = std::max(ns, laid.uncertainty_ns);
    const std::size_t n = lane.samples.size();
    Time sample;
    if (lane.samples.even())
        sample = Time{static_cast<std::int64_t>(lane.samples.period_ps())};
    else if (n > 1)
        sample = Time{(lane.samples.time(n - 1) - lane.samples.time(0)).ps / static_cast<std::int64_t>(n - 1)};
    return Time::from_ns(ns) + sample;
}

std::vector<ChargeRow> charge_rows(const Trail& trail, const ValueLane& current, const ValueLane* voltage,
                                   const Progress* progress) {
    const double amperes = amperes_of(current.unit);
    if (amperes == 0 || current.samples.size() < 2) return {};
    const Time reach = reach_of(trail, current);
    const Integral whole(current);
    const auto sums = gathered(trail, measured(whole, {}), reach, progress);
    const std::map<Owner, Gathered> others[] = {gathered(trail, measured(whole, Time{} - reach), {}, progress),
                                                gathered(trail, measured(whole, reach), {}, progress)};
    const std::map<Owner, Fitted> by_shares = fitted(trail, current, whole, progress);
    std::map<Owner, Gathered> volts;
    if (voltage != nullptr) {
        const Integral of_voltage(*voltage);
        volts = gathered(trail, measured(of_voltage, {}), Time{}, progress);
    }
    if (progress != nullptr && progress->cancelled()) return {};
    std::vector<ChargeRow> rows;
    for (const auto& [o, g] : sums) {
        ChargeRow row;
        row.owner = o;
        row.name = owner_name(trail, o);
        row.ran = g.ran;
        row.count = g.count;
        row.charge = g.charge * amperes;
        row.low = row.high = row.charge;
        for (const auto& other : others)
            if (const auto found = other.find(o); found != other.end()) {
                row.low = std::min(row.low, found->second.charge * amperes);
                row.high = std::max(row.high, found->second.charge * amperes);
            }
        if (const auto fit = by_shares.find(o); fit != by_shares.end()) {
            constexpr double kErrors = 2;
            const double by = g.ran.seconds() * amperes;
            row.low = std::min(row.low, std::max(0.0, (fit->second.mean - kErrors * fit->second.error) * by));
            row.high = std::max(row.high, (fit->second.mean + kErrors * fit->second.error) * by);
        }
        if (o.sort == Owner::function) {
            row.low = std::clamp(g.low * amperes, 0.0, std::max(0.0, row.charge));
            row.high = std::max(g.high * amperes, row.charge);
        }
        if (const auto v = volts.find(o); v != volts.end() && v->second.known_s > 0)
            row.energy = row.charge * v->second.charge / v->second.known_s * volts_of(voltage->unit);
        row.greatest = g.greatest * amperes;
        if (g.count > 0 && g.instances.size > g.greatest_of) row.greatest_at = g.instances.begin(g.greatest_of);
        rows.push_back(std::move(row));
    }
    return rows;
}

std::vector<Drawn> drawn_by(const Trail& trail, const ValueLane& current, const ChargeRow& row,
                            const Progress* progress) {
    std::vector<Drawn> all;
    const double amperes = amperes_of(current.unit);
    if (row.owner.sort != Owner::task && row.owner.sort != Owner::interrupt) return all;
    Instances instances;
    const Integral whole(current);
    Gatherer g(trail, measured(whole, {})(), [&](const Owner& o, std::size_t i, double charge, Time ran) {
        if (instances.size == 0) instances = instances_of(trail, o);
        all.push_back({SpanRef{activity_of(o), 0, i}, instances.begin(i), instances.end(i), ran, charge * amperes});
    });
    std::uint64_t n = 0;
    each_own_stretch(trail, row.owner.core, [&](const Owner& o, Time from, Time to) {
        if (o == row.owner) g.add(o, from, to);
        return ++n % 4096 != 0 || progress == nullptr || !progress->cancelled();
    });
    g.finish_all();
    return all;
}

}  // namespace mt
