// Raw bytes of one ITM stream to timed packets: formatter frames, packets, timestamps.
#pragma once

#include <new>
#include <optional>
#include <span>
#include <vector>

#include "flow/local_time.h"
#include "wire/itm.h"
#include "wire/tpiu.h"

namespace mt {

/// A packet of a frequent kind and when what it tells of happened, without its length.
struct PlainTimed {
    std::uint64_t offset;
    Time earliest, latest;
    std::uint32_t value;
    std::uint16_t number;
    ItmKind kind;
    std::uint8_t size;
};
/// The local timestamps among a batch of packets: how many, and the time of the last.
struct PlainTimes {
    std::uint64_t format_1 = 0, format_2 = 0;
    Time last;
    bool any() const { return (format_1 | format_2) != 0; }
};

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
        if (!deframer_) {
            take(raw, out);
            return;
        }
        const Unframed u = unframed(raw);
        std::size_t from = 0;
        for (const auto& b : u.breaks) {
            take(u.bytes.subspan(from, b.at - from), out);
            packets_of([&](std::vector<ItmPacket>& packets) { decoder_.lose_source(packets); }, out);
            from = b.at;
        }
        take(u.bytes.subspan(from), out);
    }
    /// Tells that the connection was lost here: what was sent until the next bytes is missing.
    template <class Out>
    void lose(Out& out) {
        if (deframer_) deframer_->lose_step();
        packets_of([&](std::vector<ItmPacket>& packets) { decoder_.lose_source(packets, ItmDamage::not_received); },
                   out);
    }
    template <class Out>
    void finish(Out& out) {
        packets_of([&](std::vector<ItmPacket>& packets) { decoder_.finish(packets); }, out);
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
    /// Bytes of the source, and where the frames were broken in between; valid until the next call on this thread.
    struct Unframed {
        std::span<const std::uint8_t> bytes;
        std::span<const TpiuDeframer::Break> breaks;
    };
    Unframed unframed(std::span<const std::uint8_t> raw);

    template <class Decode, class Out>
    void packets_of(Decode decode, Out& out) {
        thread_local std::vector<ItmPacket> packets;  // scratch space only: never part of a checkpoint
        packets.clear();
        decode(packets);
        time_.feed(packets, out);
    }
    // Nearly all of a stream is packets of a few kinds and their timestamps: a short way for those, and the long one,
    // packet by packet, for the rest. What comes out is the same.
    template <class Out>
    void take(std::span<const std::uint8_t> bytes, Out& out) {
        for (std::size_t at = 0; at < bytes.size();) {
            if (decoder_.between_packets() && time_.plain()) at += take_plain(bytes.subspan(at), out);
            if (at == bytes.size()) break;
            packets_of([&](std::vector<ItmPacket>& packets) { at += decoder_.feed(bytes.subspan(at), packets, 1); },
                       out);
        }
    }
    template <class Out>
    std::size_t take_plain(std::span<const std::uint8_t> bytes, Out& out) {
        constexpr std::size_t kPair = 2 * ItmDecoder::kPlainBytes;
        const std::uint64_t offset = decoder_.position();
        Handing<Out> hand(out);
        LocalTime::Steady clock = time_.steady();
        ItmPacket packet, stamp;
        std::size_t at = 0;
        for (const std::size_t end = std::min(bytes.size(), LocalTime::kSteadyBytes); at + kPair <= end;) {
            const std::uint8_t* p = bytes.data() + at;
            const std::size_t length = decoder_.plain(p, packet);
            const std::size_t used = ItmDecoder::plain_time(p + length, stamp);
            if ((length | used) == 0) break;
            packet.offset = offset + at;
            stamp.offset = packet.offset + length;
            at += length + used;
            if (used == 0) {
                time_.wait(packet);
                if (!time_.plain()) break;
            } else if (clock.takes(stamp) && !time_.waiting()) [[likely]] {
                clock.pair(length != 0, packet, stamp, hand);
            } else {
                time_.go_on(clock);
                time_.pair(length != 0, ItmPacket(packet), ItmPacket(stamp), hand);
                clock = time_.steady();
            }
        }
        time_.go_on(clock);
        decoder_.pass(at);
        return at;
    }
    // Who takes timed packets in batches gets them so (`take_batch`), in the order of the stream; who does not, one by
    // one.
    template <class Out>
    class Handing {
      public:
        explicit Handing(Out& out) : out_(out) {}
        void push_back(const TimedPacket& p) { out_.push_back(p); }
        void take(const ItmPacket& p, Time earliest, Time latest) { out_.push_back({p, earliest, latest}); }
        void take_time(const ItmPacket& p, Time t) { out_.push_back({p, t, t}); }

      private:
        Out& out_;
    };
    template <class Out>
    requires requires(Out& out) { out.take_batch(std::span<const PlainTimed>(), PlainTimes()); }
    class Handing<Out> {
      public:
        explicit Handing(Out& out) : out_(out) {}
        Handing(const Handing&) = delete;
        Handing& operator=(const Handing&) = delete;
        ~Handing() { flush(); }
        __attribute__((always_inline)) void take(const ItmPacket& p, Time earliest, Time latest) {
            if (size_ == kMost) [[unlikely]]
                flush();
            ::new (&batch_.at[size_++])
                PlainTimed{p.offset, earliest, latest, static_cast<std::uint32_t>(p.value), p.number, p.kind, p.size};
        }
        __attribute__((always_inline)) void take_time(const ItmPacket& p, Time t) {
            ++(p.kind == ItmKind::local_time_1 ? times_.format_1 : times_.format_2);
            times_.last = t;
        }
        void push_back(const TimedPacket& p) {  // what had to wait
            if (p.packet.kind >= ItmKind::port && p.packet.kind < ItmKind::damage)
                return take(p.packet, p.earliest, p.latest);
            flush();
            out_.push_back(p);
        }

      private:
        static constexpr std::size_t kMost = 128;
        void flush() {
            if (size_ > 0 || times_.any()) out_.take_batch({batch_.at, size_}, times_);
            size_ = 0;
            times_ = PlainTimes();
        }
        Out& out_;
        std::size_t size_ = 0;
        PlainTimes times_;
        union Batch {
            Batch() {}  // not filled in before it is used
            PlainTimed at[kMost];
        } batch_;
    };

    std::optional<TpiuDeframer> deframer_;
    ItmDecoder decoder_;
    LocalTime time_;
};

}  // namespace mt
