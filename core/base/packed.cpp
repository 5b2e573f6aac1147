#include "base/packed.h"

#include <archive.h>
#include <archive_entry.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <memory>
#include <utility>
#include <vector>

#include "base/read_file.h"
#include "base/text.h"

namespace mt {
namespace fs = std::filesystem;
namespace {

struct CloseArchive {
    void operator()(struct archive* a) const { archive_read_free(a); }
};
using Archive = std::unique_ptr<struct archive, CloseArchive>;

constexpr std::size_t kBlock = 1 << 16;
constexpr std::uint64_t kMostEntries = 100'000;

Archive new_archive() {
    Archive a(archive_read_new());
    archive_read_support_filter_gzip(a.get());
    archive_read_support_filter_xz(a.get());
    archive_read_support_filter_zstd(a.get());
    return a;
}

// A descriptor that is closed in the end.
class File {
  public:
    explicit File(int file) : file_(file) {}
    File(File&& from) noexcept : file_(std::exchange(from.file_, -1)) {}
    File& operator=(File&&) = delete;
    ~File() {
        if (file_ >= 0) ::close(file_);
    }
    int get() const { return file_; }

  private:
    int file_;
};

Problem full_disk(const std::string& path) {
    return {"the disk is full while this is unpacked", path, "free some space in the cache folder"};
}

// Opens it without waiting for pipes and devices; several files as if they were one.
Result<File> open_parts(const std::vector<std::string>& paths) {
    std::vector<File> parts;
    for (const std::string& path : paths) {
        struct stat about {};
        const auto file = open_regular(path, about);
        if (!file) return tl::make_unexpected(file.error());
        parts.emplace_back(*file);
    }
    if (parts.size() == 1) return std::move(parts.front());
    File joined(open_scratch_file());
    std::vector<char> block(kBlock);
    for (const File& part : parts)
        for (;;) {
            const ssize_t n = ::read(part.get(), block.data(), block.size());
            if (n < 0 && errno == EINTR) continue;
            if (n <= 0) break;
            if (::write(joined.get(), block.data(), static_cast<std::size_t>(n)) != n)
                return tl::make_unexpected(full_disk(paths.front()));
        }
    ::lseek(joined.get(), 0, SEEK_SET);
    return joined;
}

Result<void> open_archive(struct archive* a, const File& file, const std::string& path) {
    if (archive_read_open_fd(a, file.get(), kBlock) != ARCHIVE_OK)
        return failure(std::string("cannot be unpacked: ") + archive_error_string(a), path);
    return {};
}

std::string error_of(struct archive* a) {
    const char* told = archive_error_string(a);
    const std::string_view text = told != nullptr ? told : "its end is damaged or missing";
    // What the unpackers say of a file that ends in the middle, each in its own way.
    if (text.find("No progress is possible") != text.npos || text.find("runcated") != text.npos)
        return "it ends in the middle";
    return std::string(text);
}

Problem too_much(const std::string& path) {
    return {"unpacks to more than " + bytes_text(kMostUnpacked), path, "unpack by hand what is needed of it"};
}

enum class Copied : std::uint8_t { all, broken, full_disk, too_much };

// The data of the entry that the archive stands at.
Copied copy_data(struct archive* a, int to, std::uint64_t& bytes, std::uint64_t most) {
    for (;;) {
        const void* block = nullptr;
        std::size_t size = 0;
        la_int64_t offset = 0;
        const int got = archive_read_data_block(a, &block, &size, &offset);
        if (got == ARCHIVE_EOF) return Copied::all;
        if (got < ARCHIVE_WARN) return Copied::broken;
        const auto end = static_cast<std::uint64_t>(offset) + size;
        if (offset < 0 || end > most) return Copied::too_much;
        for (std::size_t done = 0; done < size;) {
            const ssize_t n = ::pwrite(to, static_cast<const char*>(block) + done, size - done,
                                       static_cast<off_t>(offset) + static_cast<off_t>(done));
            if (n < 0 && errno == EINTR) continue;
            if (n <= 0) return Copied::full_disk;
            done += static_cast<std::size_t>(n);
        }
        bytes = std::max(bytes, end);
    }
}

// Where an entry is to lie; empty if that is not inside.
fs::path place_of(const fs::path& folder, const char* name) {
    if (name == nullptr || *name == 0) return {};
    const fs::path inner = fs::path(name).lexically_normal();
    if (inner.is_absolute() || inner.empty() || *inner.begin() == "..") return {};
    return folder / inner;
}

}  // namespace

std::string_view packing_of(std::span<const std::uint8_t> bytes) {
    using namespace std::string_view_literals;
    const std::string_view all(reinterpret_cast<const char*>(bytes.data()), std::min<std::size_t>(bytes.size(), 16));
    if (all.size() >= 10 && all.starts_with("\x1F\x8B\x08"sv) && (bytes[3] & 0xE0) == 0) return "gzip";
    if (all.starts_with("\xFD"
                        "7zXZ\0"sv))
        return "xz";
    if (all.starts_with("\x28\xB5\x2F\xFD"sv)) return "zstd";
    return {};
}

Result<Unpacked> unpack_file(const std::vector<std::string>& paths) {
    const std::string& path = paths.front();
    const auto file = open_parts(paths);
    if (!file) return tl::make_unexpected(file.error());
    Archive a = new_archive();
    archive_read_support_format_raw(a.get());
    if (auto opened = open_archive(a.get(), *file, path); !opened) return tl::make_unexpected(opened.error());
    struct archive_entry* entry = nullptr;
    if (archive_read_next_header(a.get(), &entry) < ARCHIVE_WARN)
        return failure("cannot be unpacked: " + error_of(a.get()), path, "is it whole? unpack it by hand to see");
    Unpacked out;
    out.file = open_scratch_file();
    if (out.file < 0)
        return failure("there is nowhere to unpack to", path, "check free space and permissions of the cache folder");
    const Copied copied = copy_data(a.get(), out.file, out.bytes, kMostUnpacked);
    if (copied == Copied::broken) out.trouble = error_of(a.get());
    if (copied == Copied::too_much || copied == Copied::full_disk || out.bytes == 0) {
        ::close(out.file);
        if (copied == Copied::too_much) return tl::make_unexpected(too_much(path));
        if (copied == Copied::full_disk) return tl::make_unexpected(full_disk(path));
        return failure(out.trouble.empty() ? "nothing is in it" : "cannot be unpacked: " + out.trouble, path,
                       "is it whole? unpack it by hand to see");
    }
    return out;
}

bool is_tar(const std::string& path) {
    std::error_code ec;
    if (!fs::is_regular_file(path, ec) || fs::file_size(path, ec) < 64) return false;
    const auto file = open_parts({path});
    Archive a = new_archive();
    archive_read_support_format_tar(a.get());
    struct archive_entry* entry = nullptr;
    if (!file || !open_archive(a.get(), *file, path)) return false;
    const int got = archive_read_next_header(a.get(), &entry);
    return got == ARCHIVE_OK || got == ARCHIVE_WARN;  // nothing but zeros is the end of one
}

Result<ScratchFolder> unpack_tar(const std::string& path) {
    const auto file = open_parts({path});
    if (!file) return tl::make_unexpected(file.error());
    Archive a = new_archive();
    archive_read_support_format_tar(a.get());
    if (auto opened = open_archive(a.get(), *file, path); !opened) return tl::make_unexpected(opened.error());
    auto folder = ScratchFolder::make();
    if (!folder) return folder;
    std::uint64_t left = kMostUnpacked, entries = 0;
    std::error_code ec;
    struct archive_entry* entry = nullptr;
    int got = ARCHIVE_OK;
    while ((got = archive_read_next_header(a.get(), &entry)) >= ARCHIVE_WARN && got != ARCHIVE_EOF) {
        if (++entries > kMostEntries)
            return failure("holds more than " + std::to_string(kMostEntries) + " files", path,
                           "unpack by hand what is needed of it");
        const fs::path place = place_of(folder->path(), archive_entry_pathname(entry));
        if (place.empty() || archive_entry_hardlink(entry) != nullptr) continue;
        if (archive_entry_filetype(entry) == AE_IFDIR) fs::create_directories(place, ec);
        if (archive_entry_filetype(entry) != AE_IFREG) continue;  // links lead elsewhere, devices are none of ours
        fs::create_directories(place.parent_path(), ec);
        const int to = ::open(place.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC | O_NOFOLLOW, 0600);
        if (to < 0) return failure(std::string("cannot be unpacked: ") + std::strerror(errno), path);
        std::uint64_t bytes = 0;
        const Copied copied = copy_data(a.get(), to, bytes, left);
        ::close(to);
        if (copied == Copied::too_much) return tl::make_unexpected(too_much(path));
        if (copied == Copied::full_disk) return tl::make_unexpected(full_disk(path));
        left -= bytes;
    }
    if (got != ARCHIVE_EOF)
        return failure("the archive is damaged: " + error_of(a.get()), path, "is it whole? unpack it by hand to see");
    return folder;
}

}  // namespace mt
