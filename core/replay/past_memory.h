// Memory of which only some bytes are known.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <unordered_map>
#include <unordered_set>
#include <utility>
#include <vector>

#include "target/frame_state.h"
#include "target/image.h"

namespace mt {

/// A value that is known, or not: then it lies between bounds.
struct Known : FrameWord {
    /// Of what is not known: where it was first seen, wherever it was copied to, and what was added since. One number is
    /// always the same value, however much else is known. 0: nobody keeps count of it.
    std::uint64_t origin = 0, plus = 0;
    static constexpr std::uint64_t kAnyWord = 0xFFFF'FFFF;
    std::uint64_t low = 0, high = kAnyWord;  ///< of what is not known: both included; of 64 bits these say nothing

    Known() = default;
    static constexpr std::uint64_t kKinds = 16, kPlaces = 64;
    /// The number of a value that step `step` brought to a place: a register, or for words of memory 32 and more. `kind`
    /// tells apart what came at one step. REQUIRES: kind < kKinds, place < kPlaces.
    static constexpr std::uint64_t origin_of(std::uint64_t step, unsigned kind, unsigned place) {
        return (step + 1) * (kKinds * kPlaces) + kind * kPlaces + place;
    }

    Known(std::uint64_t v, bool is_known, std::uint64_t set = kNever) : FrameWord{v, is_known, set} {}
    explicit Known(const FrameWord& word) : FrameWord(word) {}

    static Known between(std::uint64_t low, std::uint64_t high) {
        Known k;
        k.low = low;
        k.high = high;
        return k;
    }
    /// Whether the bounds say something.
    bool bounded() const { return low != 0 || high != kAnyWord; }
    std::uint64_t least() const { return known ? value : low; }
    std::uint64_t most() const { return known ? value : high; }
};
/// Bounds of a + b + carry, of 32 bits; all of them where the sum may wrap and may not.
Known bounds_of_sum(const Known& a, const Known& b, std::uint64_t carry);
/// Either the one or the other.
Known either(const Known& a, const Known& b);

/// Copies share what neither has changed. What is no memory (devices) is never known, whatever is written there: memory
/// is what the image puts there to be written, its variables, what was told to be, and what the stack pointer leads to. One thread at a
/// time; the image must outlive it.
class PastMemory {
  public:
    /// `as_loaded`: what is written later still stands as the image has it, for the program begins; else only what is
    /// never written is known.
    PastMemory(const Image& image, bool as_loaded);
    /// Nothing is known, and nothing is memory yet.
    PastMemory() = default;

    /// Bytes that stood there when the recording began. Also makes memory of that range.
    void add_began(std::uint64_t begin, std::span<const std::uint8_t> bytes);
    /// Bytes that stood there when the recording had stopped: what nobody wrote since then is known. Also makes memory of
    /// that range. They are taken over.
    void add_stopped(std::uint64_t begin, std::vector<std::uint8_t> bytes);
    /// With what is known of the end, that is known here, too: `end` as it is behind the last step, this before `step`.
    void learn_from(const PastMemory& end, std::uint64_t step);

    /// What is at [begin, end) keeps what is written there.
    void add_memory(std::uint64_t begin, std::uint64_t end);
    /// The stack pointer led to `address`: the page around it is memory.
    void note_stack(std::uint64_t address) {
        if (address / kPage == noted_) return;
        noted_ = address / kPage;
        stack_pages_.insert(noted_);
    }

    /// Little-endian; known if all of its bytes are. `set_at`: of the newest of them. REQUIRES: 0 < bytes <= 8.
    Known read(std::uint64_t address, unsigned bytes) const;
    std::optional<std::uint8_t> byte(std::uint64_t address) const;
    /// Each byte that is known of what can be written, ascending by address; what comes back is how many bytes of it are
    /// not known.
    std::uint64_t each_known(const std::function<void(std::uint64_t address, std::uint8_t byte)>& each) const;
    /// What is not known is written too: then nobody knows what stands there.
    void write(std::uint64_t address, unsigned bytes, const Known& value, std::uint64_t step);
    /// The same as `read` where it gives something known; else the value that is not known is kept count of from now on,
    /// where it lies in memory: as one that `step` brought. REQUIRES: bytes is 4 or 8.
    Known load(std::uint64_t address, unsigned bytes, std::uint64_t step, unsigned kind);

    /// What this turned out to be, at any time: all copies of it are known by that, of all copies of this memory. Where
    /// that contradicts what was learnt before, neither is believed.
    void learn(const Known& unknown, std::uint64_t value) const;
    /// Whether the image puts there what nobody ever writes.
    bool is_constant(std::uint64_t address, unsigned bytes) const;
    /// Makes it known if somebody learnt it. `mask`: the bits of a register.
    void resolve(Known& k, std::uint64_t mask) const {
        if (!k.known && k.origin != 0 && k.origin <= facts_->highest) resolve_by_facts(k, mask);
    }
    /// What words that are not known hold when the recording had stopped: this is how memory stood then.
    void learn_stopped() const;

    /// Somebody wrote somewhere: all that can be written is no longer known.
    void forget(std::uint64_t step);
    /// Somebody wrote so many bytes at an address that is not known but for its bounds.
    void forget(const Known& address, unsigned bytes, std::uint64_t step);

  private:
    static constexpr std::uint64_t kPage = 4096, kLine = 64, kLines = kPage / kLine;
    static constexpr std::uint64_t kUpper = ~std::uint64_t{0};
    struct Facts {
        std::unordered_map<std::uint64_t, std::uint64_t> values;  ///< by origin
        std::unordered_set<std::uint64_t> contradicted;
        std::uint64_t highest = 0;  ///< origin in `values`, or above: what comes to be now is none of them
    };
    void resolve_by_facts(Known& k, std::uint64_t mask) const;
    /// So many bytes at a multiple of that.
    struct Line {
        std::uint64_t age = 0;    ///< how often all was forgotten when this came to be
        std::uint64_t known = 0;  ///< a bit for each byte
        std::array<std::uint8_t, kLine> bytes;
        std::array<std::uint64_t, kLine> set_at;
        std::array<std::uint64_t, kLine / 4> origin;  ///< of words that are not known; kUpper: the word before has eight bytes
        std::array<std::uint64_t, kLine / 4> plus;
        void clear(std::uint64_t at_age);
        void tag(std::uint64_t in_line, unsigned count, const Known& value);
        void put(std::uint64_t in_line, unsigned count, const Known& value, std::uint64_t step);
        void lose(std::uint64_t in_line, unsigned count);
        bool has_eight(std::uint64_t word) const { return word + 1 < origin.size() && origin[word + 1] == kUpper; }
    };
    using Page = std::array<std::shared_ptr<Line>, kLines>;
    /// Number of the page that nobody else has, as long as no copy is made.
    struct Sole {
        mutable std::uint64_t page = kUpper;
        Sole() = default;
        Sole(const Sole& other) { other.page = kUpper; }
        Sole& operator=(const Sole& other) {
            page = other.page = kUpper;
            return *this;
        }
    };
    std::optional<std::uint8_t> by_origin(const Line& line, std::uint64_t in_line) const;
    struct Fixed {
        std::uint64_t begin = 0;
        std::span<const std::uint8_t> bytes;
        bool spoiled = false;  ///< somebody wrote there after all
    };
    bool is_memory(std::uint64_t address) const;
    /// What was written there since all was forgotten, if anything was.
    const Line* find(std::uint64_t address) const;
    /// The same, to be changed; it is made if there is none.
    Line& own(std::uint64_t address);
    const Fixed* fixed(std::uint64_t address) const;
    void spoil_fixed(std::uint64_t begin, std::uint64_t end);
    Known read_with_care(std::uint64_t address, unsigned bytes) const;

    std::unordered_map<std::uint64_t, std::shared_ptr<Page>> pages_;  ///< by number
    std::vector<Fixed> fixed_;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> memory_;  ///< ascending, apart from each other
    std::unordered_set<std::uint64_t> stack_pages_;
    mutable std::uint64_t recent_ = ~std::uint64_t{0};  ///< number of the page that was looked for last …
    mutable Page* recent_page_ = nullptr;                ///< … and what was found; null: none
    Sole sole_;
    std::uint64_t age_ = 1;  ///< lines of another age hold nothing: all was forgotten since
    std::uint64_t noted_ = ~std::uint64_t{0};            ///< the stack's page that was noted last
    std::uint64_t forgotten_at_ = Known::kNever;
    std::map<std::pair<std::uint64_t, std::uint64_t>, std::uint64_t> spoiled_;  ///< written somewhere between, and when last
    struct Stopped {
        std::uint64_t begin = 0;
        std::vector<std::uint8_t> bytes;
    };
    struct Bounds {
        std::uint32_t low = 0, high = 0;
        std::uint64_t step = 0;  ///< of the write
        std::uint64_t age = 0;   ///< as of lines
    };
    std::unordered_map<std::uint64_t, Bounds> bounds_;  ///< of words that are not known but for these
    std::shared_ptr<std::vector<Stopped>> stopped_ = std::make_shared<std::vector<Stopped>>();
    std::shared_ptr<Facts> facts_ = std::make_shared<Facts>();
    std::shared_ptr<const PastMemory> end_;  ///< behind the last step
    std::uint64_t now_ = 0;                  ///< the step before which this is, with `end_`
    std::uint64_t last_write(std::uint64_t address) const;
    std::optional<std::uint8_t> at_the_end(std::uint64_t address) const;
};

}  // namespace mt
