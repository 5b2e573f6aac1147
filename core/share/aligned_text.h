// Tables for a terminal.
#pragma once

#include <string>
#include <vector>

namespace mt {

/// Rows of cells, the first the headings, in columns as wide as their widest cell; `left` says which stand at the left.
/// REQUIRES: at least one row; all rows and `left` have the same size.
std::string aligned_text(const std::vector<std::vector<std::string>>& rows, const std::vector<bool>& left);
/// How many columns a text takes on a terminal, as far as its characters tell: one each.
std::size_t shown_length(const std::string& text);

}  // namespace mt
