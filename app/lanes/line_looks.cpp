#include "lanes/line_looks.h"

#include <QSettings>
#include <QStringList>

#include <cmath>

namespace mt::app {
namespace {

QString name_of(const std::string& key) {
    return "lanes/line/" + QString::fromStdString(key).replace('\\', '_').replace('/', '|');
}

}  // namespace

LineLooks::LineLooks() {
    QSettings settings;
    settings.beginGroup("lanes/line");
    for (const QString& key : settings.allKeys()) {
        const QStringList parts = settings.value(key).toStringList();  // how, scale, low, high, with
        if (parts.size() != 5) continue;
        LineLook look;
        look.drawn = static_cast<LineLook::Drawn>(std::min(2U, parts[0].toUInt()));
        look.scale = static_cast<LineLook::Scale>(std::min(3U, parts[1].toUInt()));
        look.low = parts[2].toDouble();
        look.high = parts[3].toDouble();
        look.with = parts[4].toStdString();
        if (!(look.high > look.low) || !std::isfinite(look.high - look.low)) look.scale = LineLook::Scale::usual;
        all_[QString(key).replace('|', '/').toStdString()] = look;
    }
}

LineLook LineLooks::of(const std::string& key) const {
    const auto found = all_.find(key);
    return found == all_.end() ? LineLook{} : found->second;
}

void LineLooks::set(const std::string& key, const LineLook& look) {
    if (look == LineLook{}) {
        all_.erase(key);
        QSettings().remove(name_of(key));
        return;
    }
    all_[key] = look;
    QSettings().setValue(name_of(key), QStringList{QString::number(static_cast<unsigned>(look.drawn)),
                                                   QString::number(static_cast<unsigned>(look.scale)),
                                                   QString::number(look.low, 'g', 17),
                                                   QString::number(look.high, 'g', 17),
                                                   QString::fromStdString(look.with)});
}

}  // namespace mt::app
