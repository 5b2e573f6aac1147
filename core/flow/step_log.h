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
        enum class Kind : std::uint8_t { run, hop, trap, trap_return, gap, time, sync, data, piece, checkpoint };
        Kind kind = Kind::run;
        std::uint32_t first = 0;  ///< of a run; of others but hops: index into a list
        struct End {
            std::uint32_t last, count;
        };
        union {
            End end{};       ///< of a run
            const Hop* hop;  ///< kept by `hops`
        };
        /// Instructions executed.
        std::uint32_t steps() const { return kind == Kind::run ? end.count : kind == Kind::hop ? hop->steps : 0; }
    };
    /// The decoder stood here.
    struct Mark {
        std::uint64_t raw_offset = 0;
        std::shared_ptr<StepPipe> pipe;
    };
    explicit StepBlock(std::size_t most) : item(std::make_unique<Item[]>(most)) {}

    std::span<const Item> items() const { return {item.get(), size}; }
    /// Adds the runs that this holds. `taken` has only what happens within hops: what lies between two items, whoever
    /// takes the blocks in their order sees.
    void count(const Code& code, RunCounts& counts) const;

    std::unique_ptr<Item[]> item;
    std::size_t size = 0;
    std::vector<StepTrap> traps;
    std::vector<StepGap> gaps;
    std::vector<StepTime> times;
    std::vector<StepData> data;
    std::vector<Mark> marks;
    std::shared_ptr<const HopStore> hops;

    void clear() {
        size = 0;
        traps.clear();
        gaps.clear();
        times.clear();
        data.clear();
        marks.clear();
    }
};

/// `Out` of a flow. One thread at a time. Full blocks go to `sink`, which gives one back to be filled: the same, or one
/// as large.
class StepLog {
  public:
    using Sink = std::function<std::unique_ptr<StepBlock>(std::unique_ptr<StepBlock>)>;

    StepLog(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions, Sink sink,
            std::size_t block_items = 1 << 11);

    void run(const StepRun& r) {
        ++counts_.begins[r.first];
        ++counts_.ends[r.last];
        StepBlock::Item& i = add(StepBlock::Item::Kind::run);
        i.first = r.first;
        i.end = {r.last, r.count};
    }
    /// Many branches at once, where nothing but branches and jumps, calls and returns happen. Gives the way; null if
    /// the next branch must be walked. Its end is where the walk stands then.
    const Hop* hop(std::uint32_t slot, std::uint64_t bits, std::uint32_t available, const ReturnStack& stack) {
        HopTable::Entry& e = hops_.look_up(slot, bits, available, stack, Counted{*this});
        const Hop* h = e.hop;
        if (h == nullptr || h->halfwords > stack.most_halfwords) return nullptr;
        if (stack.returns != nullptr && h->height > 0 && stack.returns->size() + h->height > stack.most) return nullptr;
        return take(e);
    }
    /// The same where an atom is told of each instruction; see HopTable::look_up_each.
    const Hop* hop_each(std::uint32_t slot, std::uint64_t atoms, std::uint32_t available, std::uint32_t address) {
        HopTable::Entry& e = hops_.look_up_each(slot, atoms, available, address, Counted{*this});
        return e.hop == nullptr ? nullptr : take(e);
    }
    /// The way that was learnt to `to`, through all of `count` branches; `known` says whether there is anything to
    /// learn yet. REQUIRES: count <= HopTable::kMostBits.
    const Hop* hop_to(std::uint32_t slot, std::uint64_t bits, std::uint32_t count, std::uint32_t to, bool& known) {
        HopTable::Entry* e = hops_.find(slot, bits, count, to);
        known = e != nullptr;
        return known && e->hop != nullptr ? take(*e) : nullptr;
    }
    void learn(std::uint32_t slot, std::uint64_t bits, std::uint32_t count, std::uint32_t to,
               const std::vector<StepRun>& runs, std::uint32_t used, std::uint32_t before) {
        hops_.learn(slot, bits, count, to, runs, used, before, Counted{*this});
    }
    void trap(const StepTrap& t) {
        StepBlock::Item& i = add(StepBlock::Item::Kind::trap);
        i.first = static_cast<std::uint32_t>(block_->traps.size());
        block_->traps.push_back(t);
    }
    void trap_return() { add(StepBlock::Item::Kind::trap_return); }
    void gap(const StepGap& g) {
        StepBlock::Item& i = add(StepBlock::Item::Kind::gap);
        i.first = static_cast<std::uint32_t>(block_->gaps.size());
        block_->gaps.push_back(g);
    }
    void time(const StepTime& t) {
        StepBlock::Item& i = add(StepBlock::Item::Kind::time);
        i.first = static_cast<std::uint32_t>(block_->times.size());
        block_->times.push_back(t);
    }
    void data(const StepData& d) {
        StepBlock::Item& i = add(StepBlock::Item::Kind::data);
        i.first = static_cast<std::uint32_t>(block_->data.size());
        block_->data.push_back(d);
    }
    void sync(std::uint64_t) { add(StepBlock::Item::Kind::sync); }

    /// The end of a piece of bytes.
    void piece() { add(StepBlock::Item::Kind::piece); }
    void checkpoint(std::uint64_t raw_offset, std::shared_ptr<StepPipe> pipe) {
        StepBlock::Item& i = add(StepBlock::Item::Kind::checkpoint);
        i.first = static_cast<std::uint32_t>(block_->marks.size());
        block_->marks.push_back({raw_offset, std::move(pipe)});
    }
    /// Hands on what there is.
    void flush();
    /// Runs so far; `taken` as in StepBlock::count.
    const RunCounts& counts();

  private:
    StepBlock::Item& add(StepBlock::Item::Kind kind) {
        if (block_->size == block_items_) flush();
        StepBlock::Item& i = block_->item[block_->size++];
        i.kind = kind;
        return i;
    }
    const Hop* take(HopTable::Entry& e) {
        if (++e.count == HopTable::Entry::kFull) {
            count(e);
            e.count = 0;
        }
        add(StepBlock::Item::Kind::hop).hop = e.hop;
        return e.hop;
    }
    // What makes room in the table is counted.
    struct Counted {
        StepLog& log;
        void operator()(const HopTable::Entry& e) const { log.count(e); }
    };
    void count(const HopTable::Entry& e);

    Sink sink_;
    std::size_t block_items_;
    std::unique_ptr<StepBlock> block_;
    std::shared_ptr<const Code> code_;
    RunCounts counts_;
    HopTable hops_;
};

}  // namespace mt
