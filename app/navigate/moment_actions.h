// What one does with a moment, wherever it is pointed at: the part that all context menus have in common.
#pragma once

#include <QMenu>
#include <QString>

#include "document/document.h"
#include "navigate/viewpoint.h"

namespace mt::app {

/// Cursor here, A here, B here, copy the time; and, once A and B are set, copy A–B.
void add_moment_actions(QMenu& menu, Document& document, Viewpoint& view, Time at);
/// A, B and what lies between them as a heading and a row with tabs: in nanoseconds, and in cycles of the core that is
/// looked at. Empty as long as not both are set.
QString ruler_text(const Document& document, const Viewpoint& view);
/// Puts it on the clipboard. False if there is nothing to copy.
bool copy_ruler(const Document& document, const Viewpoint& view);

}  // namespace mt::app
