// Any bytes: no crash, and every byte ends in exactly one packet or gap, however the bytes are cut.
#include <cstdint>
#include <cstdlib>
#include <span>
#include <vector>

#include "wire/itm.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
    if (size < 2) return 0;
    const auto start = (bytes[0] & 1) != 0 ? mt::ItmDecoder::Start::at_once : mt::ItmDecoder::Start::at_sync;
    const std::size_t step = bytes[0] / 2u + 1u;
    const std::span<const std::uint8_t> all(bytes + 1, size - 1);
    mt::ItmDecoder decoder(start);
    std::vector<mt::ItmPacket> packets;
    for (std::size_t at = 0; at < all.size(); at += step)
        decoder.feed(all.subspan(at, std::min(step, all.size() - at)), packets);
    decoder.finish(packets);
    std::uint64_t covered = 0;
    for (const auto& p : packets) {
        if (p.offset != covered) std::abort();
        covered += p.length;
        if (mt::itm_detail(p).empty()) std::abort();
    }
    if (covered != all.size()) std::abort();
    return 0;
}
