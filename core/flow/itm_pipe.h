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
    template <class Out>
    void feed(std::span<const std::uint8_t> raw, Out& out) {
        time_.feed(decode(raw), out);
    }
    /// Tells that the connection was lost here: what was sent until the next bytes is missing.
    template <class Out>
    void lose(Out& out) {
        std::vector<ItmPacket> packets;
        if (deframer_) deframer_->lose_step();
        decoder_.lose_source(packets, ItmDamage::not_received);
        time_.feed(packets, out);
    }
    template <class Out>
    void finish(Out& out) {
        std::vector<ItmPacket> packets;
        decoder_.finish(packets);
        time_.feed(packets, out);
        time_.finish(out);
    }
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
    /// The packets of the next raw bytes; valid until the next call on this thread.
    std::span<const ItmPacket> decode(std::span<const std::uint8_t> raw);

    std::optional<TpiuDeframer> deframer_;
    ItmDecoder decoder_;
    LocalTime time_;
};

}  // namespace mt
