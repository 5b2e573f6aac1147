// Micro Trace Buffer: pairs of words to branch packets. CoreSight MTB-M0+ Technical Reference Manual (DDI 0486),
// 2.2 (trace packet format).
#pragma once

#include <cstdint>
#include <functional>
#include <span>
#include <utility>
#include <vector>

namespace mt {

/// A change of the program flow: from the instruction at `source` to `destination`.
struct MtbPacket {
    std::uint64_t offset = 0;
    std::uint32_t source = 0, destination = 0;  ///< bit 0 clear
    bool atomic = false;                        ///< A: by an exception, not by an instruction
    bool start = false;                         ///< S: tracing started here; `source` is not where it came from
    std::uint64_t skipped = 0;                  ///< bytes before it that were passed over to be in step again
};

/// Eight bytes each, oldest first, without any mark between them. Where bytes are missing or too many, all that follows
/// is out of step: whether addresses can be the program's shows it, and the decoder steps over to where they can again.
/// What is left at the end is kept for the next call. Copyable: a copy is a checkpoint. One thread at a time.
class MtbDecoder {
  public:
    /// `possible`: whether the program may go from the one address to the other like this; none: all are.
    explicit MtbDecoder(std::function<bool(const MtbPacket&)> possible = {}) : possible_(std::move(possible)) {}

    void feed(std::span<const std::uint8_t> bytes, std::vector<MtbPacket>& out) {
        held_.insert(held_.end(), bytes.begin(), bytes.end());
        position_ += bytes.size();
        take(false, out);
    }
    void finish(std::vector<MtbPacket>& out) { take(true, out); }
    /// Bytes of a packet that is not whole, or that waits for what comes behind.
    unsigned left() const { return static_cast<unsigned>(held_.size()); }
    std::uint64_t position() const { return position_; }

  private:
    static constexpr std::size_t kRun = 4;  ///< packets in a row that must be possible to be in step

    void take(bool last, std::vector<MtbPacket>& out);
    MtbPacket packet(std::size_t at) const;
    bool possible(std::size_t at) const;
    /// As many packets as there are, at most kRun, from `at` on are possible.
    bool run(std::size_t at) const;

    std::function<bool(const MtbPacket&)> possible_;
    std::vector<std::uint8_t> held_;
    std::uint64_t position_ = 0, skipped_ = 0;
};

}  // namespace mt
