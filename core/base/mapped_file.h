// A file's bytes, memory-mapped and never copied.
#pragma once

#include <cstdint>
#include <memory>
#include <span>
#include <string>

#include "base/problem.h"

namespace mt {

/// A read-only view of a whole file as it was when opened. Views from `bytes()` live as long as the
/// object. Any thread may read. A file that another program shortens while it is mapped is read as
/// zeros from there on, never as a crash; `open` refuses folders and devices.
class MappedFile {
  public:
    static Result<std::shared_ptr<const MappedFile>> open(const std::string& path);
    ~MappedFile();
    MappedFile(const MappedFile&) = delete;
    MappedFile& operator=(const MappedFile&) = delete;

    std::span<const std::uint8_t> bytes() const { return {data_, size_}; }
    const std::string& path() const { return path_; }

  private:
    MappedFile() = default;
    std::string path_;
    const std::uint8_t* data_ = nullptr;
    std::size_t size_ = 0;
};

}  // namespace mt
