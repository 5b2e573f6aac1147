// A small system of tasks on one core, simulated for tests: rate-monotonic tasks, a lock, a queue fed by an interrupt,
// a resource that the lock guards. What goes wrong is asked for; the events come out as a trace.
#pragma once

#include <algorithm>
#include <array>
#include <deque>
#include <functional>
#include <optional>
#include <random>
#include <string>
#include <vector>

#include "share/ctf_writer.h"

namespace mt::test {

/// All times in microseconds; the trace's clock counts hundredths of them.
class TaskProgram {
  public:
    struct Wrongs {
        double long_job_at = -1, long_job_factor = 4;       ///< of `plan`
        double missed_at = -1;                              ///< of `steer`
        double drift_at = -1;                               ///< of `plan`, for 18 periods: a tick longer each
        double jitter_at = -1;                              ///< of `steer`, for 20 periods
        double storm_at = -1;                               ///< of the interrupt "limit"
        double quarrel_at = -1;                             ///< `log` holds the lock, `plan` runs long, `steer` waits
        double growth = 0;                                  ///< of `plan`, by the end
        double hog_from = -1, hog_for = 0;                  ///< `plan` takes nearly all
        double unguarded_at = -1;                           ///< `log` uses the table without the lock
        double slow_reader_from = -1, slow_reader_for = 0;  ///< `reader` takes long
        double mask_at = -1, mask_for = 0;                  ///< `log` masks interrupts
        double fault_at = -1;
        double lose_at = -1;
        bool inherit = true;
    };

    explicit TaskProgram(std::uint32_t seed) : random_(seed) {}

    /// Writes a trace of so many seconds.
    void write(const std::string& folder, double seconds, const Wrongs& wrongs) {
        wrongs_ = wrongs;
        end_ = seconds * 1e6;
        writer_ = std::move(*CtfWriter::create(folder, {"program", kHz, 1}));
        begin();
        while (now_ < end_ && !stopped_) step();
        (void)writer_->finish();
    }

  private:
    static constexpr std::uint64_t kHz = 100'000'000;
    enum Id : std::uint32_t { kIdle, kLog, kReader, kPlan, kSteer, kTasks };
    enum Object : std::uint32_t { kLock = 1, kQueue = 2, kTable = 3 };
    enum class Then { nothing, take, give, use, unuse, mask, unmask, receive };
    struct Segment {
        double left;
        Then then = Then::nothing;
    };
    struct Task {
        const char* name;
        int priority;
        double period, run, next = 0;
        std::deque<Segment> job;
        bool ready = false, waits = false;
        unsigned backlog = 0, jobs = 0;
    };

    double about(double t) { return t * std::uniform_real_distribution<double>(0.93, 1.07)(random_); }
    void tell(OsKind kind, std::uint32_t subject = 0, std::int64_t value = 0, std::uint8_t code = 0) {
        OsEvent e;
        e.kind = kind;
        e.subject = subject;
        e.value = value;
        e.code = code;
        writer_->write(e, static_cast<std::int64_t>(now_ * 100), texts_);
    }
    void name(OsKind kind, std::uint32_t id, const std::string& text, int priority, ObjectKind of = ObjectKind::mutex) {
        texts_.texts = {text};
        tell(kind, id, text_and_priority(0, priority), static_cast<std::uint8_t>(of));
    }
    static bool within(double t, double from, double length) { return from >= 0 && t >= from && t < from + length; }

    void begin() {
        tasks_ = {{{"idle", 0, 0, 0},
                   {"log", 1, 100'000, 6000},
                   {"reader", 2, 0, 900},
                   {"plan", 3, 20'000, 3000},
                   {"steer", 4, 5000, 600}}};
        for (std::uint32_t i = 0; i < kTasks; ++i) name(OsKind::task_create, i, tasks_[i].name, tasks_[i].priority);
        name(OsKind::object_name, kLock, "table lock", 0);
        name(OsKind::object_name, kQueue, "words", 0, ObjectKind::queue);
        name(OsKind::object_name, kTable, "table", 0, ObjectKind::resource);
        name(OsKind::object_name, 1, "tick", 0, ObjectKind::interrupt);
        name(OsKind::object_name, 2, "words rx", 0, ObjectKind::interrupt);
        name(OsKind::object_name, 3, "limit", 0, ObjectKind::interrupt);
        for (std::uint32_t i = 1; i < kTasks; ++i) {
            tell(OsKind::task_block, i, 0, static_cast<std::uint8_t>(BlockReason::activation));
            tasks_[i].next = 1000 + 700.0 * i;
        }
        tell(OsKind::task_switch_in, kIdle);
        running_ = kIdle;
        next_tick_ = 1000;
        next_word_ = 11'000;
        next_limit_ = wrongs_.storm_at >= 0 ? wrongs_.storm_at : 1e18;
    }

    void release(std::uint32_t id) {
        Task& t = tasks_[id];
        if (t.ready) {
            ++t.backlog;
            return;
        }
        t.ready = true;
        const double at = now_;
        double run = about(t.run);
        ++t.jobs;
        if (id == kPlan) {
            run *= 1 + wrongs_.growth * at / end_;
            if (wrongs_.long_job_at >= 0 && at >= wrongs_.long_job_at && !long_job_done_) {
                run *= wrongs_.long_job_factor;
                long_job_done_ = true;
            }
            if (within(at, wrongs_.hog_from, wrongs_.hog_for)) run *= 5.9;
            if (quarrel_ready_ && !quarrel_done_ && holder_ == std::uint32_t{kLog}) {
                quarrel_done_ = true;
                t.job = {{run * 5}};
                tell(OsKind::task_ready, id);
                return;
            }
            t.job = {{run * 0.4, Then::take}, {60, Then::use}, {run * 0.2, Then::unuse}, {1, Then::give}, {run * 0.4}};
        } else if (id == kSteer) {
            t.job = {{run * 0.3}, {run * 0.7}};
            if (t.jobs % 40 == 7 || (quarrel_done_ && !quarrel_met_)) {
                t.job = {{run * 0.3, Then::take}, {40, Then::give}, {run * 0.6}};
                quarrel_met_ = quarrel_met_ || quarrel_done_;
            }
        } else if (id == kLog) {
            const bool bare = wrongs_.unguarded_at >= 0 && at >= wrongs_.unguarded_at && !unguarded_done_;
            if (bare) {
                unguarded_done_ = true;
                t.job = {{100, Then::use}, {25'000, Then::unuse}, {run}};
            } else if (wrongs_.quarrel_at >= 0 && at >= wrongs_.quarrel_at - 100'000 && !quarrel_ready_) {
                quarrel_ready_ = true;
                t.job = {{100, Then::take}, {run * 5, Then::give}, {run}};
            } else if (wrongs_.mask_at >= 0 && at >= wrongs_.mask_at && !mask_done_) {
                mask_done_ = true;
                t.job = {{run * 0.5, Then::mask}, {wrongs_.mask_for, Then::unmask}, {run * 0.5}};
            } else {
                t.job = {{run * 0.45, Then::take}, {30, Then::use},           {200, Then::unuse}, {1, Then::give},
                         {run * 0.2, Then::mask},  {about(15), Then::unmask}, {run * 0.35}};
            }
        } else {
            if (within(at, wrongs_.slow_reader_from, wrongs_.slow_reader_for)) run *= 60;
            t.job = {{30, Then::receive}, {run}};
        }
        tell(OsKind::task_ready, id);
    }

    template <class Body>
    void interrupt(std::uint32_t number, double length, Body body) {
        now_ += 0.5;
        tell(OsKind::isr_enter, number);
        now_ += length;
        body();
        tell(OsKind::isr_exit, number);
    }

    // Whose turn it is; the holder of the lock in place of a more urgent one that waits for it.
    std::uint32_t choose() const {
        for (std::uint32_t id = kTasks; id-- > 1;) {
            if (!tasks_[id].ready) continue;
            if (!tasks_[id].waits) return id;
            if (wrongs_.inherit && holder_) return *holder_;
        }
        return kIdle;
    }

    void step() {
        if (!masked_) {
            if (now_ >= next_limit_) {
                next_limit_ += 31;
                if (++limits_ >= 700) next_limit_ = 1e18;
                interrupt(3, about(7), [] {});
                return;
            }
            if (now_ >= next_word_) {
                next_word_ = now_ + std::uniform_real_distribution<double>(20'000, 40'000)(random_);
                interrupt(2, about(4), [this] {
                    if (fill_ == 6) {
                        tell(OsKind::queue_send_failed, kQueue, fill_);
                        return;
                    }
                    tell(OsKind::queue_send, kQueue, ++fill_);
                    if (!tasks_[kReader].ready) release(kReader);
                });
                return;
            }
            if (now_ >= next_tick_) {
                next_tick_ += 1000;
                interrupt(1, about(3), [this] {
                    for (const std::uint32_t id : {kLog, kPlan, kSteer}) {
                        Task& t = tasks_[id];
                        while (t.next <= now_) {
                            const double due = t.next;
                            t.next += t.period;
                            if (id == kSteer && wrongs_.missed_at >= 0 && due >= wrongs_.missed_at && !missed_done_) {
                                missed_done_ = true;
                                continue;
                            }
                            release(id);
                            if (id == kPlan && wrongs_.drift_at >= 0 && due >= wrongs_.drift_at && drifted_ < 18) {
                                ++drifted_;
                                t.next += 1000;
                            }
                            if (id == kSteer && within(due, wrongs_.jitter_at, 100'000)) {
                                shift_ = shift_ > 0 ? -2000 : 2000;
                                t.next += shift_ > 0 ? 2000 : -2000;
                            } else if (id == kSteer && shift_ > 0) {
                                t.next -= 2000;
                                shift_ = 0;
                            }
                        }
                    }
                });
                return;
            }
        }
        if (wrongs_.fault_at >= 0 && now_ >= wrongs_.fault_at && running_ == kReader) {
            texts_.faults = {{"divide_by_zero", 0x08001234, 0}};
            tell(OsKind::fault);
            stopped_ = true;
            return;
        }
        if (wrongs_.lose_at >= 0 && now_ >= wrongs_.lose_at && !lost_) {
            lost_ = true;
            writer_->lost(0, 100);
        }
        const std::uint32_t next = choose();
        if (next != running_ && !masked_) {
            now_ += 1;
            running_ = next;
            tell(OsKind::task_switch_in, next);
        }
        double until =
            std::min({end_, std::max(now_, next_tick_), std::max(now_, next_word_), std::max(now_, next_limit_)});
        if (masked_) until = end_;
        Task& t = tasks_[running_];
        if (running_ == kIdle) {
            now_ = until;
            return;
        }
        Segment& s = t.job.front();
        const double run = std::min(s.left, until - now_);
        now_ += run;
        s.left -= run;
        if (s.left <= 1e-6) finish_segment(t);
    }

    void finish_segment(Task& t) {
        const Then then = t.job.front().then;
        if (then == Then::take && holder_ && *holder_ != running_) {
            t.waits = true;
            tell(OsKind::mutex_take_blocked, kLock);
            tell(OsKind::task_block, running_, kLock, static_cast<std::uint8_t>(BlockReason::mutex));
            running_ = kTasks;
            return;
        }
        t.job.pop_front();
        switch (then) {
            case Then::take:
                holder_ = running_;
                tell(OsKind::mutex_take, kLock);
                break;
            case Then::give:
                holder_.reset();
                tell(OsKind::mutex_give, kLock);
                for (std::uint32_t id = kTasks; id-- > 1;)
                    if (tasks_[id].waits) {
                        tasks_[id].waits = false;
                        tell(OsKind::task_ready, id);
                    }
                break;
            case Then::use:
                tell(OsKind::marker, 1, kTable);
                break;
            case Then::unuse:
                tell(OsKind::marker, 2, kTable);
                break;
            case Then::mask:
                masked_ = true;
                tell(OsKind::critical_enter);
                break;
            case Then::unmask:
                masked_ = false;
                tell(OsKind::critical_exit);
                break;
            case Then::receive:
                tell(OsKind::queue_receive, kQueue, --fill_);
                break;
            case Then::nothing:
                break;
        }
        if (!t.job.empty()) return;
        const std::uint32_t id = running_;
        tell(OsKind::task_block, id, 0, static_cast<std::uint8_t>(BlockReason::activation));
        t.ready = false;
        running_ = kTasks;
        if (id == kReader ? fill_ > 0 : t.backlog > 0) {
            if (id != kReader) --t.backlog;
            release(id);
        }
    }

    Wrongs wrongs_;
    std::mt19937 random_;
    std::unique_ptr<CtfWriter> writer_;
    OsBlock texts_;
    std::array<Task, kTasks> tasks_{};
    double now_ = 10, end_ = 0, next_tick_ = 0, next_word_ = 0, next_limit_ = 0;
    std::uint32_t running_ = kTasks;
    std::optional<std::uint32_t> holder_;
    int fill_ = 0, limits_ = 0, shift_ = 0, drifted_ = 0;
    bool masked_ = false, stopped_ = false, lost_ = false, long_job_done_ = false, missed_done_ = false;
    bool quarrel_ready_ = false, quarrel_done_ = false, quarrel_met_ = false, unguarded_done_ = false,
         mask_done_ = false;
};

/// Writes a trace event by event, at the time that `now` says (in microseconds).
class EventScript {
  public:
    explicit EventScript(const std::string& folder)
        : writer_(std::move(*CtfWriter::create(folder, {"script", 1'000'000, 1}))) {}
    std::int64_t now = 0;

    void put(OsKind kind, std::uint32_t subject, std::int64_t value = 0, std::uint8_t code = 0,
             const std::string& text = "") {
        OsBlock block;
        block.texts.push_back(text);
        OsEvent e;
        e.kind = kind;
        e.subject = subject;
        e.value = value;
        e.code = code;
        writer_->write(e, now, block);
    }
    void task(std::uint32_t id, const std::string& name, int priority) {
        put(OsKind::task_create, id, text_and_priority(0, priority), 0, name);
    }
    void name(ObjectKind kind, std::uint32_t id, const std::string& text) {
        put(OsKind::object_name, id, text_and_priority(0, kNoPriority), static_cast<std::uint8_t>(kind), text);
    }
    void block(std::uint32_t task, BlockReason reason, std::uint32_t object = 0) {
        put(OsKind::task_block, task, object, static_cast<std::uint8_t>(reason));
    }
    void finish() { (void)writer_->finish(); }

  private:
    std::unique_ptr<CtfWriter> writer_;
};

/// Writes the trace of a task "guide" that works 100 µs, waits for the queue "frames" (number 9), works 300 µs between
/// the marks 1 and 2 of port 5 and 50 µs more, and waits for its next job; each round takes 1 ms.
inline void write_jobs_of_two_parts(const std::string& folder, int rounds) {
    constexpr std::uint32_t kTask = 1, kIdle = 2, kQueue = 9, kPort = 5;
    EventScript script(folder);
    std::int64_t& now = script.now;
    const auto run = [&] {
        script.put(OsKind::task_ready, kTask);
        script.put(OsKind::task_switch_in, kTask);
    };
    const auto block = [&](BlockReason reason, std::uint32_t object) {
        script.block(kTask, reason, object);
        script.put(OsKind::task_switch_in, kIdle);
    };
    script.task(kTask, "guide", 5);
    script.task(kIdle, "idle", 0);
    script.name(ObjectKind::queue, kQueue, "frames");
    script.put(OsKind::task_switch_in, kTask);
    block(BlockReason::activation, 0);
    for (int i = 0; i < rounds; ++i) {
        now = 1000 * (i + 1);
        run();
        now += 100;
        block(BlockReason::queue_empty, kQueue);
        now += 200;
        run();
        script.put(OsKind::marker, kPort, 1);
        now += 300;
        script.put(OsKind::marker, kPort, 2);
        now += 50;
        block(BlockReason::activation, 0);
    }
    script.finish();
}

}  // namespace mt::test
