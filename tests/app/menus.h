// Menus as a person uses them: a right click, and an entry by its words.
#pragma once

#include <gtest/gtest.h>

#include <QApplication>
#include <QContextMenuEvent>
#include <QMenu>
#include <QTimer>
#include <QWidget>

namespace mt::app {

// Chooses an entry of the menu that a right click opens, and of the menus within it.
inline void choose(QWidget* widget, const QPoint& at, const QStringList& path) {
    QTimer::singleShot(50, [path] {
        auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
        ASSERT_NE(menu, nullptr);
        QMenu* in = menu;
        for (const QString& name : path) {
            QAction* found = nullptr;
            for (QAction* a : in->actions())
                if (a->text() == name) found = a;
            ASSERT_NE(found, nullptr) << name.toStdString();
            if (found->menu() != nullptr)
                in = found->menu();
            else
                found->trigger();
        }
        menu->close();
    });
    QContextMenuEvent event(QContextMenuEvent::Mouse, at, widget->mapToGlobal(at));
    QApplication::sendEvent(widget, &event);
}
}  // namespace mt::app
