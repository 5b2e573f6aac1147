// Stretches of program between branches that were walked before: many branches at the cost of one look-up.
#pragma once

#include <algorithm>
#include <array>
#include <bit>
#include <cstdint>
#include <deque>
#include <memory>
#include <memory_resource>
#include <span>
#include <vector>

#include "flow/steps.h"
#include "target/functions.h"

namespace mt {

/// Where some branches lead from a place, as long as nothing else happens than branches, jumps, calls, and returns to
/// where the return stack or the trace says. Never changed once made.
struct alignas(64) Hop {
    /// A call or a return on the way; of the last instruction it is not told: what comes next shows where it led.
    struct Move {
        std::uint32_t back = 0;      ///< slot that is returned to
        std::uint32_t function = 0;  ///< that is called, or returned to
        std::uint32_t steps = 0;     ///< instructions from the hop's begin up to and with the call or return
        std::uint32_t inside = 0;    ///< of a call whose return is the next move: instructions until then
        bool enters = false;
    };
    static constexpr std::size_t kMostMoves = 8, kMostPops = 2;

    // What is asked for each time stands side by side.
    std::uint32_t end = 0;       ///< where the walk stands then
    std::uint32_t before = 0;    ///< of RISC-V: the instruction before that
    std::uint32_t first = 0;     ///< the first instruction executed on the way
    std::uint32_t function = 0;  ///< of the first
    std::uint32_t steps = 0;     ///< instructions executed on the way
    std::uint32_t behind = 0;    ///< slot behind the last
    Flow flow = Flow::none;      ///< of the last
    std::uint8_t flags = 0;      ///< of the last
    bool plain = false;          ///< goes_on(flow)
    std::uint8_t used = 0;       ///< branches on the way
    std::uint8_t pops = 0;       ///< returns among `moves` to calls from before the hop: to top[0], top[1]
    std::uint8_t height = 0;     ///< calls open at once at the most, above those from before
    std::uint8_t takes = 0;      ///< from the return stack, all in all …
    bool address = false;        ///< Arm: it ends with a jump to where the packet behind the branches says
    std::array<std::uint32_t, kMostPops> top{};
    std::span<const Move> moves;
    bool stacks = false;          ///< it leaves the return stack otherwise than it was
    bool waits = false;           ///< `sleeps` has some
    bool decides = false;         ///< its last instruction goes elsewhere or on: what comes next shows which
    std::uint32_t halfwords = 0;  ///< of code on the way, where it stands ahead

    std::span<const std::uint32_t> leaves;  ///< … what it leaves there instead, the outermost first
    std::span<const std::uint32_t> sleeps;  ///< instructions from the begin up to and with one that waits; ascending
    std::span<const StepRun> runs;
};

/// Owns hops. Hops are added by one thread and read by others to whom they are handed.
class HopStore {
  public:
    static constexpr std::size_t kMost = std::size_t{1} << 16;

    bool full() const { return hops_.size() >= kMost; }
    Hop& add() { return hops_.emplace_back(); }
    template <class T>
    std::span<const T> keep(const std::vector<T>& list) {
        if (list.empty()) return {};
        T* to = static_cast<T*>(memory_.allocate(list.size() * sizeof(T), alignof(T)));
        std::copy(list.begin(), list.end(), to);
        return {to, list.size()};
    }

  private:
    std::deque<Hop> hops_;
    std::pmr::monotonic_buffer_resource memory_;
};

/// What a walk knows of where returns go.
struct ReturnStack {
    const std::vector<std::uint32_t>* returns = nullptr;  ///< the innermost last; null: the trace tells of each return
    std::size_t most = 0;                                 ///< the oldest makes room beyond this
    bool calls = false;                                   ///< hops may go over calls
    std::uint32_t address = Code::kNowhere;  ///< Arm: where the packet behind the branches leads, if it is known
    bool ahead = false;                      ///< RISC-V: the walk stands before an instruction to be executed
    std::uint64_t most_halfwords = ~std::uint64_t{0};  ///< no hop may pass more

    std::uint32_t top(std::size_t i) const {
        return returns != nullptr && i < returns->size() ? (*returns)[returns->size() - 1 - i] : Code::kNowhere;
    }
    /// A stack of return addresses after `hop`; the oldest makes room beyond `most`.
    [[gnu::always_inline]] static void follow(const Hop& hop, std::vector<std::uint32_t>& returns, std::size_t most) {
        if (!hop.stacks) return;
        returns.erase(returns.end() - hop.takes, returns.end());
        for (const std::uint32_t back : hop.leaves) {
            if (returns.size() == most) returns.erase(returns.begin());
            returns.push_back(back);
        }
    }
};

/// One thread at a time. A walk is of the kind that E-Trace tells (only conditional branches count; it stands on a
/// branch that was executed, and leaves it by the next bit; a set bit means not taken), or of the kind that Arm trace
/// tells (each branch, jump, call and return counts; it stands before an instruction to be executed; a set bit means
/// taken), or of the kind that N-Trace tells (only conditional branches count, but it stands ahead, and a set bit means
/// taken).
class HopTable {
  public:
    HopTable(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions);

    /// A hop, or that there is none, and how often it was taken since it stands here.
    struct Entry {
        std::uint32_t from = Code::kNowhere, key = 0;
        std::array<std::uint32_t, Hop::kMostPops> top{};
        const Hop* hop = nullptr;  ///< null: the very first branch leads elsewhere
        std::uint32_t count = 0;   ///< may become kFull, not more
        bool deep = false;         ///< it looked at both of `top`
        static constexpr std::uint32_t kFull = ~std::uint32_t{0};
    };
    static_assert(sizeof(Entry) == 32);  // two in a line of the cache

    /// The hop from `slot` by the first of `available` bits. REQUIRES: available > 0. Tells `retire(entry)` of one that
    /// makes room.
    template <class Retire>
    Entry& look_up(std::uint32_t slot, std::uint64_t bits, std::uint32_t available, const ReturnStack& stack,
                   Retire retire) {
        std::uint32_t length = std::min(available, kMostBits), key = 0;
        std::uint32_t top = stack.top(0);
        if (arm_) {
            // Few lengths, so that the table holds few stretches; all bits where an address stands behind them. Which
            // it is cannot be foreseen: no jumps.
            const bool whole = (stack.address != Code::kNowhere) & (available <= kMostBits);
            length = whole ? length : std::bit_floor(length);
            top = whole ? stack.address : top;
            key = (whole ? kToAddress : 0) | (available > length ? kMoreBehind : 0);
        }
        key |= (stack.ahead ? kAhead : 0) | (stack.calls ? kCalls : 0) | (stack.returns != nullptr ? kReturns : 0) |
               length << 8 | static_cast<std::uint32_t>(bits & ((1u << length) - 1));
        Entry& e = place(slot, key, top);
        if (e.from == slot && e.key == key && e.top[0] == top && (!e.deep || e.top[1] == stack.top(1))) return e;
        renew(e, slot, key, {top, stack.top(1)}, retire);
        e.hop = make(slot, key, e.top);
        e.deep = walk_.reads > 1;
        return e;
    }
    /// As look_up, where an atom is told of each instruction, that of the first lowest. `address`: where the packet behind
    /// all the atoms leads, if it is known; a hop that uses all of them ends there. REQUIRES: available > 0.
    template <class Retire>
    Entry& look_up_each(std::uint32_t slot, std::uint64_t atoms, std::uint32_t available, std::uint32_t address,
                        Retire retire) {
        const bool whole = address != Code::kNowhere && available <= kMostEach;
        const std::uint32_t length = whole ? available : std::bit_floor(std::min(available, kMostEach));
        const std::uint32_t key = kEach | kCalls | (whole ? kToAddress : 0) | length << 8;
        const auto bits = static_cast<std::uint32_t>(atoms & ((std::uint64_t{1} << length) - 1));
        const std::uint32_t top = whole ? address : Code::kNowhere;
        Entry& e = place(slot, key ^ bits * 0x27D4'EB2Fu, top);
        if (e.from == slot && e.key == key && e.top[0] == top && e.top[1] == bits) return e;
        renew(e, slot, key, {top, bits}, retire);
        e.hop = make(slot, key, e.top);
        return e;
    }
    /// What `learn` made of this; nothing if it never was told.
    Entry* find(std::uint32_t slot, std::uint64_t bits, std::uint32_t count, std::uint32_t to) {
        const std::uint32_t key = kLearnt | count << 8 | static_cast<std::uint32_t>(bits & ((1u << count) - 1));
        Entry& e = place(slot, key, to);
        return e.from == slot && e.key == key && e.top[0] == to ? &e : nullptr;
    }
    /// Keeps what was walked run by run from `slot` by `used` of the `count` bits to `to`, if a hop can be made of it:
    /// nothing but branches and jumps within one function. REQUIRES: count <= kMostBits.
    template <class Retire>
    void learn(std::uint32_t slot, std::uint64_t bits, std::uint32_t count, std::uint32_t to,
               const std::vector<StepRun>& runs, std::uint32_t used, std::uint32_t before, Retire retire) {
        const std::uint32_t key = kLearnt | count << 8 | static_cast<std::uint32_t>(bits & ((1u << count) - 1));
        Entry& e = place(slot, key, to);
        renew(e, slot, key, {to, Code::kNowhere}, retire);
        e.hop = make_of(runs, used, before);
    }
    template <class Each>
    void each(Each each) {
        for (Entry& e : entries_)
            if (e.count > 0) each(e);
    }
    /// Whoever reads hops keeps their store.
    const std::shared_ptr<HopStore>& store() const { return store_; }
    /// If the store is full, begins a new one.
    template <class Retire>
    void make_room(Retire retire) {
        if (!store_->full()) return;
        for (Entry& e : entries_) {
            if (e.count > 0) retire(e);
            e = {};
        }
        store_ = std::make_shared<HopStore>();
    }

    static constexpr std::uint32_t kMostBits = 8, kMostEach = 32;

  private:
    static constexpr unsigned kBits = 15;
    static constexpr std::uint32_t kCalls = 1u << 16, kReturns = 1u << 17, kLearnt = 1u << 18, kToAddress = 1u << 19,
                                   kMoreBehind = 1u << 20, kAhead = 1u << 21, kEach = 1u << 22;

    // Where a walk stands on its way, and what it would tell of itself.
    struct Walk {
        std::uint32_t at = 0, function = 0;
        std::array<std::uint32_t, Hop::kMostPops> top{};
        std::uint8_t reads = 0, height = 0;
        std::uint8_t open = 0;  ///< calls on the way that have not returned
        bool address = false;
        struct Call {
            std::uint32_t back = 0, function = 0;
        };
        std::array<Call, Hop::kMostMoves> call{};
        std::vector<StepRun> runs;
        std::vector<Hop::Move> moves;
        std::vector<std::uint32_t> sleeps;
        std::uint32_t steps = 0, halfwords = 0;
    };

    Entry& place(std::uint32_t slot, std::uint32_t key, std::uint32_t top) {
        return entries_[(slot * 0x9E37'79B1u ^ key * 0x85EB'CA6Bu ^ top * 0xC2B2'AE35u) >> (32 - kBits)];
    }
    template <class Retire>
    static void renew(Entry& e, std::uint32_t slot, std::uint32_t key, std::array<std::uint32_t, Hop::kMostPops> top,
                      Retire retire) {
        if (e.count > 0) retire(e);
        e = {slot, key, top, nullptr, 0, false};
    }
    const Hop* make(std::uint32_t slot, std::uint32_t key, std::array<std::uint32_t, Hop::kMostPops> top);
    const Hop* make_of(const std::vector<StepRun>& runs, std::uint32_t used, std::uint32_t before);
    const Hop* keep(std::uint32_t used, std::uint32_t before);
    /// One branch further. False if that is none for a hop: the walk is spoilt then.
    bool further(std::uint32_t key, bool bit);
    bool further_arm(std::uint32_t key, bool bit, bool final);
    bool further_ahead(std::uint32_t key, bool bit);
    /// `told`: atoms so far, of `length`.
    bool further_each(std::uint32_t key, std::uint32_t atoms, std::uint32_t& told, std::uint32_t length);
    std::uint32_t branch_ahead(std::uint32_t key);
    void run(std::uint32_t first, std::uint32_t last);
    bool call(std::uint32_t last);
    bool give_back(bool from_stack);
    bool fits(std::uint32_t begin, std::uint32_t function) const {
        const Code& code = *code_;
        return begin != Code::kNowhere && code[begin].flow != Flow::none && functions_->at(begin) == function;
    }

    std::shared_ptr<const Code> code_;
    std::shared_ptr<const FunctionTable> functions_;
    std::shared_ptr<HopStore> store_ = std::make_shared<HopStore>();
    std::vector<Entry> entries_;
    Walk walk_;  ///< the one that is made
    bool arm_;
};

}  // namespace mt
