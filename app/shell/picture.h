// A view as a picture in a file, or on paper.
#pragma once

#include <QString>
#include <QWidget>

#include "base/problem.h"

namespace mt::app {

/// PNG or SVG, as the file's name ends. A Problem says why it could not be written.
Result<void> save_picture(QWidget& view, const QString& path);
/// Asks for a printer, and prints the view as large as the page allows. False if a person gave it up.
bool print_view(QWidget& view, QWidget* parent);
/// The view onto a page, in the middle, as large as there is room. REQUIRES: the painter is active.
void paint_view(QWidget& view, QPainter& painter, const QRectF& page);

}  // namespace mt::app
