// Text from a recording on its way to a person: control characters made visible.
#pragma once

#include <string>
#include <string_view>

namespace mt {

/// The text with every control character (C0 but for line ends and tabs, DEL, and C1 in UTF-8) as \xHH. What a
/// recording or an image brings along could set a terminal's title, clear its screen, or move its cursor.
std::string plain_text(std::string_view text);

}  // namespace mt
