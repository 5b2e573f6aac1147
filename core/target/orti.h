// Names out of an ORTI file: what the values of an operating system's variables mean (ISO 17356-6).
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <string_view>

#include "base/problem.h"
#include "target/image.h"

namespace mt {

struct OrtiNames {
    std::string running_task;                    ///< the expression that tells the running task: a variable's name
    std::map<std::uint64_t, std::string> tasks;  ///< its value to a task's name
    std::string no_task;                         ///< the name for "no task runs", if there is one
};

/// Reads the RUNNINGTASK attribute of the OS object (ISO 17356-6, OS object): its enumeration in the declaration, its
/// expression in the information section. Values are numbers, or `&symbol`, which `image` (may be null) resolves.
/// Errors name file and line.
Result<OrtiNames> read_orti(const std::string& path, const Image* image);
/// The same from text; `path` is only used in messages.
Result<OrtiNames> parse_orti(std::string_view text, const std::string& path, const Image* image);

}  // namespace mt
