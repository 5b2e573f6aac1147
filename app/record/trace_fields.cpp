#include "record/trace_fields.h"

#include "look/words.h"

namespace mt::app {

QComboBox* choice(const char* name, const QStringList& items) {
    auto* c = new QComboBox;
    c->setObjectName(name);
    c->addItems(items);
    return c;
}

QLineEdit* line_field(const char* name, const QString& placeholder) {
    auto* e = new QLineEdit;
    e->setObjectName(name);
    e->setPlaceholderText(placeholder);
    return e;
}

QCheckBox* three_way(const char* name, const QString& text) {
    auto* b = new QCheckBox(text);
    b->setObjectName(name);
    b->setTristate(true);
    b->setCheckState(Qt::PartiallyChecked);
    b->setToolTip(QObject::tr("Half marked: as it is found on the target"));
    return b;
}

std::optional<bool> answer(const QCheckBox* box) {
    return box->checkState() == Qt::PartiallyChecked ? std::nullopt : std::optional(box->checkState() == Qt::Checked);
}

void ask(QCheckBox* box, const std::optional<bool>& value) {
    box->setCheckState(!value ? Qt::PartiallyChecked : *value ? Qt::Checked : Qt::Unchecked);
}

std::vector<std::string> parts_of(const QLineEdit* field) {
    std::vector<std::string> all;
    for (const QString& part : field->text().split(',', Qt::SkipEmptyParts))
        if (!part.trimmed().isEmpty()) all.push_back(part.trimmed().toStdString());
    return all;
}

void show_parts(QLineEdit* field, const std::vector<std::string>& parts) {
    QStringList all;
    for (const auto& part : parts) all << words(part);
    field->setText(all.join(", "));
}

std::optional<std::vector<unsigned>> numbers_of(const QLineEdit* field) {
    if (field->text().trimmed().isEmpty()) return std::nullopt;
    std::vector<unsigned> all;
    for (const std::string& part : parts_of(field)) {
        bool number = false;
        const unsigned n = words(part).toUInt(&number);
        if (number && n < 32) all.push_back(n);
    }
    return all;
}

void show_numbers(QLineEdit* field, const std::optional<std::vector<unsigned>>& numbers) {
    QStringList all;
    if (numbers)
        for (const unsigned n : *numbers) all << QString::number(n);
    field->setText(numbers && numbers->empty() ? QObject::tr("none") : all.join(", "));
}

}  // namespace mt::app
