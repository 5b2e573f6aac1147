// Text of the core, as the window shows it.
#pragma once

#include <QString>

#include <string_view>

namespace mt::app {

inline QString words(std::string_view utf8) {
    return QString::fromUtf8(utf8.data(), static_cast<qsizetype>(utf8.size()));
}

}  // namespace mt::app
