// One stream of instruction trace as its bytes come: what a pass over a file and a live recording have in common.
#pragma once

#include <memory>
#include <mutex>
#include <span>
#include <utility>
#include <vector>

#include "model/trail.h"
#include "pass/call_book.h"
#include "pass/data_lanes.h"
#include "pass/nest_lanes.h"
#include "pass/split_steps.h"
#include "pass/step_reader.h"
#include "recording/recording.h"

namespace mt {

/// An empty StepTrail for each step stream.
void prepare_steps(const Recording& recording, Trail& trail);

/// Takes raw bytes of step stream `index` into `trail.steps[index]`, and exceptions into the lanes of its core if no
/// other stream tells them. The program is followed and the call stack is made on as many threads as the machine has:
/// `trail` may be looked at only between `settle` or `finish` and the next `feed`. What comes out does not depend on
/// how bytes, blocks and threads are divided. One thread at a time; both arguments must outlive it. REQUIRES:
/// prepare_steps was called.
class GrowingSteps {
  public:
    using Work = SplitSteps::Work;
    /// `after_s`: so long after the recording's start its first byte came; counts where the trace does not tell its
    /// zero.
    GrowingSteps(const Recording& recording, std::size_t index, Trail& trail, double after_s, Work work = {});

    /// Takes bytes that follow those before.
    void feed(std::span<const std::uint8_t> raw);
    /// Bytes are missing before those fed next, which begin at `offset` of the file.
    void lose(std::uint64_t offset);
    /// No more bytes will come.
    void finish();
    /// Waits until all that was fed is in the trail, counts and lanes too.
    void settle();
    /// Adds to a snapshot what is still on the stack, up to now.
    void add_open(StepTrail& copy) const { book_.add_open(copy); }
    /// After settle or finish: the decoder as it stands.
    StepPipe pipe() const { return split_.pipe(); }
    /// Stretches that were followed on a guess, and those of them twice: it was wrong.
    std::pair<std::uint64_t, std::uint64_t> guesses() const { return {split_.guessed(), split_.repeated()}; }

  private:
    StepTrail& trail() { return all_.steps[index_]; }
    void checkpoint();
    void drain();
    std::unique_ptr<CallBatch> enter_later(std::unique_ptr<CallBatch> batch);

    Trail& all_;
    std::size_t index_, core_;
    CallBook book_;      ///< the threads', while there is something to do
    StepReader reader_;  ///< the same
    std::mutex lock_;
    std::vector<std::unique_ptr<CallBatch>> free_;  ///< to be filled again
    SplitSteps split_;
    DataLanes data_;
    std::unique_ptr<NestLanes> lanes_;  ///< null: another stream tells them
    std::uint64_t position_ = 0, point_ = 0;
    bool any_point_ = false;
    std::size_t doubts_told_ = 0;  ///< of the trail's doubtful stretches: to the lanes that are made of it
};

}  // namespace mt
