// Reads the metadata of a Common Trace Format trace, versions 1.8 (text) and 2.0 (JSON fragments).
#pragma once

#include <cstdint>
#include <span>
#include <string>

#include "base/problem.h"
#include "wire/ctf_types.h"

namespace mt {

/// From the bytes of the file `metadata`, bare or in metadata packets (CTF 1.8.3 section 7.1, CTF 2.0 section 4).
/// Errors name line and column; `path` is only used in messages. Hostile input: nesting and sizes are limited.
Result<CtfMetadata> read_ctf_metadata(std::span<const std::uint8_t> bytes, const std::string& path);

/// Greatest nesting of types that is accepted.
inline constexpr unsigned kCtfDeepest = 32;

/// Parts of the above, by version. REQUIRES of `resolve_ctf`: called once, after either.
Result<CtfMetadata> parse_ctf_text(std::string_view text, const std::string& path);
Result<CtfMetadata> parse_ctf_json(std::string_view text, const std::string& path);
/// Gives every field its slot and finds what selectors and lengths refer to.
Result<void> resolve_ctf(CtfMetadata& metadata, const std::string& path);

}  // namespace mt
