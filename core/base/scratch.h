// Room on the disk for what is needed while the program runs, and is gone with it.
#pragma once

#include <string>

#include "base/problem.h"

namespace mt {

/// A file without a name in the user's cache folder, or in /var/tmp: to be read, written and closed by the caller, and
/// gone then. -1 if there is nowhere to put one.
int open_scratch_file();

/// A new, empty folder there, removed with all that is in it when the object goes.
class ScratchFolder {
  public:
    static Result<ScratchFolder> make();
    ScratchFolder(ScratchFolder&& from) noexcept : path_(std::move(from.path_)) { from.path_.clear(); }
    ScratchFolder& operator=(ScratchFolder&&) = delete;
    ~ScratchFolder();
    const std::string& path() const { return path_; }

  private:
    explicit ScratchFolder(std::string path) : path_(std::move(path)) {}
    std::string path_;
};

}  // namespace mt
