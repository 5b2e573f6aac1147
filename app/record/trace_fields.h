// Fields of the forms that say what to trace.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include <QCheckBox>
#include <QComboBox>
#include <QLineEdit>

namespace mt::app {

QComboBox* choice(const char* name, const QStringList& items);
QLineEdit* line_field(const char* name, const QString& placeholder);

/// As it is found, on, or off.
QCheckBox* three_way(const char* name, const QString& text);
std::optional<bool> answer(const QCheckBox* box);
void ask(QCheckBox* box, const std::optional<bool>& value);

/// Parts between commas, without blanks around them.
std::vector<std::string> parts_of(const QLineEdit* field);
void show_parts(QLineEdit* field, const std::vector<std::string>& parts);
/// Numbers from 0 to 31; empty: nothing is said; "none": none of them.
std::optional<std::vector<unsigned>> numbers_of(const QLineEdit* field);
void show_numbers(QLineEdit* field, const std::optional<std::vector<unsigned>>& numbers);

}  // namespace mt::app
