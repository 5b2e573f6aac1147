// A Thumb program walked without data: conditional branches go as chance or a goal wants, calls return to where they
// came from, exceptions cut in. What a trace unit would tell of it goes to an encoder.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <random>
#include <string>
#include <vector>

#include "etm4_encoder.h"
#include "target/functions.h"

namespace board {

/// One core. The walk itself is what happened: `ran` hears of every straight run.
class ThumbWalk {
  public:
    using Ran = std::function<void(std::uint32_t first, std::uint32_t last)>;

    ThumbWalk(std::shared_ptr<const mt::Code> code, std::shared_ptr<const mt::FunctionTable> functions,
              Etm4Encoder* encoder, std::uint64_t seed, Ran ran = {});

    /// A thread of its own, which begins at the entry of a function. Threads are numbered as the caller likes; the
    /// first begins the trace.
    void thread(unsigned number, const std::string& function, std::uint64_t cycle);
    /// What runs goes on from cycle to cycle, one instruction in one or two cycles, and finds its way to `function` and
    /// stays there as well as it can; an empty name: wherever it is. Before an `svc` and behind a `wfi` it waits.
    void run(const std::string& function, std::uint64_t from, std::uint64_t to);
    /// Exception `number` cuts in; its handler begins at the entry of `handler`. An SVCall executes the next `svc`
    /// first, if there is one near. `chained`: straight from the handler that `leave` was told of.
    void enter(unsigned number, const std::string& handler, std::uint64_t cycle, bool chained);
    /// The handler that runs goes to its return and executes it. `to_exception`: another is entered next, without a
    /// return.
    void leave(std::uint64_t cycle, bool to_exception);
    /// Which thread goes on once no handler runs.
    void switch_to(unsigned number) { thread_ = number; }
    bool in_handler() const { return !nest_.empty(); }

    /// Goes to the instruction at `address` and stands before it.
    void stand_before(std::uint64_t address, std::uint64_t cycle);

    std::uint64_t instructions() const { return instructions_; }

  private:
    struct Place {
        std::uint32_t pc = mt::Code::kNowhere;
        std::vector<std::uint32_t> returns;
        bool asleep = false;  ///< stands behind a wfi that nothing has ended yet
    };
    using Choices = std::vector<bool>;

    Place& here() { return nest_.empty() ? threads_[thread_] : nest_.back(); }
    /// The first svc from `first` to the end of its run; kNowhere if there is none.
    std::uint32_t svc_ahead(std::uint32_t first) const;
    /// To the end of the run and over the branch there. False: it waits (for an exception, or because it is time).
    bool go(Place& place, bool taken);
    /// Executes up to and with `last`, as far as there is time.
    bool execute(Place& place, std::uint32_t last);
    std::optional<Choices> way(const Place& from, const std::function<bool(const Place&)>& there) const;
    /// What the branch at the end of the run from `place` leads to; false if that is not known.
    bool follow(Place& place, bool taken) const;
    void walk_to(Place& place, const std::function<bool(const Place&)>& there);
    std::uint32_t entry_of(const std::string& function) const;

    std::shared_ptr<const mt::Code> code_;
    std::shared_ptr<const mt::FunctionTable> functions_;
    Etm4Encoder* encoder_;
    Ran ran_;
    std::mt19937_64 random_;
    std::vector<Place> threads_;
    std::vector<Place> nest_;
    unsigned thread_ = 0;
    bool begun_ = false;
    std::uint64_t cycle_ = 0, until_ = 0, instructions_ = 0;
};

}  // namespace board
