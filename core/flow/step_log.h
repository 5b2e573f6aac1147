// What a flow tells, written down in blocks, so that following the program and making a call stack of it can run on two
// threads. Counts of executions are made here, on the way.
#pragma once

#include <functional>
#include <memory>
#include <utility>
#include <vector>

#include "flow/hops.h"
#include "flow/step_pipe.h"
#include "flow/steps.h"

namespace mt {

/// So many things that a flow told, in order.
struct StepBlock {
    struct Item {
        enum class Kind : std::uint8_t { run, hop, turn, trap, trap_return, gap, time, sync, piece, checkpoint };
        Kind kind = Kind::run;
        std::uint8_t used = 0;    ///< of a hop: its branches
        std::uint32_t first = 0;  ///< run: first, last, count; hop: from, key, steps; others: index into a list
        std::uint32_t last = 0, count = 0;
        std::uint32_t end = 0;       ///< of a hop: its last instruction …
        std::uint32_t function = 0;  ///< … and the function it begins in
    };
    /// What a hop over calls and returns did: the item before tells its begin and its end.
    struct Turn {
        std::array<std::uint32_t, Hop::kMostPops> top{};
        std::uint8_t pops = 0, height = 0;
        std::uint32_t first_move = 0, moves = 0;
    };
    /// The decoder stood here.
    struct Mark {
        std::uint64_t raw_offset = 0;
        std::shared_ptr<const StepPipe> pipe;
    };
    std::vector<Item> items;
    std::vector<Turn> turns;
    std::vector<Hop::Move> moves;
    std::vector<StepTrap> traps;
    std::vector<StepGap> gaps;
    std::vector<StepTime> times;
    std::vector<Mark> marks;

    void clear() {
        items.clear();
        turns.clear();
        moves.clear();
        traps.clear();
        gaps.clear();
        times.clear();
        marks.clear();
    }
};

/// `Out` of a flow. One thread at a time. Full blocks go to `sink`, which gives an empty one back.
class StepLog {
  public:
    using Sink = std::function<std::unique_ptr<StepBlock>(std::unique_ptr<StepBlock>)>;

    StepLog(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions, Sink sink,
            std::size_t block_items = 1 << 11);

    void run(const StepRun& r) {
        ++begins_[r.first];
        ++ends_[r.last];
        StepBlock::Item& i = add(StepBlock::Item::Kind::run);
        i.first = r.first;
        i.last = r.last;
        i.count = r.count;
        end_with(r.last);
    }
    /// Many branches at once, where nothing but branches and jumps, calls and returns happen. Gives the way; null if
    /// the next branch must be walked. Its end is where the walk stands then.
    const Hop* hop(std::uint32_t slot, std::uint64_t bits, std::uint32_t available, const ReturnStack& stack = {}) {
        if (!plain_) return nullptr;
        Hop& h = hops_.look_up(slot, bits, available, stack, [this](const Hop& old) { count(old); });
        if (h.used == 0 || h.function != function_) return nullptr;
        if (h.height > 0 && stack.returns != nullptr && stack.returns->size() + h.height > stack.most) return nullptr;
        ++h.count;
        StepBlock::Item& i = add(h.moves == 0 ? StepBlock::Item::Kind::hop : StepBlock::Item::Kind::turn);
        i.first = slot;
        i.last = h.key;
        i.used = h.used;
        i.count = h.steps;
        i.end = h.last;
        i.function = h.function;
        if (h.moves != 0) {
            StepBlock::Turn& t = block_->turns.emplace_back();
            t.top = h.top;
            t.pops = h.pops;
            t.height = h.height;
            t.moves = h.moves;
            t.first_move = static_cast<std::uint32_t>(block_->moves.size());
            block_->moves.insert(block_->moves.end(), h.move.begin(), h.move.begin() + h.moves);
        }
        plain_ = true;  // it stands on a branch
        function_ = h.ends_in;
        return &h;
    }
    void trap(const StepTrap& t) {
        plain_ = false;
        StepBlock::Item& i = add(StepBlock::Item::Kind::trap);
        i.first = static_cast<std::uint32_t>(block_->traps.size());
        block_->traps.push_back(t);
    }
    void trap_return() {
        plain_ = false;
        add(StepBlock::Item::Kind::trap_return);
    }
    void gap(const StepGap& g) {
        plain_ = false;
        StepBlock::Item& i = add(StepBlock::Item::Kind::gap);
        i.first = static_cast<std::uint32_t>(block_->gaps.size());
        block_->gaps.push_back(g);
    }
    void time(const StepTime& t) {
        StepBlock::Item& i = add(StepBlock::Item::Kind::time);
        i.first = static_cast<std::uint32_t>(block_->times.size());
        block_->times.push_back(t);
    }
    void sync(std::uint64_t) { add(StepBlock::Item::Kind::sync); }

    /// The end of a piece of bytes.
    void piece() { add(StepBlock::Item::Kind::piece); }
    void checkpoint(std::uint64_t raw_offset, std::shared_ptr<const StepPipe> pipe) {
        StepBlock::Item& i = add(StepBlock::Item::Kind::checkpoint);
        i.first = static_cast<std::uint32_t>(block_->marks.size());
        block_->marks.push_back({raw_offset, std::move(pipe)});
    }
    /// Hands on what there is.
    void flush();
    /// Runs that begin, and end, at each slot, so far.
    std::pair<std::vector<std::uint64_t>, std::vector<std::uint64_t>> counts();

  private:
    StepBlock::Item& add(StepBlock::Item::Kind kind) {
        if (block_->items.size() >= block_items_) flush();
        StepBlock::Item& i = block_->items.emplace_back();
        i.kind = kind;
        return i;
    }
    void end_with(std::uint32_t last) {
        const Flow f = (*code_)[last].flow;
        plain_ = f <= Flow::jump || f == Flow::barrier;
        function_ = functions_->at(last);
    }
    void count(const Hop& h);

    std::shared_ptr<const Code> code_;
    std::shared_ptr<const FunctionTable> functions_;
    Sink sink_;
    std::size_t block_items_;
    std::unique_ptr<StepBlock> block_;
    std::vector<std::uint64_t> begins_, ends_;
    HopTable hops_;
    bool plain_ = false;  ///< the last instruction stays in its function, as a rule, and nothing came behind it
    std::uint32_t function_ = 0;
};

}  // namespace mt
