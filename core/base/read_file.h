// Files that somebody else made: opened without ever waiting, and read whole within a limit.
#pragma once

#include <sys/stat.h>

#include <cstdint>
#include <filesystem>
#include <string>

#include "base/problem.h"

namespace mt {

/// A descriptor of a regular file, to be closed by the caller; `about` tells of it. Folders, pipes and devices are a
/// Problem at once: opening them may wait, and reading them may never end.
Result<int> open_regular(const std::string& path, struct stat& about);

/// The whole of a regular file, at most `most` bytes; more is a Problem that says what it was to be (`what`: "recipe").
Result<std::string> read_small_file(const std::string& path, std::uint64_t most, const std::string& what);

/// Whether `path`, with symbolic links followed as far as it exists, is `folder` or lies below it.
bool lies_inside(const std::filesystem::path& folder, const std::filesystem::path& path);

/// A file name of the characters that are safe in any file system and in text: others become '_'.
std::string safe_file_name(const std::string& name);

}  // namespace mt
