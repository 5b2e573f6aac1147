// Colours and fonts of the window: one set for light, one for night.
#pragma once

#include <QColor>
#include <QFont>
#include <QString>

class QWidget;

namespace mt::app {

struct Theme {
    QColor window, panel, rule, text, second, land, contour, interrupt, measure, waiting, finding, selected;
    bool night = false;
};

/// The theme in force. Only the window's thread may call these.
const Theme& theme();
/// Switches all widgets; existing ones repaint.
void apply_theme(bool night);

QFont text_font(int pixels = 12, bool bold = false);
/// Opaque mixture: filling with it is far cheaper than blending at every pixel.
QColor mixed(const QColor& over, const QColor& under, double share);
/// Sets a style sheet if it is another: setting it costs as much as drawing the widget.
void set_style(QWidget& widget, const QString& sheet);
/// Equal widths: addresses, bytes, and figures in columns.
QFont fixed_font(int pixels = 11, bool bold = false);

}  // namespace mt::app
