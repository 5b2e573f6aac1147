#include "navigate/moment_actions.h"

#include <QClipboard>
#include <QGuiApplication>

#include "base/text.h"
#include "look/words.h"

namespace mt::app {

QString ruler_text(const Document& document, const Viewpoint& view) {
    const auto trail = document.trail();
    if (!trail || !view.a() || !view.b() || view.core() >= trail->cores.size()) return {};
    const CoreTrail& core = trail->cores[view.core()];
    const Time a = *view.a(), b = *view.b(), d{b.ps - a.ps};
    return QObject::tr("A (ns)\tB (ns)\tA–B (ns)\tA–B (cycles of %1)\n").arg(words(core.name)) +
           QStringList{words(ns_text(a)), words(ns_text(b)), words(ns_text(d)), QString::number(core.clock.cycles(d))}
               .join('\t') +
           "\n";
}

bool copy_ruler(const Document& document, const Viewpoint& view) {
    const QString text = ruler_text(document, view);
    if (!text.isEmpty()) QGuiApplication::clipboard()->setText(text);
    return !text.isEmpty();
}

void add_moment_actions(QMenu& menu, Document& document, Viewpoint& view, Time at) {
    menu.addAction(QObject::tr("Cursor to %1").arg(words(moment_text(at))), &view,
                   [&view, at] { view.set_cursor(at); });
    menu.addAction(QObject::tr("Set A here"), &view, [&view, at] { view.set_ruler(at, view.b()); });
    menu.addAction(QObject::tr("Set B here"), &view, [&view, at] { view.set_ruler(view.a(), at); });
    menu.addSeparator();
    menu.addAction(QObject::tr("Copy the time (ns)"), &view,
                   [at] { QGuiApplication::clipboard()->setText(words(ns_text(at))); });
    if (view.a() && view.b())
        menu.addAction(QObject::tr("Copy A–B (ns and cycles)"), &view,
                       [&document, &view] { copy_ruler(document, view); });
}

}  // namespace mt::app
