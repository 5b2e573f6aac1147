// CoreSight trace-port formatter: 16-byte frames that interleave up to 111 sources.
// Arm CoreSight Architecture Specification (IHI 0029E), chapter D4 "Trace formatter".
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <vector>

namespace mt {

/// What the deframer met so far.
struct TpiuCounts {
    std::uint64_t frames = 0, full_syncs = 0, half_syncs = 0, id_changes = 0, delayed_id_changes = 0;
    std::uint64_t lost_bytes = 0;     ///< raw bytes given up while out of step with the frames
    std::uint64_t misalignments = 0;  ///< how often the frames were lost
    std::array<std::uint64_t, 128> bytes_of_id{};
};

/// Takes one source's bytes out of formatter frames. Copyable: a copy is a checkpoint.
/// Out of step, it drops bytes up to the next full synchronisation (D4.3.1). One thread at a time.
class TpiuDeframer {
  public:
    /// A place in the unframed output where bytes are missing.
    struct Break {
        std::size_t at;  ///< index into the output of this call of feed
        std::uint64_t raw_offset;
    };

    /// `source` is the trace ID to take, 1 to 111. `aligned` says that the first byte starts a frame
    /// though no full synchronisation stands there (a dump of a trace buffer).
    explicit TpiuDeframer(std::uint8_t source, bool aligned = false) : source_(source), in_step_(aligned) {}

    /// Decodes raw bytes that follow those fed before; appends the source's bytes to `out`.
    void feed(std::span<const std::uint8_t> raw, std::vector<std::uint8_t>& out, std::vector<Break>& breaks);
    /// Tells that bytes are missing here: out of step until the next full synchronisation, if the stream has any.
    void lose_step() {
        filled_ = 0;
        if (counts_.full_syncs > 0) in_step_ = false;
    }
    const TpiuCounts& counts() const { return counts_; }
    std::uint64_t raw_position() const { return raw_position_; }

  private:
    void frame(std::vector<std::uint8_t>& out);
    void put(std::uint8_t byte, std::vector<std::uint8_t>& out);

    std::uint8_t source_;
    bool in_step_;
    bool after_ff_ff_ = false;
    std::uint8_t filled_ = 0;
    std::uint8_t current_ = 0;  ///< 0 is the null source: nothing is taken until an ID is seen
    std::array<std::uint8_t, 16> frame_{};
    std::uint32_t window_ = 0;
    std::uint64_t raw_position_ = 0;
    TpiuCounts counts_;
};

constexpr std::size_t kEnoughForFrames = 1 << 16;  ///< bytes within which a framed stream synchronises as a rule
/// True if the bytes hold a full synchronisation (FF FF FF 7F), the mark of a formatter.
bool tpiu_has_full_sync(std::span<const std::uint8_t> raw);

}  // namespace mt
