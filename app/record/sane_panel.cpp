#include "record/sane_panel.h"

#include <QElapsedTimer>
#include <QHelpEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QToolTip>

#include <algorithm>

#include "base/text.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {
constexpr int kRow = 48, kHead = 40, kPlot = 130;

// Grades differ by shape as well as colour: a disc, a triangle, a diamond, a ring.
void draw_grade(QPainter& p, const QPointF& c, HealthLine::Grade grade) {
    const Theme& t = theme();
    p.setPen(Qt::NoPen);
    switch (grade) {
        case HealthLine::Grade::good:
            p.setBrush(t.land);
            p.drawEllipse(c, 5.5, 5.5);
            break;
        case HealthLine::Grade::watch:
            p.setBrush(t.contour);
            p.drawPolygon(QPolygonF{c + QPointF(0, -7), c + QPointF(7, 6), c + QPointF(-7, 6)});
            break;
        case HealthLine::Grade::bad:
            p.setBrush(t.finding);
            p.drawPolygon(
                QPolygonF{c + QPointF(0, -7.5), c + QPointF(7.5, 0), c + QPointF(0, 7.5), c + QPointF(-7.5, 0)});
            break;
        case HealthLine::Grade::unknown:
            p.setPen(QPen(t.second, 2));
            p.setBrush(Qt::NoBrush);
            p.drawEllipse(c, 5, 5);
            break;
    }
}
}  // namespace

class SanePanel::Sheet : public QWidget {
  public:
    Sheet(SanePanel& panel, LiveSession& live) : panel_(panel), live_(live) {
        setMouseTracking(true);
        setAttribute(Qt::WA_OpaquePaintEvent);
    }
    void renew() {
        // Figures that change faster than this cannot be read.
        constexpr qint64 kEachMs = 240;
        if (live_.recording() && shown_.isValid() && shown_.elapsed() < kEachMs) return;
        shown_.start();
        const int wanted = kHead + static_cast<int>(live_.health().size()) * kRow + kPlot;
        if (minimumHeight() != wanted) setMinimumHeight(wanted);
        update();
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter p(this);
        const Theme& t = theme();
        p.fillRect(rect(), t.window);
        p.setRenderHint(QPainter::Antialiasing);
        p.setPen(t.text);
        p.setFont(text_font(13, true));
        p.drawText(QRectF(14, 10, width() - 28, 20), Qt::AlignVCenter, tr("Health"));
        if (live_.health().empty()) {
            p.setFont(text_font(12));
            p.setPen(t.second);
            p.drawText(QRectF(14, kHead + 4, width() - 28, 120), Qt::AlignLeft | Qt::TextWordWrap,
                       tr("While a recording is being made, this says whether data comes, whether it can be read, "
                          "whether anything is lost, and whether the clock agrees."));
            return;
        }
        double y = kHead;
        for (const HealthLine& line : live_.health()) {
            draw_grade(p, {24, y + 15}, line.grade);
            p.setFont(text_font(12, true));
            const int figure = p.fontMetrics().horizontalAdvance(words(line.figure));
            p.setPen(t.text);
            p.drawText(QRectF(40, y + 4, width() - 62 - figure, 18), Qt::AlignVCenter,
                       p.fontMetrics().elidedText(words(line.title), Qt::ElideRight, width() - 62 - figure));
            p.drawText(QRectF(width() - 14 - figure, y + 4, figure, 18), Qt::AlignVCenter | Qt::AlignRight,
                       words(line.figure));
            p.setFont(text_font(11));
            p.setPen(t.second);
            QString under = words(line.under);
            if (!line.advice.empty()) {
                under = tr("why? ▸");
                p.setPen(t.measure);
            }
            const int w = p.fontMetrics().horizontalAdvance(under);
            p.drawText(QRectF(width() - 14 - w, y + 22, w, 16), Qt::AlignVCenter | Qt::AlignRight, under);
            p.setPen(t.second);
            p.drawText(QRectF(40, y + 22, width() - 62 - w, 16), Qt::AlignVCenter,
                       p.fontMetrics().elidedText(words(line.detail), Qt::ElideRight, width() - 62 - w));
            p.setPen(t.rule);
            p.drawLine(QPointF(14, y + kRow - 4.5), QPointF(width() - 14, y + kRow - 4.5));
            y += kRow;
        }
        paint_rates(p, y);
    }
    void paint_rates(QPainter& p, double y) {
        const Theme& t = theme();
        p.setFont(text_font(11));
        p.setPen(t.second);
        float top = 1;
        for (const auto& f : live_.figures())
            for (const float v : f.history) top = std::max(top, v);
        p.drawText(QRectF(14, y + 6, width() - 28, 16), Qt::AlignVCenter, tr("Bytes per second"));
        p.drawText(QRectF(14, y + 6, width() - 28, 16), Qt::AlignVCenter | Qt::AlignRight,
                   tr("up to %1/s").arg(words(bytes_text(static_cast<std::uint64_t>(top)))));
        const QRectF plot(14, y + 28, width() - 28, kPlot - 56);
        p.setPen(t.rule);
        p.drawLine(plot.bottomLeft(), plot.bottomRight());
        const QColor colours[] = {t.measure, t.interrupt, t.waiting, t.land};
        std::size_t k = 0;
        for (const auto& f : live_.figures()) {
            QPainterPath path;
            const double step = plot.width() / (LiveFigures::kHistory - 1);
            const double from = plot.right() - step * static_cast<double>(f.history.size() - 1);
            for (std::size_t i = 0; i < f.history.size(); ++i) {
                const QPointF at(from + step * static_cast<double>(i),
                                 plot.bottom() - plot.height() * static_cast<double>(f.history[i] / top));
                if (i == 0)
                    path.moveTo(at);
                else
                    path.lineTo(at);
            }
            p.setPen(QPen(colours[k++ % 4], 1.5));
            p.setBrush(Qt::NoBrush);
            p.drawPath(path);
        }
        p.setPen(t.second);
        p.drawText(QRectF(14, plot.bottom() + 2, 120, 16), Qt::AlignVCenter, tr("30 s ago"));
        p.drawText(QRectF(width() - 134, plot.bottom() + 2, 120, 16), Qt::AlignVCenter | Qt::AlignRight, tr("now"));
    }
    const HealthLine* line_at(double y) const {
        const int i = static_cast<int>((y - kHead) / kRow);
        return y >= kHead && i >= 0 && i < static_cast<int>(live_.health().size())
                   ? &live_.health()[static_cast<std::size_t>(i)]
                   : nullptr;
    }
    void mousePressEvent(QMouseEvent* e) override {
        const HealthLine* line = line_at(e->position().y());
        if (line != nullptr && !line->advice.empty())
            emit panel_.advice_wanted(words(line->title + ", " + line->detail + ". " + line->advice));
    }
    void mouseMoveEvent(QMouseEvent* e) override {
        const HealthLine* line = line_at(e->position().y());
        setCursor(line != nullptr && !line->advice.empty() ? Qt::PointingHandCursor : Qt::ArrowCursor);
    }
    bool event(QEvent* e) override {
        if (e->type() == QEvent::ToolTip) {
            const auto* help = static_cast<QHelpEvent*>(e);
            if (const HealthLine* line = line_at(help->pos().y()))
                QToolTip::showText(
                    help->globalPos(),
                    words(line->title + ": " + line->detail + (line->advice.empty() ? "" : "\n" + line->advice)), this);
            return true;
        }
        return QWidget::event(e);
    }

  private:
    SanePanel& panel_;
    LiveSession& live_;
    QElapsedTimer shown_;  ///< since the figures were last renewed
};

SanePanel::SanePanel(LiveSession& live, QWidget* parent)
    : QScrollArea(parent), live_(live), sheet_(new Sheet(*this, live)) {
    setWidget(sheet_);
    setWidgetResizable(true);
    setFrameShape(QFrame::NoFrame);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setMinimumWidth(230);
    setAccessibleName(tr("Health"));
    connect(&live, &LiveSession::renewed, this, [this] { sheet_->renew(); });
}

QString SanePanel::text() const {
    QStringList all;
    for (const HealthLine& l : live_.health())
        all << words(l.title) + " | " + words(l.detail) + " | " + words(l.figure) + " | " + words(l.advice);
    return all.join('\n');
}

}  // namespace mt::app
