// Pages for people who do not have the program: whole in one file, light and dark, readable without a network, fit for
// A4.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace mt {

/// Text as HTML: what would be markup, and control characters, made harmless; also fit for attributes.
std::string html_text(std::string_view text);

/// A page. `title` and `place` are plain text, `body` is HTML.
std::string html_page(const std::string& title, const std::string& body);
/// The same in a frame of one's own: "{{title}}", "{{style}}" and "{{body}}" are filled in.
std::string html_page_in(const std::string& frame, const std::string& title, const std::string& body);

/// A table; cells are HTML. `left`: columns that stand at the left, the others are figures.
std::string html_table(const std::vector<std::string>& heads, const std::vector<std::vector<std::string>>& rows,
                       const std::vector<bool>& left);
/// A bar of a share, 0 to 1, with its figure.
std::string html_share(double share, const std::string& figure);

}  // namespace mt
