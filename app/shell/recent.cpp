#include "shell/recent.h"

#include <QFileInfo>
#include <QSettings>

namespace mt::app {
namespace {
constexpr int kMost = 8;
}  // namespace

QStringList Recent::paths() const { return QSettings().value("recent").toStringList(); }

void Recent::remember(const QString& path) {
    QStringList list = paths();
    const QString full = QFileInfo(path).absoluteFilePath();
    list.removeAll(full);
    list.prepend(full);
    while (list.size() > kMost) list.removeLast();
    QSettings().setValue("recent", list);
    fill();
}

void Recent::keep_menu(QMenu* menu) {
    menu_ = menu;
    fill();
}

void Recent::fill() {
    const QStringList list = paths();
    if (menu_ != nullptr) {
        menu_->clear();
        for (const QString& path : list) menu_->addAction(path, this, [this, path] { emit chosen(path); });
        menu_->setEnabled(!list.isEmpty());
        if (!list.isEmpty()) {
            menu_->addSeparator();
            menu_->addAction(tr("Clear the list"), this, [this] {
                QSettings().remove("recent");
                fill();
            });
        }
    }
    emit changed();
}

}  // namespace mt::app
