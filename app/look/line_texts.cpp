#include "look/line_texts.h"

#include <QFontMetrics>

namespace mt::app {

const LineTexts::Laid& LineTexts::laid(const QPainter& p, const QString& text, int room) {
    const QFont& font = p.font();
    const quint64 how = static_cast<quint64>(static_cast<quint32>(room)) << 32 |
                        static_cast<quint64>(static_cast<quint32>(font.pixelSize() << 12 | font.weight()));
    const std::pair<QString, quint64> key(text, how);
    if (const Laid* known = all_.object(key)) return *known;
    auto* fresh = new Laid;
    const QFontMetrics metrics = p.fontMetrics();
    const QString shown = room < 0 ? text : metrics.elidedText(text, Qt::ElideRight, room);
    fresh->width = metrics.horizontalAdvance(shown);
    fresh->text.setTextFormat(Qt::PlainText);
    fresh->text.setPerformanceHint(QStaticText::AggressiveCaching);
    fresh->text.setText(shown);
    fresh->text.prepare(QTransform(), font);
    all_.insert(key, fresh);
    return *fresh;
}

void LineTexts::draw(QPainter& p, const QRectF& area, const QString& text) {
    if (area.width() < 1 || text.isEmpty()) return;
    const Laid& it = laid(p, text, static_cast<int>(area.width()));
    const double below = (area.height() - p.fontMetrics().height()) / 2;
    p.drawStaticText(QPointF(area.left(), area.top() + below), it.text);
}

int LineTexts::width(const QPainter& p, const QString& text) { return laid(p, text, -1).width; }

}  // namespace mt::app
