// Raw bytes of one stream of instruction trace to executed instructions, whatever the protocol: formatter frames,
// packets, flow.
#pragma once

#include <array>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <variant>
#include <vector>

#include "flow/etm3_flow.h"
#include "flow/etm4_flow.h"
#include "flow/etrace_flow.h"
#include "flow/mtb_flow.h"
#include "flow/ntrace_flow.h"
#include "flow/pft_flow.h"
#include "target/target_file.h"
#include "wire/tpiu.h"

namespace mt {

/// Copyable: a copy taken between two calls of `feed` is a checkpoint from which the same comes out again. One
/// thread at a time.
class StepPipe {
  public:
    /// `handlers`: exception numbers by the address of their handlers, for protocols that do not tell numbers.
    /// REQUIRES: tells_instructions(spec.protocol).
    StepPipe(const StreamSpec& spec, std::shared_ptr<const Code> code, std::map<std::uint64_t, unsigned> handlers,
             bool frames_aligned = false);

    /// Takes raw bytes that follow those before.
    template <class Out>
    void feed(std::span<const std::uint8_t> raw, Out& out) {
        unframed(
            raw, [&](std::span<const std::uint8_t> bytes) { std::visit([&](auto& p) { p.feed(bytes, out); }, stage_); },
            [&] { lose_packets(out); });
    }
    /// Tells that bytes are missing here.
    template <class Out>
    void lose(Out& out) {
        if (deframer_) deframer_->lose_step();
        lose_packets(out);
    }
    template <class Out>
    void finish(Out& out) {
        std::visit([&](auto& p) { p.finish(out); }, stage_);
    }
    // For decoding that begins in the middle. These want a pipe without formatter frames: take_frames was called.

    std::optional<TpiuDeframer> take_frames() { return std::exchange(deframer_, std::nullopt); }
    void give_frames(TpiuDeframer frames) { deframer_ = std::move(frames); }
    /// A pipe that began in the middle, and the bytes that lie before what it is to be fed next.
    struct Entry;
    /// Looks for the first place in `bytes` from `from` on where decoding can begin. Nothing if there is none, or the
    /// protocol has none. It looks best if `bytes` begin with a packet. `position`: bytes of the stream before these.
    /// Learns what packets on the way say of those behind. REQUIRES: nothing was fed yet.
    std::optional<Entry> enter(std::span<const std::uint8_t> bytes, std::size_t from, std::uint64_t position);
    /// What `other` knows of how packets are to be read.
    void learn_from(const StepPipe& other);
    /// Whether `guess`, which entered where this one stands, and became `end` since, is as good as this one.
    bool agrees(const StepPipe& guess, const StepPipe& end) const;
    /// What a pipe that entered where `before` stood does not know: packets until there, upper bits of timestamps, the
    /// lower part of the return stack.
    void continue_from(const StepPipe& before);
    /// The timestamp sent last, where timestamps may be sent in part; else 0.
    std::uint64_t last_stamp() const;

    /// The packets in these bytes, without following the program. The pipe may not be fed afterwards.
    void list(std::span<const std::uint8_t> raw, bool last, const std::function<void(const StepPacketText&)>& each);

    /// Packets so far by their kind's name, and bytes behind the formatter.
    std::map<std::string, std::uint64_t> counts() const;
    std::uint64_t unframed_bytes() const { return unframed_; }
    /// Bytes that are no packets: all of them if there is no packet at all, else those behind the first one.
    std::uint64_t bad_bytes() const {
        return std::visit([](const auto& s) { return s.any ? s.bad : s.lead_in; }, stage_);
    }
    /// Bytes before the first packet, where recording began within one: they cannot be read.
    std::uint64_t lead_in() const {
        return std::visit([](const auto& s) { return s.any ? s.lead_in : 0; }, stage_);
    }
    /// Packets of sources that were not asked for, by source ID.
    std::map<unsigned, SourceIds::Others> other_sources() const;
    const TpiuDeframer* deframer() const { return deframer_ ? &*deframer_ : nullptr; }

  private:
    template <class Decoder, class Flow, class Packet>
    struct Stage {
        Decoder decoder;
        Flow flow;
        std::vector<Packet> packets{};
        std::array<std::uint64_t, 64> counts{};
        std::uint64_t bad = 0, lead_in = 0;
        bool any = false;  ///< a packet

        template <class Out>
        void follow(Out& out) {
            for (const Packet& p : packets) count(p);
            flow.feed(std::span<const Packet>(packets), out);
            packets.clear();
        }
        void count(const Packet& p) {
            if constexpr (requires { p.kind; }) {
                std::uint64_t& n = counts[static_cast<std::size_t>(p.kind) & 63];
                if constexpr (requires { p.packets(); })
                    n += p.packets();
                else
                    ++n;
                if (p.kind == decltype(p.kind)::damage)
                    (any ? bad : lead_in) += p.length;
                else
                    any = true;
            } else {
                ++counts[0];
                (any ? bad : lead_in) += p.skipped;
                any = true;
            }
        }
        template <class Out>
        void feed(std::span<const std::uint8_t> bytes, Out& out) {
            if constexpr (requires { decoder.feed(bytes, packets, [] {}); })
                decoder.feed(bytes, packets, [&] { follow(out); });
            else
                decoder.feed(bytes, packets);
            follow(out);
        }
        template <class Out>
        void finish(Out& out) {
            if constexpr (requires { decoder.finish(packets); }) decoder.finish(packets);
            follow(out);
            if constexpr (requires { flow.finish(out); }) flow.finish(out);
        }
        template <class Out>
        void lose(Out& out) {
            if constexpr (requires { decoder.lose_source(packets); }) decoder.lose_source(packets);
            follow(out);
        }
    };
    using Etrace = Stage<EtraceDecoder, EtraceFlow, EtracePacket>;
    using Etm4 = Stage<Etm4Decoder, Etm4Flow, Etm4Packet>;
    using Ntrace = Stage<NtraceDecoder, NtraceFlow, NtraceMessage>;
    using Mtb = Stage<MtbDecoder, MtbFlow, MtbPacket>;
    using Pft = Stage<PftDecoder, PftFlow, PftPacket>;
    using Etm3 = Stage<Etm3Decoder, Etm3Flow, Etm3Packet>;
    using Any = std::variant<Etrace, Etm4, Ntrace, Mtb, Pft, Etm3>;

    static Any make(const StreamSpec& spec, std::shared_ptr<const Code> code,
                    std::map<std::uint64_t, unsigned> handlers);
    void unframed(std::span<const std::uint8_t> raw, const std::function<void(std::span<const std::uint8_t>)>& take,
                  const std::function<void()>& broken);
    template <class Out>
    void lose_packets(Out& out) {
        std::visit([&](auto& p) { p.lose(out); }, stage_);
    }

    std::optional<TpiuDeframer> deframer_;
    Any stage_;
    std::uint64_t unframed_ = 0;
};

struct StepPipe::Entry {
    StepPipe pipe;
    std::size_t before = 0;
};

}  // namespace mt
