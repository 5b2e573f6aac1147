#include "mount_model.h"

#include <algorithm>
#include <array>
#include <deque>
#include <map>
#include <optional>
#include <queue>
#include <random>
#include <stdexcept>

#include "instruments.h"
#include "itm_writer.h"
#include "system_control.h"
#include "thumb_walk.h"

namespace board {
namespace {

using Cycles = std::uint64_t;

using enum SystemControl::Exception;
enum Interrupt : unsigned { kEncIndex = 16, kStepTimer = 17, kGuideUart = 19 };
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
    Mount(const MountOptions& options, FunctionRange range, MountHooks hooks)
        : options_(options),
          range_(std::move(range)),
          hooks_(std::move(hooks)),
          out_(options.clock_hz, options.baud),
          random_(options.seed),
          end_(cycles(options.seconds * 1e6)) {}
    void begin();
    void run();
    void flush() { out_.flush(end_); }
    Cycles end() const { return end_; }
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
    void segment_done();
    void os(mt::OsKind kind, std::uint32_t subject = 0, std::int64_t value = 0, std::uint8_t code = 0);
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
    bool walking();
    void walked(Cycles from);
    void tell_exception(Cycles when, unsigned number, unsigned function) { out_.exception(when, number, function); }
    void tell_port(unsigned number, std::uint32_t value, unsigned size, Cycles later = 0) {
        out_.port(now_ + later, number, value, size);
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
    MountHooks hooks_;
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
    bool faulted_ = false, masked_ = false;
    std::array<bool, 5> wires_{};
    bool heats_ = false, heater_forgotten_ = false;
    double drawn_ = -1;              ///< mA, without the heater
    unsigned switched_to_ = kTasks;  ///< the task that the last switch event named
    bool walk_begun_ = false;
    Cycles next_sample_ = kSamplePeriod;
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
        ThumbWalk& w = *hooks_.walk;
        w.enter(number, number == kPendSv ? "PendSV_Handler" : handler_function(number), now_, chained);
    }
    nest_.push_back({number, handler_time(number), handler_function(number)});
    tell_exception(now_, number, 1);
    if (number >= 16 || number == kSysTick) os(mt::OsKind::isr_enter, number >= 16 ? number - 16 : kTickNumber);
    if (number == kBusFault) tell_port(31, 0xF5, 1, 9);
}

void Mount::leave() {
    const unsigned number = nest_.back().number;
    if (number >= 16 || number == kSysTick) os(mt::OsKind::isr_exit, number >= 16 ? number - 16 : kTickNumber);
    if (number == kPendSv) {
        running_ = choose();
        if (running_ != switched_to_) os(mt::OsKind::task_switch_in, running_);
        switched_to_ = running_;
        out_.data_write(now_ - 40, 0, running_, 4);
    }
    if (number == kSysTick && choose() != running_) raise(kPendSv);
    if (number == kSvCall) raise(kPendSv);
    const bool walk = walking();
    nest_.pop_back();
    tell_exception(now_, number, 2);
    const auto next = most_urgent();
    const int level = nest_.empty() ? 99 : priority(nest_.back().number);
    if (walk) {
        ThumbWalk& w = *hooks_.walk;
        w.switch_to(running_);
        w.leave(now_, next && priority(*next) < level);
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
    tell_event(hooks_.os, now_, kind, subject, value, code);
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
    const double drawn = kBoardDraws + (!nest_.empty() ? kHandlerDraws : asleep ? 0 : kTaskDraws[running_]);
    const bool heats = !tasks_[kFocus].job.empty() || heater_forgotten_;
    if (drawn == drawn_ && heats == heats_) return;
    drawn_ = drawn;
    heats_ = heats;
    const double heater = heats ? kHeaterDraws : 0;
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
        tell_fault(hooks_.os, now_, fault_address(), 0x0A4011F8);
        raise(kBusFault);
        return;
    }
    if (running_ == kTrack && then == Segment::Then::go_on && task.job.empty()) {
        const auto error = static_cast<std::uint16_t>(static_cast<std::int16_t>(40 * between(-1, 1)));
        out_.data_write(now_, 1, error, 2);
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
                add_job(kGuide, {{cycles(11'000 * passes), "refine_centroid"}});
                tell_port(9, static_cast<std::uint32_t>(8000 + 30 * frames_), 2);
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
            out_.sync(now_);
        });
    every(
        50'000, [] { return 50'000.0; },
        [this] {
            out_.global_time(now_, now_ + 7'340'000'000);
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
    ThumbWalk& w = *hooks_.walk;
    w.thread(running_, task_entry(running_), now_);
    for (unsigned id = 0; id < kTasks; ++id)
        if (id != running_) w.thread(id, task_entry(id), now_);
    return true;
}

void Mount::walked(Cycles from) {
    if (hooks_.walk == nullptr) return;
    const Cycles to = std::min(now_, hooks_.walk_until);
    if (!walking() && !(walk_begun_ && from < hooks_.walk_until)) return;
    const bool faulty =
        nest_.empty() && !tasks_[running_].job.empty() && tasks_[running_].job.front().then == Segment::Then::fault;
    ThumbWalk& w = *hooks_.walk;
    if (faulty && !options_.healthy)
        w.stand_before(fault_address(), from);  // the bus keeps the load waiting before it refuses it
    else
        w.run(function(), from, to);
}

const char* Mount::function() const {
    if (!nest_.empty()) return nest_.back().function;
    if (running_ == kIdle || tasks_[running_].job.empty()) return "idle_task";
    return tasks_[running_].job.front().function;
}

void Mount::begin() {
    out_.sync(0);
    say("larkspur 3\n");
    tell_names(hooks_.os, now_);
    for (unsigned id = 1; id < kTasks; ++id)
        os(mt::OsKind::task_block, id, 0, static_cast<std::uint8_t>(mt::BlockReason::activation));
    os(mt::OsKind::task_switch_in, kIdle);
    switched_to_ = kIdle;
    plan();
    tell_exception(40, 0, 3);
}

void Mount::run() {
    while (now_ < end_) {
        while (!events_.empty() && events_.top().when <= now_) {
            const auto what = events_.top().what;
            events_.pop();
            what();
        }
        if (now_ >= next_sample_) {
            sample();
            while (next_sample_ <= now_) next_sample_ += kSamplePeriod;
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
        Cycles until = std::min(end_, next_sample_);
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
            continue;
        }
        const Cycles done = std::min(step, *left);
        now_ += done;
        walked(before);
        *left -= done;
        if (*left != 0) continue;
        if (!nest_.empty())
            leave();
        else
            segment_done();
    }
}

std::vector<std::uint8_t> record_mount(const MountOptions& options, const FunctionRange& range, const MountHooks& hooks) {
    Mount mount(options, range, hooks);
    mount.begin();
    mount.run();
    mount.flush();
    return mount.out().bytes();
}

}  // namespace board
