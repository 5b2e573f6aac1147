// Findings that a person has looked at and does not want to see again, with the reason. docs/formats/muted.md.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/problem.h"
#include "judge/finding.h"

namespace mt {

/// What is muted: every finding of that kind that names all of these. What is empty restricts nothing.
struct Mute {
    std::string kind;  ///< as `find --json` says it
    std::string core;
    std::vector<std::string> of;  ///< names of activities
    std::string reason;           ///< never empty
};

struct Muted {
    std::vector<Mute> all;
    std::vector<std::string> warnings;  ///< keys that mean nothing

    /// The first that mutes this finding; null if none does.
    const Mute* find(const Finding& finding) const;
};

/// What mutes exactly what this finding says, wherever it happens.
Mute mute_of(const Finding& finding, std::string reason);

/// A Problem names file and line.
Result<Muted> parse_muted(std::string_view text, const std::string& path);
/// An absent file mutes nothing. A Problem if it cannot be read or says nothing that can be understood.
Result<Muted> read_muted(const std::string& path);
/// As `parse_muted` reads it.
std::string muted_text(const Muted& muted);
/// Replaces the file in one step, so that it is never half written. A Problem if it cannot be written.
Result<void> write_muted(const Muted& muted, const std::string& path);
/// What is muted in one recording is muted in another, which was saved from it.
Result<void> copy_muted(const std::string& input, const std::string& saved);
/// Where the mutes of a recording are kept: in its folder, or beside its target file as "NAME.muted.toml".
std::string muted_path(const std::string& input);

}  // namespace mt
