// A line of text that is cut with an ellipsis where there is no room for all of it; the tooltip has the whole. One that may
// wrap is not cut.
#pragma once

#include <QLabel>
#include <QPainter>

namespace mt::app {

class ElidedLabel : public QLabel {
  public:
    using QLabel::QLabel;
    QSize minimumSizeHint() const override {
        return {40, wordWrap() ? fontMetrics().height() : QLabel::minimumSizeHint().height()};
    }

  protected:
    void paintEvent(QPaintEvent* event) override {
        if (wordWrap()) return QLabel::paintEvent(event);  // it takes as many lines as it needs
        QPainter p(this);
        const QString shown = fontMetrics().elidedText(text(), Qt::ElideRight, width());
        if (toolTip() != (shown == text() ? QString() : text())) setToolTip(shown == text() ? QString() : text());
        p.setPen(palette().color(foregroundRole()));
        p.drawText(rect(), static_cast<int>(alignment()), shown);
    }
};

}  // namespace mt::app
