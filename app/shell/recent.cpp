#include "shell/recent.h"

#include <QCryptographicHash>
#include <QDir>
#include <QFileInfo>
#include <QSettings>
#include <QStandardPaths>

namespace mt::app {
namespace {
constexpr int kMost = 8;

QString key_of(const QString& path) {
    return QCryptographicHash::hash(QFileInfo(path).absoluteFilePath().toUtf8(), QCryptographicHash::Sha1).toHex();
}
QString ridge_file(const QString& path) {
    return QStandardPaths::writableLocation(QStandardPaths::CacheLocation) + "/ridges/" + key_of(path) + ".png";
}
}  // namespace

QStringList Recent::paths() const { return QSettings().value("recent").toStringList(); }

void Recent::remember(const QString& path) {
    QStringList list = paths();
    const QString full = QFileInfo(path).absoluteFilePath();
    list.removeAll(full);
    list.prepend(full);
    while (list.size() > kMost) forget(list.takeLast());
    QSettings().setValue("recent", list);
    fill();
}

void Recent::keep_facts(const QString& path, const RecentFacts& facts) {
    QSettings settings;
    settings.setValue("recent_facts/" + key_of(path), QVariantList{facts.findings, facts.length});
    const QString file = ridge_file(path);
    QDir().mkpath(QFileInfo(file).path());
    facts.ridge.save(file);
    emit changed();
}

RecentFacts Recent::facts(const QString& path) const {
    RecentFacts facts;
    const QVariantList kept = QSettings().value("recent_facts/" + key_of(path)).toList();
    if (kept.size() != 2) return facts;
    facts.findings = kept[0].toInt();
    facts.length = kept[1].toString();
    facts.ridge.load(ridge_file(path));
    return facts;
}

void Recent::keep_menu(QMenu* menu) {
    menu_ = menu;
    fill();
}

void Recent::forget(const QString& path) {
    QSettings().remove("recent_facts/" + key_of(path));
    QFile::remove(ridge_file(path));
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
                for (const QString& path : paths()) forget(path);
                QSettings().remove("recent");
                fill();
            });
        }
    }
    emit changed();
}

}  // namespace mt::app
