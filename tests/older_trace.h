// Random Thumb-2 programs, walked with exceptions at random, and the PFT and ETMv3 trace that tells what they did.
#pragma once

#include <algorithm>
#include <cstdint>
#include <memory>
#include <random>
#include <string>
#include <utility>
#include <vector>

#include "etm4_encoder.h"
#include "target/code.h"
#include "target/protocol_parameters.h"
#include "thumb_program.h"
#include "thumb_walk.h"

namespace mt::test {

struct OlderWalk {
    std::shared_ptr<const Code> code;
    std::shared_ptr<const FunctionTable> functions;
    std::vector<std::uint32_t> slots;                                ///< executed
    std::vector<std::pair<std::size_t, std::uint32_t>> exceptions;  ///< before which of them, and the number
};

/// `stretches`: so many, each with an exception entered or left or none between.
inline OlderWalk older_walk(std::uint64_t seed, int stretches = 400) {
    constexpr unsigned kFunctions = 9, kHandlers = 3;
    OlderWalk w;
    const ThumbProgram program(seed, kFunctions, kHandlers);
    w.code = program.code();
    w.functions = program.functions();
    board::Etm4Encoder unused({});
    board::ThumbWalk core(w.code, w.functions, &unused, seed, [&](std::uint32_t first, std::uint32_t last) {
        for (std::uint32_t s = first;; s = w.code->next(s)) {
            w.slots.push_back(s);
            if (s == last) break;
        }
    });
    std::mt19937_64 random(seed + 1);
    std::uint64_t now = 1000;
    core.thread(0, "f0", now);
    bool inside = false;
    for (int i = 0; i < stretches; ++i) {
        const std::uint64_t until = now + random() % 120;
        core.run({}, now, until);
        now = until;
        if (!inside && random() % 2 == 0) {
            constexpr unsigned numbers[] = {14, 15, 16, 23, 24, 70, 300};
            const unsigned number = numbers[random() % 7];
            core.enter(number, "f" + std::to_string(kFunctions - kHandlers + random() % kHandlers), now, false);
            w.exceptions.emplace_back(w.slots.size(), number);
            inside = true;
        } else if (inside) {
            core.leave(now, false);
            inside = false;
        }
    }
    return w;
}

// What both encoders do: addresses of which the upper bits are left out where they stay.
class OlderEncoder {
  public:
    std::vector<std::uint8_t> bytes;

  protected:
    OlderEncoder(const OlderWalk& walk, std::uint64_t seed, bool hurried) : hurried_(hurried), w_(walk), random_(seed) {}
    /// Now and then, though nothing asks for it: once of so many.
    bool by_chance(unsigned each, unsigned hurried_each) { return random_() % (hurried_ ? hurried_each : each) == 0; }
    void put(std::initializer_list<unsigned> list) {
        for (const unsigned b : list) bytes.push_back(static_cast<std::uint8_t>(b));
    }
    void sync(unsigned reason, unsigned thumb_at) {
        put({0, 0, 0, 0, 0, 0x80, 0x08});
        (void)reason;
        last_ = thumb_at;
    }
    std::uint32_t pc(std::size_t i) const { return static_cast<std::uint32_t>(w_.code->address(w_.slots[i])); }
    // As few bytes as it takes, or more; with room for exception information at least two. `bit6`: what the last byte says.
    void address(std::uint32_t at, bool information, bool bit6, std::size_t first = 1) {
        std::size_t n = 1;
        const unsigned ends[] = {7, bit6 ? 13u : 14u, bit6 ? 20u : 21u, bit6 ? 27u : 28u};
        while (n < 5 && (at ^ last_) >> ends[n - 1] != 0) ++n;
        n = std::min<std::size_t>(5, std::max(n, information ? (bit6 ? 2 : 5) : first) + random_() % 2);
        last_ = at;
        std::uint32_t v = at >> 1;
        for (std::size_t i = 0; i < n; ++i) {
            const bool more = i + 1 < n;
            if (i == 0)
                put({1u | (v & 0x3F) << 1 | (more ? 0x80u : 0u)}), v >>= 6;
            else if (i < 4)
                put({(v & (more || !bit6 ? 0x7Fu : 0x3Fu)) | (more ? 0x80u : 0u) | (!more && information ? 0x40u : 0u)}), v >>= more || !bit6 ? 7 : 6;
            else
                put({0x10u | (v & 0xF) | (information ? 0x40u : 0u)});
        }
    }
    bool exception_before(std::size_t i) const {
        return std::ranges::binary_search(w_.exceptions, i, {}, [](const auto& e) { return e.first; });
    }
    const bool hurried_;  ///< atoms go out long before a packet of them is full, and synchronisations come often
    const OlderWalk& w_;
    std::mt19937_64 random_;
    std::uint32_t last_ = 0;
};

// IHI 0035B, chapters 2 and 4.
class PftEncoder : public OlderEncoder {
  public:
    PftEncoder(const OlderWalk& walk, const PftParameters& k, std::uint64_t seed, bool hurried = true) : OlderEncoder(walk, seed, hurried), k_(k) {
        synchronise(0, 1);
        std::size_t exception = 0;
        bool open = false;  // instructions since the last waypoint
        for (std::size_t i = 0; i < w_.slots.size(); ++i) {
            if (exception < w_.exceptions.size() && w_.exceptions[exception].first == i) {
                flush();
                if (open) {
                    put({0x72});
                    address(pc(i - 1), false, true);
                }
                take_exception(pc(i), w_.exceptions[exception++].second);
                open = false;
            } else if (!open && by_chance(500, 90)) {
                flush();
                synchronise(i, 0);
            }
            open = !waypoint(i);
        }
        flush();
    }

  private:
    void cycles(unsigned first) {
        const unsigned n = static_cast<unsigned>(random_() % (random_() % 5 == 0 ? 4000 : 12));
        put({first | (n & 15) << 2 | (n > 15 ? 0x40u : 0u)});
        for (unsigned v = n >> 4; n > 15; v >>= 7) {
            put({(v & 0x7F) | (v > 0x7F ? 0x80u : 0u)});
            if (v <= 0x7F) break;
        }
    }
    void synchronise(std::size_t i, unsigned reason) {
        sync(reason, pc(i));
        for (unsigned b = 0; b < 4; ++b) put({(pc(i) | 1) >> 8 * b & 0xFF});
        put({1u | reason << 5});
        if (k_.cycle_accurate && reason != 0) cycles(0);
        for (unsigned b = 0; b < k_.context_id_bytes; ++b) put({7});
    }
    void atom(bool taken) {
        if (k_.cycle_accurate) return cycles(0x80u | (taken ? 0u : 2u));
        atoms_.push_back(taken);
        if (atoms_.size() == 5 || (hurried_ && by_chance(1, 6))) flush();
    }
    void flush() {
        if (atoms_.empty()) return;
        constexpr unsigned heads[] = {0x80, 0x88, 0x90, 0xA0, 0xC0};
        unsigned h = heads[atoms_.size() - 1];
        for (std::size_t i = 0; i < atoms_.size(); ++i)
            if (!atoms_[i]) h |= 1u << (atoms_.size() - i);
        put({h});
        atoms_.clear();
    }
    void go_to(std::uint32_t at) {
        flush();
        address(at, false, true);
        if (k_.cycle_accurate) cycles(0);
    }
    void take_exception(std::uint32_t vector, unsigned number) {
        address(vector, true, true);
        put({0x80u | (number & 15) << 1, number >> 4 & 31});
        if (k_.cycle_accurate) cycles(0);
    }
    // Whether the instruction is one; then it is told.
    bool waypoint(std::size_t i) {
        const Code::Slot& s = (*w_.code)[w_.slots[i]];
        if (s.flow == Flow::next || s.flow == Flow::none) return false;
        const bool last = i + 1 == w_.slots.size() || exception_before(i + 1);  // where it led is not known then
        const std::uint32_t behind = w_.slots[i] + s.size, next = last ? Code::kNowhere : w_.slots[i + 1];
        const bool taken = last ? (s.flags & FlowInsn::kConditional) == 0 : next != behind || (s.flags & FlowInsn::kConditional) == 0;
        if (!taken) return atom(false), true;
        if ((s.flags & FlowInsn::kPush) != 0 && k_.return_stack) returns_.push_back(behind);
        if (returns_.size() > 16) returns_.erase(returns_.begin());
        const bool direct = s.target != Code::kNowhere || s.flow == Flow::barrier;
        if (direct && !k_.branch_broadcast) return atom(true), true;
        const std::uint32_t to = direct && s.target != Code::kNowhere ? s.target : direct ? behind : last ? w_.slots[0] : next;
        if (!direct && k_.return_stack && !returns_.empty() && returns_.back() == to && !last) {
            returns_.pop_back();
            return atom(true), true;
        }
        go_to(static_cast<std::uint32_t>(w_.code->address(to)));
        return true;
    }
    PftParameters k_;
    std::vector<bool> atoms_;
    std::vector<std::uint32_t> returns_;
};

// IHI 0014Q, chapter 7.
class Etm3Encoder : public OlderEncoder {
  public:
    Etm3Encoder(const OlderWalk& walk, const Etm3Parameters& k, std::uint64_t seed, bool hurried = true)
        : OlderEncoder(walk, seed, hurried), k_(k) {
        synchronise(0, 1);
        std::size_t exception = 0;
        for (std::size_t i = 0; i < w_.slots.size(); ++i) {
            if (exception < w_.exceptions.size() && w_.exceptions[exception].first == i) {
                flush();
                take_exception(pc(i), w_.exceptions[exception++].second);
            } else if (i > 0 && by_chance(2000, 200)) {
                flush();
                synchronise(i, 0);
            }
            instruction(i);
        }
        flush();
    }

  private:
    void synchronise(std::size_t i, unsigned reason) {
        sync(reason, pc(i));
        put({1u | reason << 5});
        for (unsigned b = 0; b < 4; ++b) put({(pc(i) | 1) >> 8 * b & 0xFF});
    }
    void flush() {
        while (held_ > 0) {
            const unsigned n = std::min(held_, 15u);
            if (k_.cycle_accurate) {
                for (unsigned m = n; m > 0;) {
                    const unsigned part = std::min(m, 7u);
                    put({0x80u | part << 2});
                    m -= part;
                }
            } else {
                put({0x80u | n << 2});
            }
            held_ -= n;
        }
    }
    void failed() {
        flush();
        put({k_.cycle_accurate ? 0x80u | 0x40u : 0xC0u});
    }
    void take_exception(std::uint32_t handler, unsigned number) {
        const unsigned type = number == 16 ? 8 : number > 16 && number < 24 ? number - 16 : number;
        // What came before it is told as not completed now and then: then it is told once more than it ran.
        const bool cancels = random_() % 4 == 0;
        if (cancels && !at_branch_) put({0x84});
        address(handler, true, k_.alternative_branch);
        put({0x80u | (type & 15) << 1 | (cancels && !at_branch_ ? 0x20u : 0u), type >> 4 & 31});
    }
    void instruction(std::size_t i) {
        const Code::Slot& s = (*w_.code)[w_.slots[i]];
        const bool last = i + 1 == w_.slots.size() || exception_before(i + 1);
        const std::uint32_t behind = w_.slots[i] + s.size;
        const bool branch = s.flow != Flow::next && s.flow != Flow::barrier;
        const bool conditional = (s.flags & FlowInsn::kConditional) != 0;
        at_branch_ = branch;
        if (branch ? conditional && (last || w_.slots[i + 1] == behind) : conditional && random_() % 2 == 0)
            failed();
        else
            ++held_;
        if (held_ > 0 && hurried_ && by_chance(1, 9)) flush();
        if (branch && s.target == Code::kNowhere && !last && !(conditional && w_.slots[i + 1] == behind)) {
            flush();
            address(pc(i + 1), false, k_.alternative_branch);
        }
    }
    Etm3Parameters k_;
    unsigned held_ = 0;
    bool at_branch_ = false;
};

}  // namespace mt::test
