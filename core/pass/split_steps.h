// Following a program on several threads: the stream is cut where decoding can begin afresh, the stretches are followed
// at the same time, and what they tell is taken in order. Where a stretch did not begin as was guessed, it is followed
// once more: what comes out is the same as if nothing had been cut.
#pragma once

#include <algorithm>
#include <condition_variable>
#include <deque>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <span>
#include <thread>
#include <utility>
#include <vector>

#include "base/cores.h"
#include "flow/step_log.h"

namespace mt {

/// Fed by one thread at a time. Bytes are copied where they are needed later.
class SplitSteps {
  public:
    /// Takes what the flow told, in order; from one thread at a time, but not always the same.
    using Read = std::function<void(const StepBlock&)>;
    /// How the work is divided; what comes out does not depend on it.
    struct Work {
        unsigned threads = usable_cores();  ///< with the one that feeds
        std::size_t block_items = 1 << 11;
        /// Bytes after which the next stretch begins as soon as it can.
        std::function<std::size_t()> stretch = [] { return std::size_t{48} * 1024; };
    };

    SplitSteps(StepPipe pipe, std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions,
               Read read, Work work);
    ~SplitSteps();

    // As for StepPipe and StepLog.
    void feed(std::span<const std::uint8_t> raw);
    void lose();
    void finish();
    void piece();
    /// The decoder is kept here.
    void checkpoint(std::uint64_t raw_offset);

    /// Something to be done with what was read, after all that was put off before; by whoever is free. REQUIRES: called
    /// while reading, or after drain.
    void put_off(std::function<void()> task);
    /// Waits until all that was fed is read, and what was put off is done.
    void drain();
    /// After drain: the decoder at the end of all that was fed.
    StepPipe pipe() const;
    /// After drain: all runs; `taken` as in StepBlock::count.
    RunCounts counts();
    /// Nobody helps the one that feeds.
    bool alone() const { return threads_.empty(); }
    /// Stretches so far that began with a guess, and those of them that were followed once more.
    std::uint64_t guessed() const { return guessed_; }
    std::uint64_t repeated() const { return repeated_; }

  private:
    struct Op {
        enum class Kind : std::uint8_t { bytes, broken, finish, piece, checkpoint } kind = Kind::bytes;
        std::uint64_t at = 0;  ///< bytes: where they begin in those of the stretch; checkpoint: raw offset
        std::uint64_t size = 0;
        std::shared_ptr<const TpiuDeframer> frames{};
    };
    struct Stretch {
        std::vector<Op> ops;
        std::vector<std::uint8_t> bytes;
        std::optional<StepPipe> guess;  ///< where it begins; none: where the one before ends
        enum class State : std::uint8_t { waiting, followed, certain } state = State::waiting;
        bool taken = false;  ///< somebody follows or reads it
        std::vector<std::unique_ptr<StepBlock>> blocks;
        std::optional<StepPipe> end;
    };
    // One thread's tools.
    struct Follower {
        Stretch* stretch = nullptr;
        std::unique_ptr<StepLog> log;
    };

    Stretch& now();
    void add(Op op) { now().ops.push_back(std::move(op)); }
    void add_bytes(std::span<const std::uint8_t> bytes);
    void push();
    void help_until(const std::function<bool()>& enough);
    bool work(unsigned thread, std::unique_lock<std::mutex>& guard);
    bool do_put_off(std::unique_lock<std::mutex>& guard);
    bool read_next(std::unique_lock<std::mutex>& guard);
    bool follow_next(unsigned thread, std::unique_lock<std::mutex>& guard);
    void run(unsigned thread);
    void follow(Follower& by, Stretch& s, StepPipe pipe);
    void make_certain();
    void repeat(Stretch& s);
    std::unique_ptr<StepBlock> another_block(std::unique_ptr<StepBlock> full, Stretch& s);
    template <class Out>
    void tell(const Op& op, const Stretch& s, StepPipe& pipe, Out& out);

    Read read_;
    Work work_;
    std::shared_ptr<const Code> code_;
    std::optional<TpiuDeframer> frames_;
    StepPipe blank_;          ///< nothing was fed to it
    StepPipe end_;            ///< where the last stretch that was read ended
    std::uint64_t fed_ = 0;   ///< bytes out of the frames
    std::size_t wanted_ = 0;  ///< bytes of the present stretch
    std::unique_ptr<Stretch> filling_;
    std::vector<std::uint8_t> unframed_;
    std::vector<TpiuDeframer::Break> breaks_;
    std::vector<Follower> followers_;

    std::mutex lock_;
    std::condition_variable changed_;
    std::deque<std::unique_ptr<Stretch>> stretches_;  ///< not read yet, in order
    std::vector<std::unique_ptr<StepBlock>> free_;
    std::deque<std::function<void()>> put_off_;
    bool doing_ = false;  ///< one of them is being done
    std::uint64_t guessed_ = 0, repeated_ = 0;
    std::optional<StepPipe> correction_;                            ///< a guess was wrong: how packets are to be read
    RunCounts too_often_;  ///< what was followed twice
    bool over_ = false;
    std::vector<std::thread> threads_;
};

}  // namespace mt
