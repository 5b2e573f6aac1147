#include "base/read_file.h"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "base/text.h"

namespace mt {
namespace fs = std::filesystem;

Result<int> open_regular(const std::string& path, struct stat& about) {
    const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    if (fd < 0)
        return failure(
            std::string("cannot open: ") + std::strerror(errno), path,
            errno == ENOENT ? "check the path; paths in a target file are relative to it" : "check the permissions");
    if (::fstat(fd, &about) != 0 || !S_ISREG(about.st_mode)) {
        ::close(fd);
        return failure("not a regular file", path, "give the file that holds the bytes");
    }
    return fd;
}

Result<std::string> read_small_file(const std::string& path, std::uint64_t most, const std::string& what) {
    struct stat about {};
    const auto fd = open_regular(path, about);
    if (!fd) return tl::make_unexpected(fd.error());
    std::string text;
    const auto size = static_cast<std::uint64_t>(about.st_size);
    if (size <= most) text.resize(size);
    std::size_t at = 0;
    int trouble = 0;
    while (at < text.size()) {
        const ssize_t n = ::pread(*fd, text.data() + at, text.size() - at, static_cast<off_t>(at));
        if (n < 0 && errno == EINTR) continue;
        if (n < 0) trouble = errno;
        if (n <= 0) break;
        at += static_cast<std::size_t>(n);
    }
    ::close(*fd);
    if (size > most)
        return failure("too large for a " + what + ": " + bytes_text(size) + ", at most " + bytes_text(most), path,
                       "is it the right file?");
    if (trouble != 0) return failure(std::string("cannot read: ") + std::strerror(trouble), path, "check the disk");
    text.resize(at);
    return text;
}

bool lies_inside(const fs::path& folder, const fs::path& path) {
    std::error_code ec;
    const fs::path root = fs::weakly_canonical(fs::absolute(folder), ec);
    if (ec) return false;
    const fs::path place = fs::weakly_canonical(fs::absolute(path), ec);
    if (ec) return false;
    const auto [end, rest] = std::mismatch(root.begin(), root.end(), place.begin(), place.end());
    return end == root.end() || (std::next(end) == root.end() && end->empty());
}

std::string safe_file_name(const std::string& name) {
    std::string safe;
    for (const char c : name) {
        const auto u = static_cast<unsigned char>(c);
        safe += u < 0x20 || u == 0x7F || c == '/' || c == '\\' || c == '"' || c == '\'' ? '_' : c;
    }
    if (safe.empty() || safe == "." || safe == "..") safe += "_";
    // Longer names than file systems take: the end is kept, it tells the kind.
    constexpr std::size_t kLongest = 120;
    return safe.size() <= kLongest ? safe : safe.substr(safe.size() - kLongest);
}

}  // namespace mt
