#include "flow/itm_pipe.h"

namespace mt {

std::span<const ItmPacket> ItmPipe::decode(std::span<const std::uint8_t> raw) {
    // Scratch space only: never part of a checkpoint.
    thread_local std::vector<ItmPacket> packets;
    thread_local std::vector<std::uint8_t> unframed;
    thread_local std::vector<TpiuDeframer::Break> breaks;
    packets.clear();
    if (!deframer_) {
        decoder_.feed(raw, packets);
        return packets;
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
    return packets;
}

void ItmPipe::unframe(std::span<const std::uint8_t> raw, std::vector<std::uint8_t>& out) {
    std::vector<TpiuDeframer::Break> breaks;
    deframer_->feed(raw, out, breaks);
}

}  // namespace mt
