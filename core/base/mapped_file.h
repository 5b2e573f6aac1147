// A file's bytes, memory-mapped and never copied.
#pragma once

#include <atomic>
#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "base/problem.h"

namespace mt {

/// A read-only view of a whole file as it was when opened, or as it was when `renew` was last called. Views from
/// `bytes()` live as long as the object. Any thread may read. A file that another program shortens while it is mapped
/// is read as zeros from there on, never as a crash; `open` refuses folders and devices.
class MappedFile {
  public:
    /// A file that is compressed by gzip, xz or zstd is unpacked first, which blocks until it is done; what was
    /// unpacked once is shared as long as somebody holds it.
    static Result<std::shared_ptr<const MappedFile>> open(const std::string& path);
    /// The bytes of several files one behind another, as if they were one; unpacked before or after that, as they were
    /// packed. REQUIRES: at least one path.
    static Result<std::shared_ptr<const MappedFile>> open(const std::vector<std::string>& paths);
    /// For a file that this program is still writing: may be empty at first, and grows up to kMostFollowed.
    static Result<std::shared_ptr<const MappedFile>> follow(const std::string& path);
    ~MappedFile();
    MappedFile(const MappedFile&) = delete;
    MappedFile& operator=(const MappedFile&) = delete;

    std::span<const std::uint8_t> bytes() const { return {data_, size_.load(std::memory_order_acquire)}; }
    /// Sees what a followed file has grown to, which `size` says; earlier views stay valid. REQUIRES: so many
    /// bytes are in the file.
    void renew(std::size_t size) const;
    /// The bytes before `offset` will hardly be read soon: they need not stay in memory. They can still be read.
    void let_go(std::size_t offset) const;

    static constexpr std::size_t kMostFollowed = std::size_t{1} << 40;
    const std::string& path() const { return path_; }
    /// Why less was unpacked than was packed; empty if all is there.
    const std::string& trouble() const { return trouble_; }
    /// The same as the end of a sentence about it: "is compressed and damaged (...): only the first 3.10 MB could be
    /// unpacked".
    std::string what_is_missing() const;

  private:
    MappedFile() = default;
    static Result<std::shared_ptr<MappedFile>> map(int fd, std::size_t size, const std::string& path);
    static Result<std::shared_ptr<const MappedFile>> unpack(const std::vector<std::string>& paths);

    std::string path_, trouble_;
    const std::uint8_t* data_ = nullptr;
    mutable std::atomic<std::size_t> size_{0};
    std::size_t mapped_ = 0;
    mutable std::atomic<std::size_t> let_go_{0};
};

}  // namespace mt
