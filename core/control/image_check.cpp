#include "control/image_check.h"

#include <algorithm>
#include <vector>

namespace mt {

namespace {

// What the program should not change: segments that it may not write, and code in those that it may, as in an image
// that runs from RAM.
std::vector<Image::Piece> constant_pieces(const Image& image) {
    std::vector<Image::Piece> all;
    for (const auto& piece : image.pieces()) {
        if (!piece.writable) all.push_back(piece);
        for (Image::Piece code : image.code_pieces()) {
            const std::uint64_t at = code.address - piece.address;
            if (!piece.writable || code.address < piece.address || at >= piece.bytes.size()) continue;
            code.loaded_at = piece.loaded_at + at;
            code.bytes = code.bytes.first(std::min<std::size_t>(code.bytes.size(), piece.bytes.size() - at));
            all.push_back(code);
        }
    }
    return all;
}

}  // namespace

Result<ImageCheck> check_image(DebugServer& server, const Image& image, Progress* progress) {
    ImageCheck check;
    std::vector<std::uint8_t> there;
    const std::vector<Image::Piece> pieces = constant_pieces(image);
    std::uint64_t total = 0;
    for (const auto& piece : pieces) total += piece.bytes.size();
    if (total == 0)
        return failure("the image loads neither code nor constants: there is nothing to compare", image.path(),
                       "give the image that is on the target, or leave check_image out");
    constexpr std::size_t step = 4096;
    for (const auto& piece : pieces) {
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
