#include "capture/image_check.h"

#include <vector>

namespace mt {

Result<ImageCheck> check_image(DebugServer& server, const Image& image, Progress* progress) {
    ImageCheck check;
    std::vector<std::uint8_t> there;
    std::uint64_t total = 0;
    for (const auto& piece : image.pieces()) total += piece.writable ? 0 : piece.bytes.size();
    constexpr std::size_t step = 4096;
    for (const auto& piece : image.pieces()) {
        if (piece.writable) continue;
        for (std::size_t at = 0; at < piece.bytes.size(); at += step) {
            if (progress != nullptr && progress->cancelled()) return failure("the check was cancelled", image.path());
            const auto here = piece.bytes.subspan(at, std::min(step, piece.bytes.size() - at));
            there.resize(here.size());
            if (auto read = server.read_memory(piece.loaded_at + at, there); !read)
                return tl::make_unexpected(read.error());
            for (std::size_t i = 0; i < here.size(); ++i) {
                if (here[i] == there[i]) continue;
                if (check.different++ == 0) check.first = piece.loaded_at + at + i;
            }
            check.compared += here.size();
            if (progress != nullptr) progress->report(check.compared, total);
        }
    }
    return check;
}

}  // namespace mt
