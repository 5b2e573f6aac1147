// Where the command line writes: standard output, or a file that is none of those it reads.
#pragma once

#include <functional>
#include <iosfwd>
#include <string>
#include <vector>

#include "base/problem.h"
#include "recording/recording.h"

namespace mt::cli {

inline constexpr int kDone = 0, kBad = 1, kCannot = 2;

/// Says the problem on standard error. Always kCannot.
int fail(const Problem& problem);
/// A remark on standard error.
void say(const std::string& text);

/// Files that are read, and so must not be written.
struct Inputs {
    std::vector<std::string> files;

    Inputs() = default;
    explicit Inputs(const Recording& recording);
    /// What `path` would overwrite; empty if nothing of these.
    std::string hit(const std::string& path) const;
};

/// Runs `write` on the named file, or on standard output for "-" and "". A file is written beside its place and moved
/// there when it is whole. Control characters never reach a terminal as they are; with `for_people` nothing else
/// either.
int write_to(const std::string& file, const Inputs& inputs, bool for_people,
             const std::function<void(std::ostream&)>& write);

}  // namespace mt::cli
