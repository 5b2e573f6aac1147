// Short texts that are drawn over and over, laid out once.
#pragma once

#include <QCache>
#include <QPainter>
#include <QStaticText>

namespace mt::app {

/// Texts of one line, drawn in the painter's font and pen. The window's thread only.
class LineTexts {
  public:
    /// At the left of `area`, in the middle of its height, shortened with "…" to its width.
    void draw(QPainter& p, const QRectF& area, const QString& text);
    /// How wide the text is in the painter's font, in pixels.
    int width(const QPainter& p, const QString& text);

  private:
    struct Laid {
        QStaticText text;
        int width = 0;
    };
    const Laid& laid(const QPainter& p, const QString& text, int room);
    QCache<std::pair<QString, quint64>, Laid> all_{512};
};

}  // namespace mt::app
