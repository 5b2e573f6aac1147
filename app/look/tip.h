// What is said of a place while the mouse rests there.
#pragma once

#include <QHelpEvent>
#include <QToolTip>
#include <QWidget>

namespace mt::app {

/// Shows the text of an event of type ToolTip; nothing for an empty one.
inline void show_tip(const QHelpEvent& help, const QString& text, QWidget* of) {
    if (text.isEmpty())
        QToolTip::hideText();
    else
        QToolTip::showText(help.globalPos(), text, of);
}

}  // namespace mt::app
