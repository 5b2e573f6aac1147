// One stream of instruction trace as its bytes come: what a pass over a file and a live recording have in common.
#pragma once

#include <condition_variable>
#include <memory>
#include <mutex>
#include <span>
#include <thread>
#include <vector>

#include "trail/nest_lanes.h"
#include "trail/recording.h"
#include "trail/step_reader.h"
#include "trail/trail.h"

namespace mt {

/// An empty StepTrail for each step stream.
void prepare_steps(const Recording& recording, Trail& trail);
/// The decoder of step stream `index`, as its target file says.
StepPipe make_step_pipe(const Recording& recording, std::size_t index);

/// Takes raw bytes of step stream `index` into `trail.steps[index]`, and exceptions into the lanes of its core if no
/// other stream tells them. The program is followed on the caller's thread; the call stack is made on another, if the
/// machine has one: `trail` may be looked at only between `settle` or `finish` and the next `feed`. What comes out does
/// not depend on how bytes, blocks and threads are divided. One thread at a time; both arguments must outlive it.
/// REQUIRES: prepare_steps was called.
class GrowingSteps {
  public:
    /// How the work is divided; what comes out does not depend on it.
    struct Work {
        bool two_threads = std::thread::hardware_concurrency() > 1;
        std::size_t block_items = 1 << 11;
    };
    GrowingSteps(const Recording& recording, std::size_t index, Trail& trail, Work work);
    GrowingSteps(const Recording& recording, std::size_t index, Trail& trail);
    ~GrowingSteps();

    /// Takes bytes that follow those before.
    void feed(std::span<const std::uint8_t> raw);
    /// Bytes are missing before those fed next, which begin at `offset` of the file.
    void lose(std::uint64_t offset);
    /// No more bytes will come.
    void finish();
    /// Waits until all that was fed is in the trail, counts and lanes too.
    void settle();
    /// Adds to a snapshot what is still on the stack, up to now.
    void add_open(StepTrail& copy) const { reader_.add_open(copy); }
    const StepPipe& pipe() const { return pipe_; }

  private:
    StepTrail& trail() { return all_.steps[index_]; }
    void checkpoint();
    std::unique_ptr<StepBlock> hand_on(std::unique_ptr<StepBlock> block);
    void drain();
    void work();

    const Recording& recording_;
    Trail& all_;
    std::size_t index_, core_;
    StepPipe pipe_;
    StepReader reader_;  ///< the other thread's, while there is something to do
    std::size_t block_items_;
    StepLog log_;
    std::unique_ptr<NestLanes> lanes_;  ///< null: another stream tells them
    std::uint64_t position_ = 0, point_ = 0;
    bool any_point_ = false;

    static constexpr std::size_t kMostWaiting = 16;
    std::mutex lock_;
    std::condition_variable changed_;
    std::vector<std::unique_ptr<StepBlock>> waiting_, free_;  ///< waiting_: oldest first
    bool busy_ = false, over_ = false;
    std::thread worker_;
};

}  // namespace mt
