#include "target/target_form.h"

#include <QComboBox>
#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLineEdit>
#include <QMenu>
#include <QSignalBlocker>
#include <QVBoxLayout>

#include "base/text.h"
#include "look/layout.h"
#include "look/theme.h"
#include "look/words.h"
#include "target/target_file.h"

namespace mt::app {
namespace {

constexpr int kWidth = 416, kParts = 122;

bool is_quoted(TargetKey::Kind kind) {
    return kind == TargetKey::Kind::text || kind == TargetKey::Kind::choice || kind == TargetKey::Kind::file ||
           kind == TargetKey::Kind::files;
}

// "120 000 000", "0x40" and the like as TOML writes them; as they are if they are no numbers.
QString as_number(QString text) { return text.remove(' ').remove(QChar(0x202F)).remove('\''); }

// What a person entered, as TOML.
QString as_toml(const TargetKey& key, const QString& entered) {
    const QString text = entered.trimmed();
    if (text.isEmpty()) return {};
    if (key.kind == TargetKey::Kind::files && text.startsWith('[')) return text;
    if (key.key == "timestamp_prescaler") return text;
    if (is_quoted(key.kind)) return words(toml_quoted(text.toStdString()));
    return key.kind == TargetKey::Kind::number ? as_number(text) : text;
}

// The other way round, as it stands in the field.
QString as_entered(const TargetKey& key, const std::string& value) {
    if (value.empty()) return {};
    return words(is_quoted(key.kind) ? toml_unquoted(value) : value);
}

}  // namespace

TargetForm::TargetForm(TargetDraft& draft, QWidget* parent) : QWidget(parent), draft_(draft) {
    setObjectName("target_form");
    setAccessibleName(tr("Target: how the recording is decoded"));
    setAttribute(Qt::WA_StyledBackground);
    title_ = new QLabel;
    title_->setObjectName("target_title");
    title_->setFont(text_font(13, true));
    save_ = new QPushButton(tr("Save"));
    save_->setObjectName("target_save");
    save_->setToolTip(tr("Write the changes into the target file"));
    undo_ = new QPushButton(tr("Undo"));
    undo_->setObjectName("target_undo");
    redo_ = new QPushButton(tr("Redo"));
    redo_->setObjectName("target_redo");
    auto* close = new QToolButton;
    close->setText("✕");
    close->setToolTip(tr("Close the form; unsaved changes stay in effect"));
    close->setAccessibleName(tr("Close the target"));
    close->setObjectName("target_close");
    auto* head = new QHBoxLayout;
    head->setContentsMargins(12, 8, 8, 0);
    head->addWidget(title_, 1);
    for (QWidget* w : {static_cast<QWidget*>(undo_), static_cast<QWidget*>(redo_), static_cast<QWidget*>(save_),
                       static_cast<QWidget*>(close)})
        head->addWidget(w);
    parts_ = new QListWidget;
    parts_->setObjectName("target_parts");
    parts_->setAccessibleName(tr("Parts of the target file"));
    parts_->setFixedWidth(kParts);
    parts_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    add_ = new QToolButton;
    add_->setObjectName("target_add");
    add_->setText(tr("Add"));
    add_->setPopupMode(QToolButton::InstantPopup);
    auto* menu = new QMenu(add_);
    const std::pair<const char*, QString> kinds[] = {
        {"core", tr("Core")}, {"stream", tr("Stream")}, {"watch", tr("Watched variable")},
        {"port", tr("Port")}, {"task", tr("Task")},     {"signals", tr("Signals measured elsewhere")}, {"derived", tr("Derived signal")},
        {"stopwatch", tr("Stopwatch")}};
    for (const auto& [table, name] : kinds) menu->addAction(name, this, [this, t = std::string(table)] { add(t); });
    add_->setMenu(menu);
    remove_ = new QPushButton(tr("Remove"));
    remove_->setObjectName("target_remove");
    remove_->setToolTip(tr("Remove this section from the target file"));
    auto* below = new QHBoxLayout;
    below->setContentsMargins(0, 0, 0, 0);
    below->addWidget(add_);
    below->addWidget(remove_);
    auto* left = new QVBoxLayout;
    left->setSpacing(6);
    left->addWidget(parts_, 1);
    left->addLayout(below);
    scroll_ = new QScrollArea;
    scroll_->setObjectName("target_fields");
    scroll_->setAccessibleName(tr("Keys of this part"));
    scroll_->setWidgetResizable(true);
    scroll_->setFrameShape(QFrame::NoFrame);
    scroll_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    trouble_ = new QLabel;
    trouble_->setObjectName("target_trouble");
    trouble_->setWordWrap(true);
    trouble_->setContentsMargins(12, 4, 12, 6);
    trouble_->hide();
    auto* middle = new QHBoxLayout;
    middle->setContentsMargins(12, 6, 0, 8);
    middle->setSpacing(10);
    middle->addLayout(left);
    middle->addWidget(scroll_, 1);
    auto* column = bare_column(this);
    column->addLayout(head);
    column->addLayout(middle, 1);
    column->addWidget(trouble_);
    setMinimumWidth(kWidth);
    connect(save_, &QPushButton::clicked, this, &TargetForm::save);
    connect(undo_, &QPushButton::clicked, &draft_, &TargetDraft::undo);
    connect(redo_, &QPushButton::clicked, &draft_, &TargetDraft::redo);
    connect(remove_, &QPushButton::clicked, this, &TargetForm::remove);
    connect(close, &QToolButton::clicked, this, &TargetForm::close_wanted);
    connect(parts_, &QListWidget::currentRowChanged, this, [this](int row) {
        if (row < 0 || static_cast<std::size_t>(row) >= there_.size()) return;
        part_ = there_[static_cast<std::size_t>(row)];
        build_fields();
    });
    connect(&draft_, &TargetDraft::turned, this, &TargetForm::renew);
    connect(&draft_, &TargetDraft::renewed, this, &TargetForm::renew);
}

std::vector<TargetForm::Part> TargetForm::parts_there() const {
    std::vector<Part> all = {{"", 0}};
    const std::string& text = draft_.text();
    for (const char* table : {"core", "stream", "watch", "port", "task", "signals", "derived", "stopwatch"})
        for (std::size_t i = 0; i < count_tables(text, table); ++i) {
            all.push_back({table, i});
            if (std::string_view(table) != "stream") continue;
            for (const auto inner : stream_tables_of(toml_unquoted(stated_value(text, "stream", i, "protocol"))))
                all.push_back({std::string(inner), i});
        }
    return all;
}

QString TargetForm::name_of(const Part& part) const {
    const auto said = [&](const char* key) {
        return words(toml_unquoted(stated_value(draft_.text(), part.table, part.index, key)));
    };
    if (part.table.empty()) return tr("Target file");
    if (part.table == "core") return tr("Core %1").arg(said("name"));
    if (part.table == "stream") return tr("Stream %1").arg(part.index + 1);
    if (part.table == "watch")
        return tr("Watch %1").arg(said("symbol").isEmpty() ? said("comparator") : said("symbol"));
    if (part.table == "port") return tr("Port %1 %2").arg(said("number"), said("name"));
    if (part.table == "task") return tr("Task %1").arg(said("name"));
    if (part.table == "stopwatch") return tr("Stopwatch %1").arg(said("name"));
    if (part.table == "derived") return tr("Derived signal %1").arg(said("name"));
    if (part.table == "signals") return tr("Signals %1").arg(said("name").isEmpty() ? said("file") : said("name"));
    return "    " + words(std::string_view(part.table).substr(7));
}

// The list follows the text; the fields are built anew only where they are others, so that who types stays there.
void TargetForm::renew() {
    const std::vector<Part> now = parts_there();
    const bool same = now == there_;
    there_ = now;
    {
        const QSignalBlocker quiet(parts_);
        if (!same) {
            parts_->clear();
            for (std::size_t i = 0; i < there_.size(); ++i) parts_->addItem(QString());
        }
        for (std::size_t i = 0; i < there_.size(); ++i) parts_->item(static_cast<int>(i))->setText(name_of(there_[i]));
        auto at = std::find(there_.begin(), there_.end(), part_);
        if (at == there_.end()) at = there_.begin() + (there_.size() > 1 ? 1 : 0);
        parts_->setCurrentRow(static_cast<int>(at - there_.begin()));
        if (*at != part_ || !same || fields_.empty()) {
            part_ = *at;
            build_fields();
        }
    }
    for (const Field& f : fields_)
        f.show(as_entered(*f.key, stated_value(draft_.text(), part_.table, part_.index, std::string(f.key->key))));
    title_->setText(QFileInfo(draft_.path()).fileName() + (draft_.changed() ? tr(" (modified)") : QString()));
    title_->setToolTip(draft_.path());
    save_->setEnabled(draft_.changed());
    undo_->setEnabled(draft_.can_undo());
    redo_->setEnabled(draft_.can_redo());
    remove_->setEnabled(!part_.table.empty() && part_.table.find('.') == std::string::npos);
}

void TargetForm::show_part(const QString& table, std::size_t index) {
    const Part wanted{table.toStdString(), index};
    const auto at = std::find(there_.begin(), there_.end(), wanted);
    if (at != there_.end()) parts_->setCurrentRow(static_cast<int>(at - there_.begin()));
}

void TargetForm::build_fields() {
    fields_.clear();
    auto* page = new QWidget;
    auto* column = column_in(page, {0, 0, 14, 0}, 2);
    for (const TargetKey* key : target_keys_of(part_.table)) {
        auto* name = new QLabel(words(key->key) + (key->required ? tr("  (required)") : QString()));
        name->setFont(text_font(12, true));
        QWidget* edit = editor(*key);
        edit->setToolTip(words(key->meaning));
        auto* meaning = new QLabel(words(key->meaning) +
                                   (key->usual.empty() ? QString() : tr("; default %1").arg(words(key->usual))));
        meaning->setWordWrap(true);
        meaning->setFont(text_font(11));
        meaning->setStyleSheet(QString("color: %1").arg(theme().second.name()));
        column->addWidget(name);
        column->addWidget(edit);
        column->addWidget(meaning);
        column->addSpacing(8);
    }
    column->addStretch();
    scroll_->setWidget(page);
    for (const Field& f : fields_)
        f.show(as_entered(*f.key, stated_value(draft_.text(), part_.table, part_.index, std::string(f.key->key))));
    trouble_->hide();
    remove_->setEnabled(!part_.table.empty() && part_.table.find('.') == std::string::npos);
}

QWidget* TargetForm::editor(const TargetKey& key) {
    const QString object = "key_" + words(key.key);
    if (key.kind == TargetKey::Kind::choice || key.kind == TargetKey::Kind::flag) {
        auto* box = new QComboBox;
        box->setObjectName(object);
        box->setAccessibleName(words(key.key));
        box->setEditable(key.key == "isa");
        box->addItem(key.usual.empty() ? tr("not stated") : tr("default: %1").arg(words(key.usual)), QString());
        const QStringList choices =
            key.kind == TargetKey::Kind::flag ? QStringList{"true", "false"} : words(key.choices).split(' ');
        for (const QString& c : choices) box->addItem(c, c);
        box->setFocusPolicy(Qt::StrongFocus);
        fields_.push_back({&key, [box](const QString& value) {
                               const QSignalBlocker quiet(box);
                               const int at = box->findData(value);
                               box->setCurrentIndex(at);
                               if (at < 0 && box->isEditable()) box->setEditText(value);
                           }});
        connect(box, &QComboBox::activated, this, [this, box, &key] { enter(key, box->currentData().toString()); });
        if (box->isEditable())
            connect(box->lineEdit(), &QLineEdit::editingFinished, this, [this, box, &key] {
                const int at = box->findText(box->currentText());
                enter(key, at >= 0 ? box->itemData(at).toString() : box->currentText());
            });
        return box;
    }
    auto* line = new QLineEdit;
    line->setObjectName(object);
    line->setAccessibleName(words(key.key));
    if (key.kind == TargetKey::Kind::names) line->setPlaceholderText("{ 0 = \"idle\", 1 = \"track\" }");
    if (key.kind == TargetKey::Kind::mark) line->setPlaceholderText("{ port = 5, value = 1 }");
    if (key.kind == TargetKey::Kind::event) line->setPlaceholderText("{ of = \"ENC_INDEX\", at = \"entry\" }");
    if (key.kind == TargetKey::Kind::tables)
        line->setPlaceholderText(key.key == "memory" ? "[{ file = \"ram.bin\", address = 0x20000000 }]"
                                 : key.key == "channels" ? "[{ name = \"board current\", scale = 0.0061, unit = \"mA\" }]"
                                                       : "[{ mark = \"sync\", edge = \"SYNC rising\" }]");
    if (key.kind == TargetKey::Kind::list) line->setPlaceholderText("[\"implicit_return\"]");
    if (!key.usual.empty()) line->setPlaceholderText(words(key.usual));
    fields_.push_back({&key, [line](const QString& value) {
                           if (line->text() != value && !(line->hasFocus() && line->isModified())) line->setText(value);
                       }});
    connect(line, &QLineEdit::editingFinished, this, [this, line, &key] {
        line->setModified(false);
        enter(key, line->text());
    });
    const bool file = key.kind == TargetKey::Kind::file || key.kind == TargetKey::Kind::files;
    if (!file && key.unit.empty()) return line;
    auto* row = new QWidget;
    auto* across = new QHBoxLayout(row);
    across->setContentsMargins(0, 0, 0, 0);
    across->addWidget(line, 1);
    if (!key.unit.empty()) across->addWidget(new QLabel(words(key.unit)));
    if (!file) return row;
    auto* choose = new QPushButton(tr("Choose…"));
    choose->setObjectName(object + "_choose");
    connect(choose, &QPushButton::clicked, this, [this, line, &key] {
        const QDir folder = QFileInfo(draft_.path()).absoluteDir();
        const QString path = QFileDialog::getOpenFileName(this, words(key.meaning), folder.path());
        if (path.isEmpty()) return;
        line->setText(folder.relativeFilePath(path));
        enter(key, line->text());
    });
    across->addWidget(choose);
    return row;
}

void TargetForm::enter(const TargetKey& key, const QString& entered) {
    const std::string was = stated_value(draft_.text(), part_.table, part_.index, std::string(key.key));
    if (entered.trimmed() == as_entered(key, was)) return trouble_->hide();
    const QString value = as_toml(key, entered);
    const QString what = value.isEmpty() ? tr("%1 not stated").arg(words(key.key))
                                         : tr("%1 set to %2").arg(words(key.key), entered.trimmed());
    const auto done = draft_.change(what, {{part_.table, part_.index, std::string(key.key), value.toStdString()}});
    trouble_->setVisible(!done);
    if (!done) trouble_->setText(tr("Rejected: %1").arg(words(done.error().text())));
    trouble_->setStyleSheet(QString("color: %1; font-weight: bold").arg(theme().finding.name()));
}

void TargetForm::add(const std::string& table) {
    const std::size_t n = count_tables(draft_.text(), table);
    std::vector<KeyChange> changes;
    const std::string number = std::to_string(n + 1);
    const std::string core = stated_value(draft_.text(), "core", 0, "name");
    if (table == "core") changes = {{table, n, "name", toml_quoted("core " + number)}};
    if (table == "stream") {
        changes = {{table, n, "protocol", core.empty() ? "\"ctf\"" : "\"itm\""}};
        if (!core.empty()) changes.push_back({table, n, "core", core});
    }
    if (table == "watch")
        changes = {{table, n, "comparator", std::to_string(std::min<std::size_t>(n, 15))},
                   {table, n, "address", "0x20000000"},
                   {table, n, "type", "\"u32\""}};
    if (table == "port") changes = {{table, n, "number", std::to_string(n)}};
    if (table == "task") changes = {{table, n, "name", toml_quoted("task " + number)}};
    if (table == "signals") changes = {{table, n, "file", "\"signals.vcd\""}};
    if (table == "stopwatch")
        changes = {{table, n, "name", "\"from here to there\""},
                   {table, n, "from", "{ of = \"here\" }"},
                   {table, n, "to", "{ of = \"there\" }"}};
    if (table == "derived") changes = {{table, n, "name", "\"sum\""}, {table, n, "expression", "\"a + b\""}};
    part_ = {table, n};
    if (const auto done = draft_.change(tr("%1 added").arg(words(table)), changes); !done) {
        trouble_->setText(tr("Rejected: %1").arg(words(done.error().text())));
        trouble_->show();
    }
    renew();
}

void TargetForm::remove() {
    const Part gone = part_;
    part_ = {"", 0};
    const QString name = name_of(gone);
    if (const auto done = draft_.change(tr("%1 removed").arg(name), {{gone.table, gone.index, "", ""}}); !done) {
        part_ = gone;
        renew();
        trouble_->setText(tr("Rejected: %1").arg(words(done.error().text())));
        trouble_->show();
    }
}

void TargetForm::save() {
    if (const auto saved = draft_.save(); saved)
        emit told(tr("Saved as %1").arg(draft_.path()), false);
    else
        emit told(words(saved.error().text()), true);
}

void TargetForm::keyPressEvent(QKeyEvent* e) {
    if (e->key() == Qt::Key_Escape) return emit close_wanted();
    QWidget::keyPressEvent(e);
}

}  // namespace mt::app
