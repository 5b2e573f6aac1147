// What a person may have meant.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace mt {

/// Of `known`, those that are within a few letters of `name` or hold it, the nearest first; at most `most`.
std::vector<std::string> near_names(std::string_view name, const std::vector<std::string>& known, std::size_t most = 3);

/// "did you mean guide or guider?", or else "there are: a, b, c, …", or `none` if nothing is known.
std::string near_names_text(std::string_view name, const std::vector<std::string>& known, const std::string& none);

}  // namespace mt
