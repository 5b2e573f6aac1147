#include "mount_model.h"

#include <algorithm>
#include <array>
#include <deque>
#include <map>
#include <optional>
#include <queue>
#include <random>
#include <stdexcept>

#include "arm_units.h"
#include "instruments.h"
#include "itm_writer.h"
#include "thumb_walk.h"

namespace board {
namespace {

using Cycles = std::uint64_t;

enum Exception : unsigned {
    kBusFault = 5,
    kSvCall = 11,
    kPendSv = 14,
    kSysTick = 15,
    kEncIndex = 16,
    kStepTimer = 17,
    kGuideUart = 19
};
// The variable current_task holds these numbers; the priorities rise with urgency.
enum TaskId : unsigned { kIdle, kTrack, kGuide, kClock, kFocus, kTasks };
constexpr std::array<const char*, kTasks> kTaskNames = {"idle", "track", "guide", "clock", "focus"};
constexpr std::array<int, kTasks> kPriorities = {0, 4, 2, 3, 1};
constexpr std::uint32_t kBusLock = 1;
constexpr unsigned kTickNumber = 255;  ///< how the recorder calls SysTick, which is no interrupt line

constexpr Cycles kEntry = 12, kTailChain = 6, kSamplePeriod = 16384;

int priority(unsigned exception) {
    switch (exception) {
        case kBusFault:
            return 0;
        case kEncIndex:
            return 0;
        case kStepTimer:
            return 1;
        case kGuideUart:
            return 3;
        default:
            return 15;
    }
}

}  // namespace

class Mount {
    /// A stretch of a task's job that runs in one function.
    struct Segment {
        Cycles left;
        const char* function;
        bool masked = false;
        enum class Then { go_on, take_lock, give_lock, fault } then = Then::go_on;
        Cycles until = 0;  ///< if not 0: runs until this moment, whatever cuts in
    };

    struct Task {
        std::deque<Segment> job;
        bool waits_for_lock = false;
    };

    struct Handler {
        unsigned number;
        Cycles left;
        const char* function;
    };

  public:
    Mount(const MountOptions& options, FunctionRange range, MountModel::Hooks hooks)
        : options_(options),
          range_(std::move(range)),
          hooks_(std::move(hooks)),
          out_(options.clock_hz, options.baud),
          random_(options.seed),
          end_(cycles(options.seconds * 1e6)) {}
    void begin();
    bool run_until(Cycles until);
    void flush() { out_.flush(end_); }
    Cycles end() const { return end_; }
    Cycles now() const { return now_; }
    void set_walk(ThumbWalk* walk) {
        hooks_.walk = walk;
        hooks_.walk_from = now_;
        hooks_.walk_until = ~Cycles{0};
        walk_begun_ = false;
        walk_trouble_.clear();
    }
    const std::string& walk_trouble() const { return walk_trouble_; }
    const char* function() const;
    ItmWriter& out() { return out_; }

  private:
    Cycles cycles(double microseconds) const {
        return static_cast<Cycles>(microseconds * static_cast<double>(options_.clock_hz) / 1e6);
    }
    double between(double low, double high) {
        return low + (high - low) * std::uniform_real_distribution<double>(0, 1)(random_);
    }
    void at(Cycles when, std::function<void()> what) { events_.push({when, order_++, std::move(what)}); }

    void plan();
    void enter(unsigned number);
    void leave();
    void raise(unsigned number) { pending_[number] = true; }
    std::optional<unsigned> most_urgent() const;
    unsigned choose() const;
    void sample();
    void count_events(Cycles from, bool asleep);
    void segment_done();
    void os(mt::OsKind kind, std::uint32_t subject = 0, std::int64_t value = 0, std::uint8_t code = 0);
    void name(mt::OsKind kind, std::uint32_t subject, const char* text, int priority, std::uint8_t code = 0);
    void look_at_masking(bool masked);
    void look_at_bench(bool asleep);
    void set_wire(Wire wire, bool high) {
        if (hooks_.bench != nullptr && hooks_.bench->wire && wires_[static_cast<std::size_t>(wire)] != high)
            hooks_.bench->wire(wire, wires_[static_cast<std::size_t>(wire)] = high, now_);
    }
    Cycles handler_time(unsigned number);
    void add_job(unsigned task, std::deque<Segment> job);
    std::uint32_t fault_address() const { return range_("star_table_at").first + 6; }
    void say(const std::string& text);
    void look_at_function();
    bool walking();
    void walked(Cycles from);
    ArmUnits* units() const { return hooks_.units; }
    void look_at_units();
    void tell_exception(Cycles when, unsigned number, unsigned function) {
        if (units() == nullptr || units()->exceptions()) out_.exception(when, number, function);
        if (units() == nullptr || function == 3 || (units()->event_counters() & 2) == 0) return;
        counted_[1] += 12;
        if (counted_[1] < 256) return;
        counted_[1] -= 256;
        out_.counters(when, 2);
    }
    void tell_port(unsigned number, std::uint32_t value, unsigned size, Cycles later = 0) {
        if (units() == nullptr || units()->port(number)) out_.port(now_ + later, number, value, size);
    }
    void tell_write(Cycles when, unsigned comparator, const char* variable, std::uint32_t value, unsigned size);
    /// Does something with the walk; one that finds no way rests until it is set again.
    template <class Does>
    void with_walk(Does does) {
        try {
            does(*hooks_.walk);
        } catch (const std::runtime_error& e) {
            walk_trouble_ = e.what();
            hooks_.walk = nullptr;
            walk_begun_ = false;
        }
    }
    void wrote(const char* variable, std::uint32_t value) {
        if (hooks_.written && hooks_.written(variable, value)) stop_ = true;
    }

    struct Event {
        Cycles when;
        std::uint64_t order;
        std::function<void()> what;
        bool operator<(const Event& other) const {
            return when != other.when ? when > other.when : order > other.order;
        }
    };

    MountOptions options_;
    FunctionRange range_;
    MountModel::Hooks hooks_;
    ItmWriter out_;
    std::mt19937_64 random_;
    Cycles now_ = 0, end_;
    std::uint64_t order_ = 0;
    std::priority_queue<Event> events_;
    std::map<unsigned, bool> pending_;
    std::vector<Handler> nest_;
    std::array<Task, kTasks> tasks_;
    unsigned running_ = kIdle;
    std::optional<unsigned> lock_holder_;
    std::uint64_t frames_ = 0, transfers_ = 0;
    double next_index_us_ = 0;  ///< from the last encoder index to the next
    Cycles last_index_ = 0;
    bool faulted_ = false, stop_ = false, masked_ = false;
    std::array<bool, 5> wires_{};
    bool heats_ = false, heater_forgotten_ = false;
    double drawn_ = -1;              ///< mA, without the heater
    unsigned switched_to_ = kTasks;  ///< the task that the last switch event named
    const char* last_function_ = nullptr;
    bool walk_begun_ = false;
    std::string walk_trouble_;
    Cycles next_sync_ = 0, next_global_ = 0;
    bool told_units_ = false;
    Cycles next_sample_ = kSamplePeriod;
    std::array<Cycles, 5> counted_{};             ///< of each event counter, in 1/256 of what makes it wrap
    std::deque<std::function<void()>> repeated_;  ///< what happens again and again; elements stay where they are
};

Cycles Mount::handler_time(unsigned number) {
    switch (number) {
        case kEncIndex:
            return cycles(between(1.1, 1.7));
        case kStepTimer:
            return cycles(between(5.2, 7.4));
        case kGuideUart:
            return cycles(between(2.0, 3.1));
        case kSysTick:
            return cycles(between(2.4, 3.4));
        case kSvCall:
            return cycles(between(0.5, 0.6));
        case kPendSv:
            return cycles(between(1.3, 1.6));
        default:
            return end_ * 2;  // a fault handler never ends
    }
}

static const char* task_entry(unsigned task) {
    constexpr std::array<const char*, kTasks> entries = {"idle_task", "track_task", "guide_task", "clock_task",
                                                         "focus_task"};
    return entries[task];
}

static const char* handler_function(unsigned number) {
    switch (number) {
        case kEncIndex:
            return "encoder_index_handler";
        case kStepTimer:
            return "step_timer_handler";
        case kGuideUart:
            return "guide_uart_handler";
        case kSysTick:
            return "SysTick_Handler";
        case kSvCall:
            return "SVC_Handler";
        case kPendSv:
            return "switch_stack";
        default:
            return "BusFault_Handler";
    }
}

void Mount::say(const std::string& text) {
    for (const char c : text) tell_port(0, static_cast<std::uint8_t>(c), 1);
}

std::optional<unsigned> Mount::most_urgent() const {
    std::optional<unsigned> best;
    for (const auto& [number, is] : pending_)
        if (is && (!best || priority(number) < priority(*best))) best = number;
    return best;
}

void Mount::enter(unsigned number) {
    const bool chained = !nest_.empty() && nest_.back().number == 0;
    if (chained) nest_.pop_back();
    now_ += chained ? kTailChain : kEntry;
    pending_[number] = false;
    if (walking()) {
        with_walk([&](ThumbWalk& w) {
            w.enter(number, number == kPendSv ? "PendSV_Handler" : handler_function(number), now_, chained);
        });
    }
    nest_.push_back({number, handler_time(number), handler_function(number)});
    tell_exception(now_, number, 1);
    if (number >= 16 || number == kSysTick) os(mt::OsKind::isr_enter, number >= 16 ? number - 16 : kTickNumber);
    last_function_ = nullptr;
    if (number == kBusFault) tell_port(31, 0xF5, 1, 9);
}

void Mount::leave() {
    const unsigned number = nest_.back().number;
    if (number >= 16 || number == kSysTick) os(mt::OsKind::isr_exit, number >= 16 ? number - 16 : kTickNumber);
    if (number == kPendSv) {
        running_ = choose();
        if (running_ != switched_to_) os(mt::OsKind::task_switch_in, running_);
        switched_to_ = running_;
        tell_write(now_ - 40, 0, "current_task", running_, 4);
        wrote("current_task", running_);
    }
    if (number == kSysTick && choose() != running_) raise(kPendSv);
    if (number == kSvCall) raise(kPendSv);
    const bool walk = walking();
    nest_.pop_back();
    tell_exception(now_, number, 2);
    const auto next = most_urgent();
    const int level = nest_.empty() ? 99 : priority(nest_.back().number);
    if (walk) {
        with_walk([&](ThumbWalk& w) {
            w.switch_to(running_);
            w.leave(now_, next && priority(*next) < level);
        });
    }
    if (next && priority(*next) < level) {
        nest_.push_back({0, 0, nullptr});  // marks a tail chain for enter()
        enter(*next);
        return;
    }
    now_ += kEntry;
    tell_exception(now_, nest_.empty() ? 0 : nest_.back().number, 3);
}

unsigned Mount::choose() const {
    for (const unsigned id : {kTrack, kClock, kGuide, kFocus}) {
        if (tasks_[id].job.empty()) continue;
        if (!tasks_[id].waits_for_lock) return id;
        if (options_.inherit && lock_holder_) return *lock_holder_;  // with the priority of who waits
    }
    return kIdle;
}

void Mount::os(mt::OsKind kind, std::uint32_t subject, std::int64_t value, std::uint8_t code) {
    if (!hooks_.os) return;
    static const mt::OsBlock none;
    mt::OsEvent e;
    e.kind = kind;
    e.subject = subject;
    e.value = value;
    e.code = code;
    hooks_.os(e, none, now_);
}

void Mount::name(mt::OsKind kind, std::uint32_t subject, const char* text, int priority, std::uint8_t code) {
    if (!hooks_.os) return;
    mt::OsBlock texts;
    texts.texts.emplace_back(text);
    mt::OsEvent e;
    e.kind = kind;
    e.subject = subject;
    e.value = mt::text_and_priority(0, priority);
    e.code = code;
    hooks_.os(e, texts, now_);
}

void Mount::look_at_masking(bool masked) {
    if (masked == masked_) return;
    masked_ = masked;
    os(masked ? mt::OsKind::critical_enter : mt::OsKind::critical_exit);
}

// What the board draws, and who shows on its debug line. The heater of the focuser is on while `focus` works; the hand
// box's way out of a job forgets to switch it off, and the next round but three notices.
void Mount::look_at_bench(bool asleep) {
    if (hooks_.bench == nullptr) return;
    set_wire(Wire::debug, running_ == kFocus);
    constexpr std::array<double, kTasks> of_task = {37, 39, 48, 41, 43};  // the filter of `guide` keeps the FPU busy
    const double drawn = 21 + (!nest_.empty() ? 40 : asleep ? 0 : of_task[running_]);
    const bool heats = !tasks_[kFocus].job.empty() || heater_forgotten_;
    if (drawn == drawn_ && heats == heats_) return;
    drawn_ = drawn;
    heats_ = heats;
    const double heater = heats ? 185 : 0;
    if (hooks_.bench->draw) hooks_.bench->draw(drawn + heater, heater, now_);
}

void Mount::add_job(unsigned task, std::deque<Segment> job) {
    if (tasks_[task].job.empty() && !faulted_) os(mt::OsKind::task_ready, task);
    for (auto& s : job) tasks_[task].job.push_back(s);
}

void Mount::segment_done() {
    Task& task = tasks_[running_];
    const Segment::Then then = task.job.front().then;
    if (then == Segment::Then::take_lock && lock_holder_ && *lock_holder_ != running_) {
        task.job.front().left = 1;
        task.waits_for_lock = true;
        os(mt::OsKind::mutex_take_blocked, kBusLock);
        if (options_.inherit) os(mt::OsKind::task_priority, *lock_holder_, kPriorities[running_]);
        os(mt::OsKind::task_block, running_, kBusLock, static_cast<std::uint8_t>(mt::BlockReason::mutex));
        switched_to_ = kTasks;
        raise(kSvCall);
        return;
    }
    if (then == Segment::Then::take_lock) {
        lock_holder_ = running_;
        os(mt::OsKind::mutex_take, kBusLock);
    }
    if (then == Segment::Then::give_lock) {
        lock_holder_.reset();
        os(mt::OsKind::mutex_give, kBusLock);
        for (unsigned id = 0; id < kTasks; ++id) {
            if (!tasks_[id].waits_for_lock) continue;
            tasks_[id].waits_for_lock = false;
            if (options_.inherit) os(mt::OsKind::task_priority, running_, kPriorities[running_]);
            os(mt::OsKind::task_ready, id);
        }
        raise(kSvCall);
    }
    task.job.pop_front();
    if (then == Segment::Then::fault && !options_.healthy) {
        faulted_ = true;
        if (hooks_.os) {
            mt::OsBlock fault;
            fault.faults.push_back({"access_violation", fault_address(), 0x0A4011F8});
            mt::OsEvent e;
            e.kind = mt::OsKind::fault;
            hooks_.os(e, fault, now_);
        }
        raise(kBusFault);
        return;
    }
    if (running_ == kTrack && then == Segment::Then::go_on && task.job.empty()) {
        const auto error = static_cast<std::uint16_t>(static_cast<std::int16_t>(40 * between(-1, 1)));
        tell_write(now_, 1, "axis_error", error, 2);
        wrote("axis_error", error);
    }
    if (task.job.empty()) {
        os(mt::OsKind::task_block, running_, 0, static_cast<std::uint8_t>(mt::BlockReason::activation));
        switched_to_ = kTasks;
        raise(kSvCall);
    }
}

// A program-counter sample: asleep in idle, else somewhere in the function that runs.
void Mount::sample() {
    const char* function = !nest_.empty()                                      ? nest_.back().function
                           : running_ == kIdle || tasks_[running_].job.empty() ? nullptr
                                                                               : tasks_[running_].job.front().function;
    if (function == nullptr) {
        out_.sleep_sample(now_);
        return;
    }
    const auto [address, size] = range_(function);
    const auto step = size < 4 ? 0 : std::uniform_int_distribution<std::uint32_t>(0, size / 2 - 1)(random_);
    out_.pc_sample(now_, address + 2 * step);
}

// The event counters have eight bits and tell when they wrap. Asleep each cycle counts; awake a fixed mix of
// instructions is assumed; each entry to an exception and each return costs twelve cycles.
void Mount::count_events(Cycles from, bool asleep) {
    const unsigned on = units() == nullptr ? 0 : units()->event_counters();
    if (on == 0) return;
    constexpr std::array<Cycles, 5> awake_cycles = {4 * 256, 0, 0, 8 * 256, 20 * 256};  // until it wraps
    const auto period = [&](std::size_t n) { return asleep ? (n == 2 ? Cycles{256} : 0) : awake_cycles[n]; };
    for (Cycles at = from; at < now_;) {
        Cycles next = now_;
        for (std::size_t n = 0; n < counted_.size(); ++n)
            if (period(n) != 0)
                next = std::min(next, at + std::max<Cycles>(period(n) - std::min(counted_[n], period(n)), 1));
        unsigned wrapped = 0;
        for (std::size_t n = 0; n < counted_.size(); ++n) {
            if (period(n) == 0) continue;
            counted_[n] += next - at;
            if (counted_[n] < period(n)) continue;
            counted_[n] -= period(n);
            wrapped |= 1u << n;
        }
        at = next;
        if ((wrapped & on) != 0) out_.counters(at, wrapped & on);
    }
}

void Mount::plan() {
    const auto every = [this](double first_us, std::function<double()> period_us, std::function<void()> what) {
        std::function<void()>& again = repeated_.emplace_back();
        again = [this, &again, when = first_us, period_us, what]() mutable {
            what();
            when += period_us();
            if (cycles(when) < end_) at(cycles(when), [&again] { again(); });
        };
        at(cycles(first_us), [&again] { again(); });
    };
    every(
        1000, [] { return 1000.0; }, [this] { raise(kSysTick); });
    every(
        430, [] { return 250.0; },
        [this] {
            raise(kStepTimer);
            set_wire(Wire::step, !wires_[static_cast<std::size_t>(Wire::step)]);  // a step of the motor with each edge
        });
    every(
        2310, [this] { return next_index_us_ = 4860 + between(-1.2, 1.2); },
        [this] {
            last_index_ = now_;
            raise(kEncIndex);
            if (hooks_.bench == nullptr) return;
            set_wire(Wire::index, true);
            at(now_ + cycles(31), [this] { set_wire(Wire::index, false); });
        });
    every(
        10'000.3, [] { return 10'000.0; },
        [this] {
            add_job(kTrack, {{cycles(between(180, 210)), "track_loop"},
                             {cycles(between(25, 30)), "star_table_at"},
                             {cycles(between(40, 50)), "track_loop"}});
        });
    every(
        600'000, [] { return 2'000'000.0; }, [this] {  // a guide frame: 96 bytes, then the task refines it
            const std::uint64_t frame = frames_++;
            const double start = static_cast<double>(now_) * 1e6 / static_cast<double>(options_.clock_hz);
            for (int i = 0; i < 96; ++i) at(cycles(start + 86.8 * i), [this] { raise(kGuideUart); });
            const double passes = frame == 1 && !options_.healthy ? 17 : between(3.8, 4.2);
            at(cycles(start + 86.8 * 96 + 40), [this, passes] {
                tell_port(31, 2, 1);
                set_wire(Wire::direction, frames_ % 3 == 2);
                if (units() != nullptr) add_job(kGuide, {{cycles(14), "guide_task"}});
                add_job(kGuide, {{cycles(11'000 * passes), "refine_centroid"}});
                tell_port(9, static_cast<std::uint32_t>(8000 + 30 * frames_), 2);
                if (units() != nullptr) {
                    const auto x = static_cast<std::uint32_t>(8000 + 30 * frames_);
                    tell_write(now_, 0, "centroid_x", x, 4);
                    wrote("centroid_x", x);
                }
            });
        });
    every(
        1'000'000.1, [] { return 1'000'000.0; },
        [this] {
            add_job(kClock, {{cycles(20), "clock_task"},
                             {1, "lock_take", false, Segment::Then::take_lock},
                             {cycles(1.4), "bus_transfer", true},
                             {cycles(300), "read_receiver"},
                             {cycles(1.5), "bus_transfer", true},
                             {1, "lock_give", false, Segment::Then::give_lock},
                             {cycles(15), "clock_task"}});
        });
    every(
        70'000.4, [] { return 250'000.0; }, [this] {  // four bytes over the bus; the sensor answers late now and then
            const std::uint64_t n = transfers_++;
            std::deque<Segment> job = {{cycles(60), "focus_task"}, {1, "lock_take", false, Segment::Then::take_lock}};
            for (int i = 0; i < 4; ++i) {
                job.push_back({cycles(900), "read_temperature"});
                // Now and then the status bit stays low for long; the index pulse disturbs the sensor, so the
                // two tend to meet.
                const bool late = !options_.healthy && i == 2 && n % 11 == 6;
                if (late)
                    job.push_back({1, "read_temperature", false, Segment::Then::go_on,
                                   last_index_ + cycles(next_index_us_ - between(1, 9))});
                job.push_back({cycles(0.4), "bus_transfer", true});
                job.push_back(
                    {cycles(late ? between(66, 74) : between(0.9, 1.6)), late ? "poll_status" : "wait_ready", true});
                job.push_back({cycles(0.3), "bus_transfer", true});
            }
            job.push_back({1, "lock_give", false, Segment::Then::give_lock});
            job.push_back({cycles(30), "focus_task"});
            add_job(kFocus, job);
        });
    every(
        140'000, [] { return 140'000.0; },
        [this] {
            if (units() == nullptr) out_.sync(now_);
        });
    every(
        50'000, [] { return 50'000.0; },
        [this] {
            if (units() == nullptr) out_.global_time(now_, now_ + 7'340'000'000);
        });
    if (!options_.healthy) {
        // The hand box asks for a temperature just before a guide frame comes in, and the receiver corrects the time
        // in the middle of that frame: `clock` wants the bus that `focus` holds, and `guide` keeps `focus` from it.
        at(cycles(12'606'000), [this] {
            heater_forgotten_ = true;
            at(now_ + cycles(1'640'000), [this] { heater_forgotten_ = false; });
            for (const double us : {40.0, 40.4})  // its current couples into the step line
                at(now_ + cycles(us), [this] { set_wire(Wire::step, !wires_[static_cast<std::size_t>(Wire::step)]); });
            add_job(kFocus, {{cycles(60), "focus_task"},
                             {1, "lock_take", false, Segment::Then::take_lock},
                             {cycles(3600), "read_temperature"},
                             {1, "lock_give", false, Segment::Then::give_lock},
                             {cycles(30), "focus_task"}});
        });
        at(cycles(12'612'000), [this] {
            add_job(kClock, {{cycles(20), "clock_task"},
                             {1, "lock_take", false, Segment::Then::take_lock},
                             {cycles(1.4), "bus_transfer", true},
                             {cycles(300), "read_receiver"},
                             {cycles(1.5), "bus_transfer", true},
                             {1, "lock_give", false, Segment::Then::give_lock},
                             {cycles(15), "clock_task"}});
        });
        at(cycles((options_.fault_at >= 0 ? options_.fault_at : options_.seconds) * 1e6 - 40'000),
           [this] { set_wire(Wire::limit, true); });  // the meridian flip
        at(cycles(options_.seconds * 1e6 * 0.44), [this] { out_.stall_until(now_ + cycles(3100)); });
        at(cycles(options_.fault_at >= 0 ? options_.fault_at * 1e6 : options_.seconds * 1e6 - 17'000), [this] {
            add_job(kTrack, {{cycles(190), "star_table_at", false, Segment::Then::fault}});
        });
    }
}

// Whether the walk is told of what happens now. It begins in a thread.
bool Mount::walking() {
    if (hooks_.walk == nullptr || now_ < hooks_.walk_from || now_ > hooks_.walk_until) return false;
    if (walk_begun_) return true;
    if (!nest_.empty()) return false;
    walk_begun_ = true;
    with_walk([&](ThumbWalk& w) {
        w.thread(running_, task_entry(running_), now_);
        for (unsigned id = 0; id < kTasks; ++id)
            if (id != running_) w.thread(id, task_entry(id), now_);
    });
    return hooks_.walk != nullptr;
}

void Mount::walked(Cycles from) {
    if (hooks_.walk == nullptr) return;
    const Cycles to = std::min(now_, hooks_.walk_until);
    if (!walking() && !(walk_begun_ && from < hooks_.walk_until)) return;
    const bool faulty =
        nest_.empty() && !tasks_[running_].job.empty() && tasks_[running_].job.front().then == Segment::Then::fault;
    with_walk([&](ThumbWalk& w) {
        if (faulty && !options_.healthy)
            w.stand_before(fault_address(), from);  // the bus keeps the load waiting before it refuses it
        else
            w.run(function(), from, to);
    });
}

const char* Mount::function() const {
    if (!nest_.empty()) return nest_.back().function;
    if (running_ == kIdle || tasks_[running_].job.empty()) return "idle_task";
    return tasks_[running_].job.front().function;
}

// What the debugger set since: how fast the line is, what is dated; synchronisation and global times as they fall due.
void Mount::look_at_units() {
    out_.set(units()->bytes_per_s(options_.clock_hz), options_.clock_hz,
             units()->local_timestamps() ? units()->prescaler() : 0);
    const Cycles sync = units()->sync_period(), global = units()->global_period();
    if (!told_units_ && sync > 0) next_sync_ = now_;  // the first comes at once
    told_units_ = sync > 0;
    if (now_ >= next_sync_) {
        if (sync > 0) out_.sync(now_);
        next_sync_ = now_ + (sync > 0 ? sync : kSamplePeriod);
    }
    if (now_ >= next_global_) {
        if (global > 0)
            out_.want_global(7'340'000'000);
        else
            out_.forget_global();
        next_global_ = now_ + (global > 0 ? global : kSamplePeriod);
    }
}

// Without units as the recordings on file were made: comparator 0 and 1 tell values.
void Mount::tell_write(Cycles when, unsigned comparator, const char* variable, std::uint32_t value, unsigned size) {
    if (units() == nullptr) {
        out_.data_write(when, comparator, value, size);
        return;
    }
    const std::uint32_t address = hooks_.address_of ? hooks_.address_of(variable) : 0;
    if (address == 0) return;
    const std::uint32_t pc = range_(function()).first + 4;
    for (const auto& told : units()->accessed(address, size, true, value)) {
        if (told.pc) out_.data_pc(when, told.comparator, pc);
        if (told.address) out_.data_address(when, told.comparator, address);
        if (told.value) out_.data(when, told.comparator, true, value, size);
    }
}

// Tells the hook when another function has the core.
void Mount::look_at_function() {
    const char* f = function();
    if (f == last_function_) return;
    last_function_ = f;
    if (f != nullptr && hooks_.entered && hooks_.entered(f)) stop_ = true;
}

void Mount::begin() {
    if (units() == nullptr)
        out_.sync(0);
    else
        look_at_units();
    say("larkspur 3\n");
    for (unsigned id = 0; id < kTasks; ++id) name(mt::OsKind::task_create, id, kTaskNames[id], kPriorities[id]);
    const auto object = [&](mt::ObjectKind kind, std::uint32_t id, const char* text) {
        name(mt::OsKind::object_name, id, text, 0, static_cast<std::uint8_t>(kind));
    };
    object(mt::ObjectKind::mutex, kBusLock, "bus_lock");
    object(mt::ObjectKind::interrupt, kEncIndex - 16, "ENC_INDEX");
    object(mt::ObjectKind::interrupt, kStepTimer - 16, "STEP_TIMER");
    object(mt::ObjectKind::interrupt, kGuideUart - 16, "GUIDE_UART");
    object(mt::ObjectKind::interrupt, kTickNumber, "SysTick");
    for (unsigned id = 1; id < kTasks; ++id)
        os(mt::OsKind::task_block, id, 0, static_cast<std::uint8_t>(mt::BlockReason::activation));
    os(mt::OsKind::task_switch_in, kIdle);
    switched_to_ = kIdle;
    plan();
    tell_exception(40, 0, 3);
}

bool Mount::run_until(Cycles limit) {
    stop_ = false;
    while (now_ < limit) {
        if (hooks_.entered) look_at_function();
        if (stop_) return false;
        while (!events_.empty() && events_.top().when <= now_) {
            const auto what = events_.top().what;
            events_.pop();
            what();
        }
        if (units() != nullptr) look_at_units();
        if (now_ >= next_sample_) {
            const Cycles period = units() == nullptr ? kSamplePeriod : units()->sample_period();
            if (period > 0) sample();
            next_sample_ += period > 0 ? period : kSamplePeriod;
            while (next_sample_ <= now_) next_sample_ += period > 0 ? period : kSamplePeriod;
        }
        const bool masked =
            nest_.empty() && running_ != kIdle && !tasks_[running_].job.empty() && tasks_[running_].job.front().masked;
        if (nest_.empty() && !pending_[kPendSv]) look_at_masking(masked);
        const auto urgent = most_urgent();
        const int level = nest_.empty() ? 99 : priority(nest_.back().number);
        if (urgent && !masked && priority(*urgent) < level) {
            enter(*urgent);
            continue;
        }
        // A task became ready while a less urgent one runs: the tick or the releasing call switches.
        if (nest_.empty() && !masked && running_ != choose() && !pending_[kPendSv]) {
            raise(kPendSv);
            continue;
        }
        Cycles until = std::min(limit, next_sample_);
        if (units() != nullptr) until = std::min({until, next_sync_, next_global_});
        if (!events_.empty()) until = std::min(until, events_.top().when);
        Cycles* left = !nest_.empty()                                       ? &nest_.back().left
                       : running_ != kIdle && !tasks_[running_].job.empty() ? &tasks_[running_].job.front().left
                                                                            : nullptr;
        if (nest_.empty() && left != nullptr && tasks_[running_].job.front().until != 0)
            *left = tasks_[running_].job.front().until > now_ ? tasks_[running_].job.front().until - now_ : 1;
        look_at_bench(left == nullptr);
        const Cycles step = until > now_ ? until - now_ : 0;
        const Cycles before = now_;
        if (left == nullptr) {
            now_ += step;
            walked(before);
            count_events(before, true);
            continue;
        }
        const Cycles done = std::min(step, *left);
        now_ += done;
        walked(before);
        count_events(before, false);
        *left -= done;
        if (*left != 0) continue;
        if (!nest_.empty())
            leave();
        else
            segment_done();
    }
    return !stop_;
}

std::vector<std::uint8_t> record_mount(const MountOptions& options, const FunctionRange& range,
                                       const MountModel::Hooks& hooks) {
    Mount mount(options, range, hooks);
    mount.begin();
    mount.run_until(mount.end());
    mount.flush();
    return mount.out().bytes();
}

MountModel::MountModel(const MountOptions& options, FunctionRange range, Hooks hooks)
    : mount_(std::make_unique<Mount>(options, std::move(range), std::move(hooks))) {
    mount_->begin();
}
MountModel::~MountModel() = default;
bool MountModel::run_until(std::uint64_t cycle) { return mount_->run_until(cycle); }
std::uint64_t MountModel::now() const { return mount_->now(); }
const char* MountModel::function() const { return mount_->function(); }
void MountModel::set_walk(ThumbWalk* walk) { mount_->set_walk(walk); }
const std::string& MountModel::walk_trouble() const { return mount_->walk_trouble(); }
void MountModel::drain(std::vector<std::uint8_t>& out) { mount_->out().drain(out); }

}  // namespace board
