// What a search finds in everything that is open on a desk: names, places, text, findings, marks, and commands.
#pragma once

#include <functional>
#include <vector>

#include <QAction>
#include <QString>

#include "shell/desk.h"

namespace mt::app {

/// One thing that was found. Going there again finds the next one of the same, where there are several.
struct Hit {
    QString group;   ///< "Interrupts", "Commands"
    QString text;    ///< what was found
    QString detail;  ///< what else tells it apart
    std::function<void(bool forwards)> go;
};

/// At once, for every letter that is typed: nothing here decodes. The best comes first: a time, what is called exactly
/// so, what begins so, what has it within; of each kind a few.
std::vector<Hit> hits_of(Desk& desk, const QList<QAction*>& commands, const QString& text);

}  // namespace mt::app
