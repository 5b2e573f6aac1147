// Small files that are kept with a recording: what a person muted, the waymarks.
#pragma once

#include <string>
#include <string_view>

#include "base/problem.h"

namespace mt {

/// Where a file of one kind ("muted") is kept for what was opened: in a recording's folder as "muted.toml", or beside
/// its target file as "NAME.muted.toml".
std::string kept_file_path(const std::string& input, std::string_view kind);
/// Replaces a file in one step, so that it is never half written. A Problem if it cannot be written.
Result<void> replace_file(const std::string& path, std::string_view text);

}  // namespace mt
