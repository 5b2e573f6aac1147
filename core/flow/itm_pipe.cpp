#include "flow/itm_pipe.h"

namespace mt {

void ItmPipe::feed(std::span<const std::uint8_t> raw, std::vector<TimedPacket>& out) {
    // Scratch space only: never part of a checkpoint.
    thread_local std::vector<ItmPacket> packets;
    thread_local std::vector<std::uint8_t> unframed;
    thread_local std::vector<TpiuDeframer::Break> breaks;
    packets.clear();
    if (!deframer_) {
        decoder_.feed(raw, packets);
        time_.feed(packets, out);
        return;
    }
    unframed.clear();
    breaks.clear();
    deframer_->feed(raw, unframed, breaks);
    std::size_t from = 0;
    for (const auto& b : breaks) {
        decoder_.feed(std::span(unframed).subspan(from, b.at - from), packets);
        decoder_.lose_source(packets);
        from = b.at;
    }
    decoder_.feed(std::span(unframed).subspan(from), packets);
    time_.feed(packets, out);
}

void ItmPipe::unframe(std::span<const std::uint8_t> raw, std::vector<std::uint8_t>& out) {
    std::vector<TpiuDeframer::Break> breaks;
    deframer_->feed(raw, out, breaks);
}

void ItmPipe::lose(std::vector<TimedPacket>& out) {
    std::vector<ItmPacket> packets;
    if (deframer_) deframer_->lose_step();
    decoder_.lose_source(packets, ItmDamage::not_received);
    time_.feed(packets, out);
}

void ItmPipe::finish(std::vector<TimedPacket>& out) {
    std::vector<ItmPacket> packets;
    decoder_.finish(packets);
    time_.feed(packets, out);
    time_.finish(out);
}

}  // namespace mt
