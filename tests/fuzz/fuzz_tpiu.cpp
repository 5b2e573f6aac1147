// Any bytes as formatter frames: no crash, and the same output however the bytes are cut.
#include <cstdint>
#include <cstdlib>
#include <span>
#include <vector>

#include "wire/tpiu.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
    if (size < 3) return 0;
    const std::span<const std::uint8_t> all(bytes + 2, size - 2);
    const auto source = static_cast<std::uint8_t>(bytes[0] % 111 + 1);
    std::vector<std::uint8_t> whole, parts;
    std::vector<mt::TpiuDeframer::Break> breaks;
    mt::TpiuDeframer one(source, (bytes[1] & 1) != 0), many(source, (bytes[1] & 1) != 0);
    one.feed(all, whole, breaks);
    const std::size_t step = bytes[1] / 2u + 1u;
    for (std::size_t at = 0; at < all.size(); at += step)
        many.feed(all.subspan(at, std::min(step, all.size() - at)), parts, breaks);
    if (whole != parts) std::abort();
    return 0;
}
