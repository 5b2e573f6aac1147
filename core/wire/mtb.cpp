#include "wire/mtb.h"

#include <cstring>

namespace mt {
namespace {
constexpr std::size_t kBytes = 8;
}

MtbPacket MtbDecoder::packet(std::size_t at) const {
    std::uint64_t word = 0;
    std::memcpy(&word, held_.data() + at, kBytes);
    MtbPacket p;
    p.offset = position_ - held_.size() + at;
    p.source = static_cast<std::uint32_t>(word) & ~1u;
    p.atomic = (word & 1) != 0;
    p.destination = static_cast<std::uint32_t>(word >> 32) & ~1u;
    p.start = (word >> 32 & 1) != 0;
    return p;
}

bool MtbDecoder::possible(std::size_t at) const { return !possible_ || possible_(packet(at)); }

bool MtbDecoder::run(std::size_t at) const {
    std::size_t n = 0;
    for (; n < kRun && at + kBytes <= held_.size(); ++n, at += kBytes)
        if (!possible(at)) return false;
    return n > 0;
}

void MtbDecoder::take(bool last, std::vector<MtbPacket>& out) {
    std::size_t at = 0;
    while (held_.size() - at >= kBytes) {
        if (!possible(at)) {
            if (!last && held_.size() - at < kBytes * (kRun + 2)) break;
            // In step all the same, with one wrong word; or out of step by a few bytes; or nowhere to be found.
            std::size_t by = 0;
            if (!run(at + kBytes))
                for (std::size_t shift = 1; shift < kBytes && by == 0; ++shift)
                    if (run(at + shift)) by = shift;
            if (by != 0) {
                skipped_ += by;
                at += by;
                continue;
            }
        }
        out.push_back(packet(at));
        out.back().skipped = std::exchange(skipped_, 0);
        at += kBytes;
    }
    held_.erase(held_.begin(), held_.begin() + static_cast<std::ptrdiff_t>(at));
}

}  // namespace mt
