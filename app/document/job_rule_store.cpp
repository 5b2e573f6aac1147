#include "document/job_rule_store.h"

#include <QCryptographicHash>
#include <QFileInfo>
#include <QSettings>
#include <QVariantMap>

namespace mt::app {
namespace {

QString key_of(const QString& path) {
    const QByteArray whole = QFileInfo(path).absoluteFilePath().toUtf8();
    return "job_rules/" + QCryptographicHash::hash(whole, QCryptographicHash::Sha1).toHex();
}

}  // namespace

std::vector<TaskSpec> kept_job_rules(const QString& path) {
    std::vector<TaskSpec> rules;
    for (const QVariant& v : QSettings().value(key_of(path)).toList()) {
        const QVariantMap map = v.toMap();
        TaskSpec spec;
        spec.name = map.value("task").toString().toStdString();
        const int ends = map.value("ends", -1).toInt();
        if (spec.name.empty() || ends < 0 || ends > static_cast<int>(JobRule::Ends::marks)) continue;
        spec.rule.ends = static_cast<JobRule::Ends>(ends);
        spec.rule.object = map.value("object").toString().toStdString();
        spec.rule.begin_port = map.value("begin_port").toUInt();
        spec.rule.begin_value = map.value("begin_value").toLongLong();
        spec.rule.end_port = map.value("end_port").toUInt();
        spec.rule.end_value = map.value("end_value").toLongLong();
        rules.push_back(std::move(spec));
    }
    return rules;
}

void keep_job_rules(const QString& path, const std::vector<TaskSpec>& rules) {
    QVariantList list;
    for (const TaskSpec& spec : rules)
        list.push_back(QVariantMap{{"task", QString::fromStdString(spec.name)},
                                   {"ends", static_cast<int>(spec.rule.ends)},
                                   {"object", QString::fromStdString(spec.rule.object)},
                                   {"begin_port", spec.rule.begin_port},
                                   {"begin_value", static_cast<qlonglong>(spec.rule.begin_value)},
                                   {"end_port", spec.rule.end_port},
                                   {"end_value", static_cast<qlonglong>(spec.rule.end_value)}});
    if (list.isEmpty())
        QSettings().remove(key_of(path));
    else
        QSettings().setValue(key_of(path), list);
}

}  // namespace mt::app
