#include "flow/itm_pipe.h"

namespace mt {

ItmPipe::Unframed ItmPipe::unframed(std::span<const std::uint8_t> raw) {
    // Scratch space only: never part of a checkpoint.
    thread_local std::vector<std::uint8_t> bytes;
    thread_local std::vector<TpiuDeframer::Break> breaks;
    bytes.clear();
    breaks.clear();
    deframer_->feed(raw, bytes, breaks);
    return {bytes, breaks};
}

void ItmPipe::unframe(std::span<const std::uint8_t> raw, std::vector<std::uint8_t>& out) {
    std::vector<TpiuDeframer::Break> breaks;
    deframer_->feed(raw, out, breaks);
}

}  // namespace mt
