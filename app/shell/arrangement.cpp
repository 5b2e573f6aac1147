#include "shell/arrangement.h"

#include <QSettings>

#include "measure/kinds/kinds.h"

namespace mt::app {
namespace {

QVariantList list_of(const QList<int>& sizes) {
    QVariantList all;
    for (const int s : sizes) all << s;
    return all;
}

QList<int> sizes_of(const QVariant& list) {
    QList<int> all;
    for (const QVariant& s : list.toList()) all << s.toInt();
    return all;
}

}  // namespace

Arrangement::Arrangement(const Parts& parts, QObject* parent) : QObject(parent), parts_(parts) { show_default(); }

QString Arrangement::place() const {
    return QString("arrangement/%1/%2/").arg(kind_, name_ == Name::code ? "code" : "timing");
}

void Arrangement::use(Name name) {
    if (name == name_) return;
    keep();
    name_ = name;
    QSettings().setValue(QString("arrangement/%1/last").arg(kind_), name == Name::code ? "code" : "timing");
    restore();
}

void Arrangement::use_kind(const QString& kind) {
    if (kind == kind_) return;
    keep();
    kind_ = kind;
    name_ = QSettings().value(QString("arrangement/%1/last").arg(kind)) == "code" ? Name::code : Name::timing;
    restore();
}

void Arrangement::reset() {
    QSettings().remove(place().chopped(1));
    show_default();
    emit changed();
}

void Arrangement::keep() const {
    if (kind_.isEmpty()) return;
    QSettings settings;
    settings.setValue(place() + "across", list_of(parts_.across->sizes()));
    settings.setValue(place() + "down", list_of(parts_.down->sizes()));
    settings.setValue(place() + "evidence", list_of(parts_.evidence->splitter()->sizes()));
    settings.setValue(place() + "findings_shown", !parts_.findings->isHidden());
    settings.setValue(place() + "panel_shown", !parts_.panel->isHidden());
    settings.setValue(place() + "evidence_shown", !parts_.evidence->isHidden());
    QVariantList panes;
    for (const QStringList& pane : parts_.evidence->arranged()) panes << QVariant(pane);
    settings.setValue(place() + "pages", panes);
    QStringList hidden;
    for (const std::string& id : parts_.lanes->hidden_kinds()) hidden << QString::fromStdString(id);
    settings.setValue(place() + "hidden_lanes", hidden);
}

void Arrangement::restore() {
    show_default();
    const QSettings settings;
    if (settings.contains(place() + "pages")) {
        std::vector<QStringList> panes;
        for (const QVariant& pane : settings.value(place() + "pages").toList()) panes.push_back(pane.toStringList());
        parts_.evidence->arrange(panes);
        parts_.findings->setVisible(settings.value(place() + "findings_shown").toBool());
        parts_.panel->setVisible(settings.value(place() + "panel_shown").toBool());
        parts_.evidence->setVisible(settings.value(place() + "evidence_shown").toBool());
        std::set<std::string> hidden;
        for (const QString& id : settings.value(place() + "hidden_lanes").toStringList())
            hidden.insert(id.toStdString());
        parts_.lanes->set_hidden_kinds(std::move(hidden));
        parts_.across->setSizes(sizes_of(settings.value(place() + "across")));
        parts_.down->setSizes(sizes_of(settings.value(place() + "down")));
        parts_.evidence->splitter()->setSizes(sizes_of(settings.value(place() + "evidence")));
    }
    emit changed();
}

void Arrangement::show_default() {
    const bool code = name_ == Name::code;
    parts_.evidence->set_larger(false);
    parts_.findings->setVisible(!code);
    parts_.panel->setVisible(!code);
    parts_.evidence->setVisible(true);
    std::set<std::string> hidden;
    if (code)
        for (const LaneKind* kind : LaneKinds::all())
            if (kind != &functions_kind() && kind != &values_kind()) hidden.insert(std::string(kind->id()));
    parts_.lanes->set_hidden_kinds(std::move(hidden));
    parts_.across->setSizes({250, 280, 730, 300});
    if (code) {
        parts_.evidence->arrange({{"instructions"}, {"source"}, {"state", "functions", "call_tree"}});
        parts_.evidence->splitter()->setSizes({420, 540, 320});
        parts_.down->setSizes({230, 430});
    } else {
        parts_.evidence->arrange({{"events", "functions", "system_events"}});
        parts_.down->setSizes({460, 190});
    }
}

}  // namespace mt::app
