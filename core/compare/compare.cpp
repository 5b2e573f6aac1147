#include "compare/compare.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <set>

#include "compare/causes.h"

namespace mt {
namespace {

constexpr double kShareThatCounts = 0.2;  ///< of a difference: what explains so much of it is named

struct Paired {
    const Quantity* before = nullptr;
    const Quantity* after = nullptr;
    const Quantity& any() const { return before != nullptr ? *before : *after; }
};

double mean_of(const Measurements& s) {
    return s.size() == 0 ? 0 : std::accumulate(s.value.begin(), s.value.end(), 0.0) / static_cast<double>(s.size());
}

class Comparing {
  public:
    Comparing(const Trail& before, const Trail& after, const ChanceSettings& settings, const Progress* progress)
        : before_(before),
          after_(after),
          settings_(settings),
          progress_(progress),
          was_(quantities_of(before, progress)),
          is_(quantities_of(after, progress)) {}

    Comparison go() {
        pair();
        std::vector<QuantityPair> pairs;
        for (const Paired& p : paired_) {
            QuantityPair q;
            if (p.before != nullptr) q.before = p.before->samples;
            if (p.after != nullptr) q.after = p.after->samples;
            q.resolution = p.any().resolution;
            q.rate = p.any().rate;
            q.mean_only = p.any().mean_only;
            pairs.push_back(std::move(q));
        }
        const ChanceResult chance =
            compare_quantities(pairs, extent_of(before_), extent_of(after_), settings_, progress_);
        out_.level = settings_.level;
        out_.block = chance.block;
        out_.too_short = chance.too_short;
        if (progress_ != nullptr && progress_->cancelled()) return std::move(out_);
        sort_out(chance);
        priorities();
        for (std::size_t i = 0; i < out_.changes.size(); ++i) find_role(i);
        for (OneSided& o : out_.appeared) find_role(o);
        put_in_order();
        return std::move(out_);
    }

  private:
    void pair() {
        for (const Quantity& q : was_) {
            const auto same = std::find_if(is_.begin(), is_.end(), [&](const Quantity& o) { return q.same(o); });
            paired_.push_back({&q, same == is_.end() ? nullptr : &*same});
        }
        for (const Quantity& q : is_)
            if (std::none_of(was_.begin(), was_.end(), [&](const Quantity& o) { return q.same(o); }))
                paired_.push_back({nullptr, &q});
    }
    // Whether one of the two has the activity at all.
    static bool has(const std::vector<Quantity>& all, const Quantity& q) {
        return std::any_of(all.begin(), all.end(), [&](const Quantity& o) {
            return o.kind == q.kind && o.activity == q.activity && o.core == q.core && o.samples.size() > 0;
        });
    }

    bool rate_compared(const Quantity& q) const {
        return std::any_of(paired_.begin(), paired_.end(), [&](const Paired& p) {
            const Quantity& o = p.any();
            return o.rate && o.kind == q.kind && o.activity == q.activity && o.core == q.core;
        });
    }
    // Whether one recording has a core's interrupts from its hardware, the other from an operating system.
    bool otherwise_told(const std::string& core) const {
        const auto system = [&](const Trail& trail) {
            const auto at = std::find_if(trail.cores.begin(), trail.cores.end(), [&](const CoreTrail& c) { return c.name == core; });
            return at != trail.cores.end() && at->system_lanes;
        };
        return system(before_) != system(after_);
    }
    // Whether a recording tells of such activities at all: an operating system's, or those of a core.
    static bool told(const std::vector<Quantity>& all, const Quantity& q) {
        const bool by_core = q.kind == "interrupt" || q.kind == "function";
        return std::any_of(all.begin(), all.end(), [&](const Quantity& o) {
            return by_core ? o.kind == q.kind && o.core == q.core : o.kind == "task" || o.kind == q.kind;
        });
    }

    void sort_out(const ChanceResult& chance) {
        std::set<std::string> named;
        for (std::size_t p = 0; p < paired_.size(); ++p) {
            const Paired& pair = paired_[p];
            const Quantity& q = pair.any();
            std::vector<Compared> figures;
            for (const Compared& c : chance.all)
                if (c.quantity == p) figures.push_back(c);
            const Compared* best = telling(figures);
            const std::size_t n_before = pair.before != nullptr ? pair.before->samples.size() : 0,
                              n_after = pair.after != nullptr ? pair.after->samples.size() : 0;
            if (!told(was_, q) || !told(is_, q)) {
                out_.not_told.insert(q.kind + (q.core.empty() ? "" : "s of " + q.core));
                continue;  // the other recording does not tell of such things
            }
            if (q.kind != "resource" && (!has(was_, q) || !has(is_, q))) {
                // Not there at all before, or after; unless other means told of interrupts then.
                if (q.kind == "interrupt" && otherwise_told(q.core)) {
                    out_.not_told.insert("some interrupts of " + q.core);
                    continue;
                }
                // What comes in bursts may be on one side alone by chance: that its rate is another tells more than how
                // often it came.
                if (best == nullptr && ((rate_compared(q) && !chance.too_short) || !surely_new(n_before, n_after))) continue;
                const bool appeared = !has(was_, q);
                if (named.insert(q.kind + "/" + q.core + "/" + q.activity).second) {
                    OneSided o{q.kind, q.activity, q.core, appeared ? n_after : n_before, 0, Change::Role::cause, {}, q.lane};
                    for (const Quantity& all : appeared ? is_ : was_)
                        if (all.kind == q.kind && all.activity == q.activity && all.core == q.core)
                            o.count = std::max<std::uint64_t>(o.count, all.samples.size());
                    o.rate = static_cast<double>(o.count) /
                             ((appeared ? after_.end : before_.end) - Time{}).seconds();
                    (appeared ? out_.appeared : out_.vanished).push_back(std::move(o));
                }
                // Of a lock that is new also that it is held and waited for.
                if (q.kind != "lock" || best == nullptr) continue;
            }
            if (best == nullptr) {
                if (pair.before != nullptr && pair.after != nullptr)
                    out_.unchanged.push_back({q.kind, q.activity, q.core, q.what, mean_of(pair.before->samples),
                                              mean_of(pair.after->samples), q.in_time});
                continue;
            }
            Change c;
            c.kind = q.kind;
            c.activity = q.activity;
            c.core = q.core;
            c.quantity = best->statistic == Statistic::rate && q.what == "period" ? "rate" : q.what;
            c.statistic = best->statistic;
            c.before = best->before;
            c.after = best->after;
            c.chance = best->chance;
            c.strength = best->strength;
            c.in_time = q.in_time && best->statistic != Statistic::rate;
            c.figures = std::move(figures);
            if (pair.before != nullptr) c.lane_before = pair.before->lane;
            if (pair.after != nullptr) c.lane_after = pair.after->lane;
            c.direction = direction_of(c);
            out_.changes.push_back(std::move(c));
            indices_.push_back(p);
        }
    }
    // The statistic that shows best what changed: the strongest, but the mean where it shows it nearly as well; how the
    // values spread only if nothing else differs.
    static const Compared* telling(const std::vector<Compared>& figures) {
        const Compared *best = nullptr, *mean = nullptr, *spread = nullptr;
        for (const Compared& c : figures) {
            if (!c.beyond) continue;
            if (c.statistic == Statistic::spread) {
                spread = &c;
                continue;
            }
            if (c.statistic == Statistic::mean) mean = &c;
            if (best == nullptr || c.strength > best->strength) best = &c;
        }
        if (best == nullptr) return spread;
        return mean != nullptr && mean->strength >= best->strength / 2 ? mean : best;
    }
    // Without blocks to compare: so many on one side, and none on the other, is no chance.
    bool surely_new(std::size_t n_before, std::size_t n_after) const {
        const double a = before_.end.seconds(), b = after_.end.seconds();
        if (a <= 0 || b <= 0) return false;
        // As many events as there are, all on one side: (its share of the time) to the power of their number.
        const double share = n_before > 0 ? a / (a + b) : b / (a + b);
        return std::pow(share, static_cast<double>(n_before + n_after)) < settings_.level / 1000;
    }
    static Change::Direction direction_of(const Change& c) {
        const bool more = c.after > c.before;
        const auto costs = [more] { return more ? Change::Direction::worse : Change::Direction::better; };
        if (c.statistic == Statistic::rate)
            return c.quantity == "wait" || c.quantity == "overlap" ? costs() : Change::Direction::neutral;
        if (c.quantity == "period" || c.quantity == "rate")
            return c.statistic == Statistic::spread ? costs() : Change::Direction::neutral;
        return costs();
    }

    void priorities() {
        for (const TaskLane& was : before_.tasks.tasks) {
            const auto is = std::find_if(after_.tasks.tasks.begin(), after_.tasks.tasks.end(),
                                         [&](const TaskLane& t) { return t.name == was.name; });
            if (is == after_.tasks.tasks.end() || was.idle) continue;
            Change c;
            c.kind = "task";
            c.activity = was.name;
            c.in_time = false;
            c.chance = 0;
            c.strength = 100;
            if (was.priority_known && is->priority_known && was.priority != is->priority) {
                c.quantity = "priority";
                c.before = was.priority;
                c.after = is->priority;
                out_.changes.push_back(c);
                indices_.push_back(paired_.size());
            }
            if (was.core != is->core && !was.migrates && !is->migrates && was.core < before_.cores.size() &&
                is->core < after_.cores.size() && before_.cores.size() == after_.cores.size()) {
                c.quantity = "core";
                c.before = was.core;
                c.after = is->core;
                out_.changes.push_back(c);
                indices_.push_back(paired_.size());
            }
        }
    }

    const Change* change_of(const std::string& kind, const std::string& activity, const std::string& quantity) const {
        for (const Change& c : out_.changes)
            if (c.kind == kind && c.activity == activity && c.quantity == quantity) return &c;
        return nullptr;
    }
    const OneSided* one_sided(const std::string& activity) const {
        for (const auto* list : {&out_.appeared, &out_.vanished})
            for (const OneSided& o : *list)
                if (o.activity == activity) return &o;
        return nullptr;
    }
    // What of another task can make one wait for it: more work, more of it, or another priority.
    void blame_task(const std::string& task, std::vector<std::string>& because) const {
        for (const char* quantity : {"running", "rate", "period", "priority"})
            if (const Change* c = change_of("task", task, quantity)) {
                because.push_back(c->name());
                return;
            }
        if (const OneSided* o = one_sided(task)) {
            because.push_back(o->activity);
            return;
        }
        // It does no more than before, but it gets the core for a lock that others wait for.
        for (const Change& c : out_.changes) {
            if (c.kind != "lock") continue;
            for (const LockLane& lock : after_.tasks.locks) {
                if (lock.name != c.activity) continue;
                for (std::size_t i = 0; i < lock.holds.size(); ++i)
                    if (after_.tasks.task_name(lock.holds[i].task) == task) {
                        because.push_back(c.name());
                        break;
                    }
            }
        }
    }
    void blame_lock(const std::string& lock, std::vector<std::string>& because) const {
        if (const Change* c = change_of("lock", lock, "hold")) {
            because.push_back(c->name());
            return;
        }
        if (const OneSided* o = one_sided(lock)) because.push_back(o->activity);
    }
    void blame_interrupts(std::vector<std::string>& because) const {
        for (const Change& c : out_.changes)
            if (c.kind == "interrupt" && c.direction != Change::Direction::better && c.quantity != "period")
                because.push_back(c.name());
        for (const auto* list : {&out_.appeared, &out_.vanished})
            for (const OneSided& o : *list)
                if (o.kind == "interrupt") because.push_back(o.activity);
    }

    // Names what explains a good part of the difference between two sums of parts.
    void blame_parts(const TimeParts& was, const TimeParts& is, const std::string& self, bool own_too,
                     std::vector<std::string>& because) const {
        struct Part {
            double difference;
            enum What { own, interrupts, task, lock, data } what;
            std::string name;
        };
        std::vector<Part> parts;
        const bool more = total(is) >= total(was);
        const auto add = [&](double a, double b, auto what, const std::string& name) {
            const double difference = more ? b - a : a - b;
            if (difference > 0) parts.push_back({difference, what, name});
        };
        add(was.own, is.own, Part::own, self);
        add(was.interrupts, is.interrupts, Part::interrupts, "");
        add(was.data, is.data, Part::data, "");
        const auto both = [&](const std::map<std::string, double>& a, const std::map<std::string, double>& b, auto what) {
            std::set<std::string> names;
            for (const auto& [name, t] : a) names.insert(name);
            for (const auto& [name, t] : b) names.insert(name);
            for (const std::string& name : names) {
                const auto x = a.find(name), y = b.find(name);
                add(x == a.end() ? 0 : x->second, y == b.end() ? 0 : y->second, what, name);
            }
        };
        both(was.tasks, is.tasks, Part::task);
        both(was.locks, is.locks, Part::lock);
        double sum = 0;
        for (const Part& p : parts) sum += p.difference;
        std::sort(parts.begin(), parts.end(), [](const Part& a, const Part& b) { return a.difference > b.difference; });
        for (const Part& p : parts) {
            if (p.difference < kShareThatCounts * sum) break;
            if (p.what == Part::own && own_too)
                blame_task(p.name, because);
            else if (p.what == Part::task)
                blame_task(p.name, because);
            else if (p.what == Part::lock)
                blame_lock(p.name, because);
            else if (p.what == Part::interrupts)
                blame_interrupts(because);
        }
    }
    static double total(const TimeParts& p) {
        double sum = p.own + p.interrupts + p.data + p.kernel;
        for (const auto& [name, t] : p.tasks) sum += t;
        for (const auto& [name, t] : p.locks) sum += t;
        return sum;
    }

    void find_role(std::size_t i) {
        Change& c = out_.changes[i];
        std::vector<std::string> because;
        bool effect = false;
        const Paired* pair = indices_[i] < paired_.size() ? &paired_[indices_[i]] : nullptr;
        if (pair != nullptr && c.kind == "task" && c.quantity == "response" && pair->before && pair->after) {
            blame_parts(parts_of_jobs(before_, pair->before->index, c.statistic),
                        parts_of_jobs(after_, pair->after->index, c.statistic), c.activity, true, because);
            effect = true;
        } else if (pair != nullptr && c.kind == "lock" && c.quantity == "wait") {
            blame_lock(c.activity, because);
            if (because.empty()) blame_holders(c, because);
            effect = true;
        } else if (pair != nullptr && c.kind == "lock" && c.quantity == "hold") {
            hold(c, *pair, because, effect);
        } else if (c.kind == "core") {
            for (const Change& other : out_.changes)
                if (other.quantity == "running" || (other.kind == "interrupt" && other.quantity == "duration"))
                    because.push_back(other.name());
            for (const auto* list : {&out_.appeared, &out_.vanished})
                for (const OneSided& o : *list)
                    if (o.kind == "task" || o.kind == "interrupt") because.push_back(o.activity);
            effect = true;
        } else if (c.kind == "queue") {
            for (const Change& other : out_.changes)
                if (other.kind == "task" && (other.quantity == "response" || other.quantity == "rate"))
                    because.push_back(other.name());
            effect = !because.empty();
        } else if (pair != nullptr && (c.quantity == "period" || c.quantity == "rate") && c.kind == "task" &&
                   pair->after != nullptr) {
            // What makes it ready comes otherwise; or it is only pushed about.
            const std::string who = released_by(after_, pair->after->index);
            for (const char* quantity : {"rate", "period"})
                for (const char* kind : {"interrupt", "task"})
                    if (const Change* other = change_of(kind, who, quantity); other != nullptr && because.empty())
                        because.push_back(other->name());
            if (because.empty() && c.quantity == "period" && c.statistic == Statistic::spread) {
                for (const Change& other : out_.changes)
                    if (other.quantity == "running" && other.activity != c.activity) because.push_back(other.name());
                blame_interrupts(because);
            }
            effect = !because.empty();
        } else if (c.kind == "interrupt" && c.quantity == "duration" && pair != nullptr && pair->before && pair->after) {
            nested(c, *pair, because, effect);
        } else if (c.kind == "resource") {
            overlap(c, because, effect);
        } else if (c.kind == "function" && c.quantity == "duration") {
            // In a task whose time changed the callers of what changed are effects; that is not known here.
            effect = false;
        }
        std::sort(because.begin(), because.end());
        because.erase(std::unique(because.begin(), because.end()), because.end());
        std::erase(because, c.name());
        c.because = std::move(because);
        c.role = effect ? Change::Role::effect : Change::Role::cause;
    }
    void blame_holders(const Change& c, std::vector<std::string>& because) const {
        for (const LockLane& lock : after_.tasks.locks) {
            if (lock.name != c.activity) continue;
            std::set<std::string> holders;
            for (std::size_t i = 0; i < lock.holds.size(); ++i) holders.insert(after_.tasks.task_name(lock.holds[i].task));
            for (const std::string& who : holders) blame_task(who, because);
        }
    }

    // A lock is held longer: because its holder works longer, because it waits meanwhile, or of itself.
    void hold(const Change& c, const Paired& pair, std::vector<std::string>& because, bool& effect) {
        const TimeParts was = pair.before != nullptr ? parts_of_holds(before_, pair.before->index, c.statistic) : TimeParts();
        const TimeParts is = pair.after != nullptr ? parts_of_holds(after_, pair.after->index, c.statistic) : TimeParts();
        // Somebody takes it who never did: because a resource is guarded now that was not.
        std::vector<std::string> fresh;
        for (const auto& [who, n] : is.holders)
            if (was.holders.count(who) == 0 && n >= 5) fresh.push_back(who);
        for (const auto& [who, n] : was.holders)
            if (is.holders.count(who) == 0 && n >= 5) fresh.push_back(who);
        if (!fresh.empty())
            for (const Change& other : out_.changes)
                if (other.kind == "resource" && uses(other.activity, fresh)) {
                    because.push_back(other.name());
                    effect = true;
                    const_cast<Change&>(c).direction = Change::Direction::neutral;
                }
        if (effect || pair.before == nullptr || pair.after == nullptr) return;
        std::vector<std::string> outside;
        blame_parts(was, is, "", false, outside);
        const double difference = std::fabs(total(is) - total(was)), own = std::fabs(is.own - was.own);
        if (own < (1 - kShareThatCounts) * difference && !outside.empty() && own < difference / 2) {
            because = std::move(outside);
            effect = true;
            return;
        }
        // Its own work meanwhile: an effect if the job as a whole does more work, too.
        for (const auto& [who, n] : is.holders)
            if (const Change* running = change_of("task", who, "running");
                running != nullptr && n * 20 >= is.instances &&
                (running->after > running->before) == (total(is) > total(was)) &&
                std::fabs(running->after - running->before) * 1.2 >= own)
                because.push_back(running->name());
        // One lock is taken while another is had: the one that grew by more carries the other along.
        for (const Change& other : out_.changes) {
            if (other.kind != "lock" || other.quantity != "hold" || other.activity == c.activity || !because.empty()) continue;
            const auto pair_of_other = std::find_if(paired_.begin(), paired_.end(), [&](const Paired& p) {
                return p.before != nullptr && p.after != nullptr && p.after->kind == "lock" && p.after->what == "hold" &&
                       p.after->activity == other.activity;
            });
            if (pair_of_other == paired_.end()) continue;
            const std::size_t there = pair_of_other->after->index;
            const bool inner = mostly_within(pair.after->index, there), outer = mostly_within(there, pair.after->index);
            if (!inner && !outer) continue;
            const double others = std::fabs(parts_of_holds(after_, there, Statistic::mean).own -
                                            parts_of_holds(before_, pair_of_other->before->index, Statistic::mean).own);
            const double mine = std::fabs(parts_of_holds(after_, pair.after->index, Statistic::mean).own -
                                          parts_of_holds(before_, pair.before->index, Statistic::mean).own);
            if (others > 1.2 * mine || (outer && others * 1.2 >= mine)) because.push_back(other.name());
        }
        effect = !because.empty();
        if (!effect && !outside.empty() && own < difference / 2) {
            because = std::move(outside);
            effect = true;
        }
    }
    // Whether nearly each hold of one lock lies within one of the other by the same task.
    bool mostly_within(std::size_t inner, std::size_t outer) const {
        const LockLane &in = after_.tasks.locks[inner], &out = after_.tasks.locks[outer];
        std::size_t within = 0;
        for (std::size_t i = 0; i < in.holds.size(); ++i) {
            const LockHold h = in.holds[i];
            const std::size_t next = out.holds.partition_point([&](const LockHold& o) { return !(h.begin < o.begin); });
            if (next == 0) continue;
            const LockHold o = out.holds[next - 1];
            within += o.task == h.task && h.end <= o.end;
        }
        return in.holds.size() > 0 && within * 10 >= in.holds.size() * 9;
    }
    bool uses(const std::string& resource, const std::vector<std::string>& tasks) const {
        for (const Trail* trail : {&before_, &after_})
            for (const ResourceLane& r : trail->tasks.resources) {
                if (r.name != resource) continue;
                for (std::size_t i = 0; i < r.uses.size(); ++i)
                    if (std::find(tasks.begin(), tasks.end(), trail->tasks.task_name(r.uses[i].task)) != tasks.end())
                        return true;
            }
        return false;
    }
    // An interrupt takes longer: of itself, or because others cut in.
    void nested(const Change& c, const Paired& pair, std::vector<std::string>& because, bool& effect) const {
        const auto own = [](const Trail& trail, const Quantity& q) {
            for (const CoreTrail& core : trail.cores) {
                if (core.name != q.core || q.index >= core.lanes.size()) continue;
                const ExceptionLane& lane = core.lanes[q.index];
                double sum = 0;
                std::size_t n = 0;
                for (std::size_t i = 0; i < lane.size(); ++i)
                    if (lane.whole(i)) {
                        sum += static_cast<double>(lane.own(i).ps);
                        ++n;
                    }
                return n > 0 ? sum / static_cast<double>(n) : 0.0;
            }
            return 0.0;
        };
        const double all = mean_of(pair.after->samples) - mean_of(pair.before->samples);
        const double mine = own(after_, *pair.after) - own(before_, *pair.before);
        if (std::fabs(mine) >= std::fabs(all) / 2) return;
        for (const Change& other : out_.changes)
            if (other.kind == "interrupt" && other.activity != c.activity && other.core == c.core)
                because.push_back(other.name());
        for (const OneSided& o : out_.appeared)
            if (o.kind == "interrupt") because.push_back(o.activity);
        effect = !because.empty();
    }
    // Two use it at once more or less often: of itself where a lock came or went; else because they work longer.
    void overlap(const Change& c, std::vector<std::string>& because, bool& effect) const {
        if (c.before == 0 || c.after == 0) return;
        for (const Change& other : out_.changes)
            if (other.kind == "task" && other.quantity == "running" && uses(c.activity, {other.activity}))
                because.push_back(other.name());
        effect = !because.empty();
    }
    void find_role(OneSided& o) {
        if (o.kind != "lock") return;
        for (const Change& c : out_.changes)
            if (c.kind == "resource" && change_of("lock", o.activity, "hold") != nullptr &&
                !change_of("lock", o.activity, "hold")->because.empty()) {
                o.role = Change::Role::effect;
                o.because = {c.name()};
            }
    }

    // Causes, the gravest first, each with its effects.
    void put_in_order() {
        auto& all = out_.changes;
        std::vector<std::set<std::size_t>> effects(all.size());
        const auto depends = [&](std::size_t e, std::size_t cause, auto&& self, int depth) -> bool {
            if (depth > 6) return false;
            for (const std::string& name : all[e].because)
                for (std::size_t k = 0; k < all.size(); ++k)
                    if (all[k].name() == name && k != e && (k == cause || self(k, cause, self, depth + 1))) return true;
            return false;
        };
        std::vector<double> weight(all.size());
        for (std::size_t c = 0; c < all.size(); ++c) {
            if (all[c].role != Change::Role::cause) continue;
            const auto gravity = [](const Change& x) {
                const double much = std::min(10.0, std::fabs(x.relative()));
                return x.direction == Change::Direction::neutral ? 0.1 * much : much;
            };
            weight[c] = gravity(all[c]);
            for (std::size_t e = 0; e < all.size(); ++e)
                if (all[e].role == Change::Role::effect && depends(e, c, depends, 0)) {
                    effects[c].insert(e);
                    weight[c] += gravity(all[e]);
                }
        }
        std::vector<std::size_t> causes;
        for (std::size_t c = 0; c < all.size(); ++c)
            if (all[c].role == Change::Role::cause) causes.push_back(c);
        std::stable_sort(causes.begin(), causes.end(), [&](auto a, auto b) { return weight[a] > weight[b]; });
        std::vector<Change> ordered;
        std::vector<bool> placed(all.size());
        const auto place = [&](std::size_t i) {
            if (placed[i]) return;
            placed[i] = true;
            ordered.push_back(all[i]);
        };
        for (const std::size_t c : causes) {
            place(c);
            std::vector<std::size_t> of(effects[c].begin(), effects[c].end());
            std::stable_sort(of.begin(), of.end(), [&](auto a, auto b) { return all[a].strength > all[b].strength; });
            for (const std::size_t e : of) place(e);
        }
        for (std::size_t i = 0; i < all.size(); ++i) place(i);
        all = std::move(ordered);
    }

    const Trail &before_, &after_;
    const ChanceSettings& settings_;
    const Progress* progress_;
    std::vector<Quantity> was_, is_;
    std::vector<Paired> paired_;
    std::vector<std::size_t> indices_;  ///< of each change: its pair
    Comparison out_;
};

}  // namespace

double Change::relative() const {
    if (before == after) return 0;
    return before == 0 ? HUGE_VAL : (after - before) / std::fabs(before);
}

std::size_t Comparison::worse() const {
    return static_cast<std::size_t>(std::count_if(changes.begin(), changes.end(), [](const Change& c) {
        return c.direction == Change::Direction::worse;
    }));
}
std::size_t Comparison::better() const {
    return static_cast<std::size_t>(std::count_if(changes.begin(), changes.end(), [](const Change& c) {
        return c.direction == Change::Direction::better;
    }));
}

Comparison compare(const Trail& before, const Trail& after, const ChanceSettings& settings, const Progress* progress) {
    return Comparing(before, after, settings, progress).go();
}

std::string_view direction_name(Change::Direction direction) {
    constexpr std::string_view kNames[] = {"better", "worse", "neutral"};
    return kNames[static_cast<std::size_t>(direction)];
}
std::string_view role_name(Change::Role role) { return role == Change::Role::cause ? "cause" : "effect"; }

}  // namespace mt
