// One stream of instruction trace as its bytes come: what a pass over a file and a live recording have in common.
#pragma once

#include <memory>
#include <span>

#include "trail/recording.h"
#include "trail/step_reader.h"
#include "trail/trail.h"

namespace mt {

/// An empty StepTrail for each step stream.
void prepare_steps(const Recording& recording, Trail& trail);
/// The decoder of step stream `index`, as its target file says.
StepPipe make_step_pipe(const Recording& recording, std::size_t index);

/// Takes raw bytes of step stream `index` into `trail.steps[index]`, and exceptions into the lanes of its core if no
/// other stream tells them. One thread at a time; both arguments must outlive it. REQUIRES: prepare_steps was called.
class GrowingSteps {
  public:
    GrowingSteps(const Recording& recording, std::size_t index, Trail& trail);
    ~GrowingSteps();

    /// Takes bytes that follow those before.
    void feed(std::span<const std::uint8_t> raw);
    /// Bytes are missing before those fed next, which begin at `offset` of the file.
    void lose(std::uint64_t offset);
    /// No more bytes will come.
    void finish();
    /// Counts and lanes as they stand.
    void settle();
    /// Adds to a snapshot what is still on the stack, up to now.
    void add_open(StepTrail& copy) const { reader_.add_open(copy); }
    const StepPipe& pipe() const { return pipe_; }

  private:
    class Lanes;
    StepTrail& trail() { return all_.steps[index_]; }
    void checkpoint();

    const Recording& recording_;
    Trail& all_;
    std::size_t index_, core_;
    StepPipe pipe_;
    StepReader reader_;
    std::unique_ptr<Lanes> lanes_;  ///< null: another stream tells them
    std::uint64_t position_ = 0, point_ = 0;
    bool any_point_ = false;
};

}  // namespace mt
