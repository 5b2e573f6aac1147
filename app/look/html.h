// Pieces of HTML that texts of the window are made of.
#pragma once

#include <QString>

#include "look/theme.h"

namespace mt::app {

/// Text as it is. HTML folds the narrow space between a number's groups into one at which a line may end; the wider one
/// it keeps.
inline QString escaped(QString text) { return text.replace(QChar(0x202F), QChar::Nbsp).toHtmlEscaped(); }

/// Text that leads somewhere, in the colour of what can be clicked.
inline QString link_html(const QString& to, const QString& text) {
    return QString("<a href=\"%1\" style=\"color:%2; text-decoration:none\">%3</a>")
        .arg(to, theme().measure.name(), escaped(text));
}

}  // namespace mt::app
