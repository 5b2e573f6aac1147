#include "shell/picture.h"

#include <QPainter>
#include <QPrintDialog>
#include <QPrinter>
#include <QSvgGenerator>

#include <algorithm>

namespace mt::app {

void paint_view(QWidget& view, QPainter& painter, const QRectF& page) {
    const double scale = std::min(page.width() / view.width(), page.height() / view.height());
    painter.save();
    painter.translate(page.left() + (page.width() - scale * view.width()) / 2, page.top());
    painter.scale(scale, scale);
    view.render(&painter, {}, {}, QWidget::DrawWindowBackground | QWidget::DrawChildren);
    painter.restore();
}

Result<void> save_picture(QWidget& view, const QString& path) {
    bool done = false;
    if (path.endsWith(".svg", Qt::CaseInsensitive)) {
        QSvgGenerator svg;
        svg.setFileName(path);
        svg.setSize(view.size());
        svg.setViewBox(QRect(QPoint(0, 0), view.size()));
        svg.setTitle(view.accessibleName());
        QPainter painter;
        if (painter.begin(&svg)) {
            paint_view(view, painter, QRectF(QPointF(0, 0), view.size()));
            done = painter.end();
        }
    } else {
        done = view.grab().save(path, "PNG");
    }
    if (!done) return failure("cannot write", path.toStdString(), "check the folder, the permissions and free space");
    return {};
}

bool print_view(QWidget& view, QWidget* parent) {
    QPrinter printer(QPrinter::HighResolution);
    printer.setPageOrientation(QPageLayout::Landscape);
    QPrintDialog dialog(&printer, parent);
    if (dialog.exec() != QDialog::Accepted) return false;
    QPainter painter(&printer);
    paint_view(view, painter, QRectF(QPointF(0, 0), printer.pageRect(QPrinter::DevicePixel).size()));
    return painter.end();
}

}  // namespace mt::app
