// Raw bytes of one ITM stream to timed packets: formatter frames, packets, timestamps.
#pragma once

#include <optional>
#include <span>
#include <vector>

#include "flow/local_time.h"
#include "wire/itm.h"
#include "wire/tpiu.h"

namespace mt {

/// Copyable: a copy taken between two calls of `feed` is a checkpoint from which the same packets come
/// out again. One thread at a time.
class ItmPipe {
  public:
    /// `base`: when the stream's time begins, on the recording's axis.
    ItmPipe(std::optional<TpiuDeframer> deframer, ItmDecoder::Start start, Clock clock, unsigned prescaler,
            Time base = {})
        : deframer_(std::move(deframer)), decoder_(start), time_(clock, prescaler, base) {}

    /// Takes raw bytes that follow those before; appends what is dated by now to `out`.
    void feed(std::span<const std::uint8_t> raw, std::vector<TimedPacket>& out);
    /// Tells that the connection was lost here: what was sent until the next bytes is missing.
    void lose(std::vector<TimedPacket>& out);
    void finish(std::vector<TimedPacket>& out);
    /// Only takes the formatter frames apart: appends the source's bytes to `out`. REQUIRES: frames.
    /// A pipe used so must not be fed afterwards.
    void unframe(std::span<const std::uint8_t> raw, std::vector<std::uint8_t>& out);

    /// The formatter frames are interrupted here. REQUIRES: frames.
    void lose_step() { deframer_->lose_step(); }

    const LocalTime& time() const { return time_; }
    const TpiuCounts* formatter() const { return deframer_ ? &deframer_->counts() : nullptr; }
    /// Bytes of the unframed stream so far.
    std::uint64_t unframed() const { return decoder_.position(); }

  private:
    std::optional<TpiuDeframer> deframer_;
    ItmDecoder decoder_;
    LocalTime time_;
};

}  // namespace mt
