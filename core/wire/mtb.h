// Micro Trace Buffer: pairs of words to branch packets. CoreSight MTB-M0+ Technical Reference Manual (DDI 0486),
// 2.2 (trace packet format).
#pragma once

#include <cstdint>
#include <span>
#include <vector>

namespace mt {

/// A change of the program flow: from the instruction at `source` to `destination`.
struct MtbPacket {
    std::uint64_t offset = 0;
    std::uint32_t source = 0, destination = 0;  ///< bit 0 clear
    bool atomic = false;                        ///< A: by an exception, not by an instruction
    bool start = false;                         ///< S: tracing started here; `source` is not where it came from
};

/// Eight bytes each, oldest first. What is left at the end is kept for the next call. Copyable. One thread at a time.
class MtbDecoder {
  public:
    void feed(std::span<const std::uint8_t> bytes, std::vector<MtbPacket>& out) {
        for (const std::uint8_t b : bytes) {
            word_ |= std::uint64_t{b} << (8 * have_);
            ++position_;
            if (++have_ < 8) continue;
            MtbPacket p;
            p.offset = position_ - 8;
            p.source = static_cast<std::uint32_t>(word_) & ~1u;
            p.atomic = (word_ & 1) != 0;
            p.destination = static_cast<std::uint32_t>(word_ >> 32) & ~1u;
            p.start = (word_ >> 32 & 1) != 0;
            out.push_back(p);
            have_ = 0;
            word_ = 0;
        }
    }
    /// Bytes of a packet that is not whole.
    unsigned left() const { return have_; }
    std::uint64_t position() const { return position_; }

  private:
    std::uint64_t word_ = 0, position_ = 0;
    unsigned have_ = 0;
};

}  // namespace mt
