#include "control/hand_memory.h"

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>

#include "base/text.h"

namespace mt {
namespace {

constexpr std::size_t kChunk = 4096;

// Reads a range piece by piece; `take` is given each with its address.
template <class Take>
Result<void> each_chunk(DebugServer& server, std::uint64_t address, std::uint64_t length, const GivenUp& given_up, Take take) {
    std::vector<std::uint8_t> bytes;
    for (std::uint64_t at = 0; at < length; at += bytes.size()) {
        if (given_up && given_up()) return failure("it was given up", hex_text(address + at, 8));
        bytes.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kChunk, length - at)));
        if (auto read = server.read_memory(address + at, bytes); !read) return read;
        if (auto taken = take(address + at, std::span<const std::uint8_t>(bytes)); !taken) return taken;
    }
    return {};
}

}  // namespace

Result<std::vector<std::uint64_t>> search_memory(DebugServer& server, std::uint64_t address, std::uint64_t length,
                                                 std::span<const std::uint8_t> what, std::size_t most, const GivenUp& given_up) {
    std::vector<std::uint64_t> found;
    std::vector<std::uint8_t> window;  // what was read last, as far as a match may still begin in it
    auto done = each_chunk(server, address, length, given_up, [&](std::uint64_t at, std::span<const std::uint8_t> bytes) -> Result<void> {
        const std::uint64_t begin = at - window.size();
        window.insert(window.end(), bytes.begin(), bytes.end());
        for (auto i = window.begin(); found.size() < most;) {
            i = std::search(i, window.end(), what.begin(), what.end());
            if (i == window.end()) break;
            found.push_back(begin + static_cast<std::uint64_t>(i - window.begin()));
            ++i;
        }
        const std::size_t kept = std::min(window.size(), what.size() - 1);
        window.erase(window.begin(), window.end() - static_cast<std::ptrdiff_t>(kept));
        return {};
    });
    if (!done) return tl::make_unexpected(done.error());
    return found;
}

Result<void> save_memory(DebugServer& server, std::uint64_t address, std::uint64_t length, const std::string& path,
                         const GivenUp& given_up) {
    std::FILE* file = std::fopen(path.c_str(), "wbx");
    if (file == nullptr)
        return failure("the file cannot be made: " + std::string(std::strerror(errno)), path,
                       errno == EEXIST ? "name one that is not there yet" : "can this folder be written?");
    auto done = each_chunk(server, address, length, given_up, [&](std::uint64_t, std::span<const std::uint8_t> bytes) -> Result<void> {
        if (std::fwrite(bytes.data(), 1, bytes.size(), file) == bytes.size()) return {};
        return failure("the file cannot be written: " + std::string(std::strerror(errno)), path);
    });
    if (std::fclose(file) != 0 && done) done = failure("the file cannot be written: " + std::string(std::strerror(errno)), path);
    std::error_code ignored;
    if (!done) std::filesystem::remove(path, ignored);
    return done;
}

Result<std::vector<MemoryDifference>> compare_memory(DebugServer& server, const Image& image, std::uint64_t address,
                                                     std::uint64_t length, std::size_t most, std::uint64_t& compared,
                                                     const GivenUp& given_up) {
    std::vector<MemoryDifference> differences;
    compared = 0;
    for (const Image::Piece& piece : image.pieces()) {
        const std::uint64_t begin = std::max(address, piece.address);
        const std::uint64_t end = std::min(address + length, piece.address + piece.bytes.size());
        if (begin >= end) continue;
        auto done = each_chunk(server, begin, end - begin, given_up, [&](std::uint64_t at, std::span<const std::uint8_t> bytes) -> Result<void> {
            const std::uint8_t* const is = piece.bytes.data() + (at - piece.address);
            for (std::size_t i = 0; i < bytes.size(); ++i) {
                if (bytes[i] == is[i]) continue;
                if (!differences.empty() && differences.back().address + differences.back().length == at + i)
                    ++differences.back().length;
                else if (differences.size() < most)
                    differences.push_back({at + i, 1});
            }
            compared += bytes.size();
            return {};
        });
        if (!done) return tl::make_unexpected(done.error());
    }
    return differences;
}

}  // namespace mt
