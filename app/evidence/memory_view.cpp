#include "evidence/memory_view.h"

#include <QFileDialog>
#include <QHeaderView>
#include <QInputDialog>
#include <QMenu>
#include <QVBoxLayout>

#include <algorithm>
#include <utility>

#include "base/text.h"
#include "look/layout.h"
#include "look/page_parts.h"
#include "look/theme.h"
#include "look/words.h"
#include "target/disassembly.h"

namespace mt::app {
namespace {

constexpr int kMost = 256, kInRow = 16, kContents = 1;
constexpr int kOffsetRole = Qt::UserRole, kCountRole = Qt::UserRole + 1, kPlaceRole = Qt::UserRole + 2;

QString address_text(std::uint64_t address) { return words(hex_text(address, 8)); }

}  // namespace

MemoryView::MemoryView(LiveSession& live, Of of, QWidget* parent) : QWidget(parent), live_(live), of_(std::move(of)) {
    address_ = new QLineEdit;
    address_->setObjectName("hand_address");
    address_->setPlaceholderText(tr("Address: 0x20000000"));
    address_->setAccessibleName(tr("Address"));
    address_->setToolTip(tr("Where to look; Enter reads 256 bytes"));
    as_ = new QComboBox;
    as_->setObjectName("hand_memory_as");
    as_->setAccessibleName(tr("How memory is shown"));
    as_->addItems({tr("bytes"), tr("words"), tr("text"), tr("instructions")});
    tree_ = tree_of_values("hand_memory", tr("Memory"), {tr("address"), tr("contents")});
    tree_->setRootIsDecorated(false);
    tree_->setToolTip(tr("A double click types over what stands there; the menu fills, searches, compares, saves and loads"));
    auto* column = bare_column(this, 2);
    auto* line = new QHBoxLayout;
    line->addWidget(address_);
    line->addWidget(as_);
    column->addLayout(line);
    column->addWidget(tree_, 1);
    connect(address_, &QLineEdit::returnPressed, this, &MemoryView::read);
    connect(as_, &QComboBox::activated, this, &MemoryView::read);
    connect(tree_, &QTreeWidget::customContextMenuRequested, this, &MemoryView::open_menu);
    connect(tree_, &QTreeWidget::itemDoubleClicked, this, &MemoryView::edit);
    connect(tree_, &QTreeWidget::itemChanged, this, [this](QTreeWidgetItem* item, int at) {
        if (!filling_ && at == kContents) edited(item);
    });
}

void MemoryView::clear() {
    tree_->clear();
    shown_.clear();
    before_.clear();
}

void MemoryView::renew() {
    if (!shown_.empty()) read();
}

void MemoryView::read() {
    const QString address = address_->text().trimmed();
    if (address.isEmpty() || of_.core().isEmpty()) return;
    live_.ask(of_.core() + ": memory " + address + " " + QString::number(kMost), [this](const Result<std::vector<HandAnswer>>& answers) {
        if (!answers) return void(emit told(words(answers.error().text()), true));
        std::uint64_t from = 0;
        std::vector<std::uint8_t> bytes;
        for (const auto& row : answers->front().values) {
            if (bytes.empty()) from = words(row.name).toULongLong(nullptr, 16);
            for (const QString& b : words(row.text).split(' ', Qt::SkipEmptyParts)) bytes.push_back(static_cast<std::uint8_t>(b.toUInt(nullptr, 16)));
        }
        show_memory(from, bytes);
    });
}

void MemoryView::add_row(std::uint64_t address, const QString& text, std::uint64_t at, std::size_t count) {
    auto* item = new QTreeWidgetItem(tree_, {address_text(address), text});
    item->setFont(0, fixed_font());
    item->setFont(kContents, fixed_font());
    item->setData(0, kOffsetRole, qulonglong(at));
    item->setData(0, kCountRole, qulonglong(count));
    const bool other = before_.size() == shown_.size() &&
                       !std::equal(shown_.begin() + static_cast<std::ptrdiff_t>(at), shown_.begin() + static_cast<std::ptrdiff_t>(at + count),
                                   before_.begin() + static_cast<std::ptrdiff_t>(at));
    if (other) item->setForeground(kContents, theme().interrupt);
}

void MemoryView::show_memory(std::uint64_t from, const std::vector<std::uint8_t>& bytes) {
    if (from == from_ && bytes == shown_ && as() == shown_as_) return;  // it stays as it is, with what is typed into it
    shown_as_ = as();
    before_ = from == from_ ? shown_ : std::vector<std::uint8_t>();
    from_ = from;
    shown_ = bytes;
    filling_ = true;
    tree_->clear();
    if (as() == As::instructions) {
        const Image::Piece piece{from, from, shown_, false};
        const auto code = Code::of(std::span(&piece, 1), of_.isa().toStdString());
        if (code) {
            const Disassembler text(*code);
            for (std::uint32_t slot = code->slot_of(from); slot < code->slot_count(); slot = code->next(slot)) {
                const std::uint64_t at = code->address(slot) - from, count = std::min<std::uint64_t>(2 * std::uint64_t{(*code)[slot].size}, shown_.size() - at);
                if ((*code)[slot].flow == Flow::none && at + 4 > shown_.size()) break;  // cut off at the end
                add_row(code->address(slot), words(text.text(slot)), at, count);
            }
        }
    } else {
        for (std::size_t at = 0; at < shown_.size(); at += kInRow) {
            const std::size_t count = std::min<std::size_t>(kInRow, shown_.size() - at);
            QString text;
            for (std::size_t i = 0; i < count; ++i) {
                const std::uint8_t b = shown_[at + i];
                if (as() == As::bytes) text += (i == 0 ? "" : " ") + QString("%1").arg(b, 2, 16, QChar('0'));
                if (as() == As::text) text += b >= 0x20 && b < 0x7F ? QChar(b) : QChar(u'·');
                if (as() == As::words && i % 4 == 0 && i + 4 <= count)
                    text += (i == 0 ? "" : " ") +
                            QString("%1").arg(std::uint32_t{b} | std::uint32_t{shown_[at + i + 1]} << 8 | std::uint32_t{shown_[at + i + 2]} << 16 | std::uint32_t{shown_[at + i + 3]} << 24, 8, 16, QChar('0'));
            }
            add_row(from + at, text, at, count);
        }
    }
    filling_ = false;
    tree_->resizeColumnToContents(0);
}

bool MemoryView::writes() {
    if (of_.may_write()) return true;
    emit told(tr("The target may only be looked at. Switch “writing” on to change it."), false);
    return false;
}

void MemoryView::edit(QTreeWidgetItem* item) {
    if (const QVariant place = item->data(0, kPlaceRole); place.isValid()) {
        address_->setText(place.toString());
        return read();
    }
    if (as() == As::text || as() == As::instructions) return void(emit told(tr("Bytes and words can be typed over."), false));
    if (!writes()) return;
    item->setFlags(item->flags() | Qt::ItemIsEditable);
    tree_->editItem(item, kContents);
}

// What differs from what stood there is written, number by number.
void MemoryView::edited(QTreeWidgetItem* item) {
    const unsigned size = as() == As::words ? 4 : 1;
    const auto offset = static_cast<std::size_t>(item->data(0, kOffsetRole).toULongLong()), count = static_cast<std::size_t>(item->data(0, kCountRole).toULongLong());
    const QStringList typed = item->text(kContents).split(' ', Qt::SkipEmptyParts);
    std::vector<std::uint64_t> numbers;
    for (const QString& text : typed) {
        bool good = false;
        const std::uint64_t number = text.toULongLong(&good, 16);
        if (good && number >> (8 * size) == 0) numbers.push_back(number);
    }
    // The row may go only once its editor is closed.
    const auto show_again = [this] { QMetaObject::invokeMethod(this, [this] {
        const auto bytes = std::exchange(shown_, {});
        show_memory(from_, bytes);
    }, Qt::QueuedConnection); };
    if (numbers.size() != static_cast<std::size_t>(typed.size()) || numbers.size() != count / size) {
        emit told(tr("That is not what stands there with other numbers: %1 of %2 digits each.").arg(count / size).arg(2 * size), true);
        return show_again();
    }
    QStringList commands;
    for (std::size_t i = 0; i < numbers.size(); ++i) {
        std::uint64_t was = 0;
        for (unsigned b = size; b-- > 0;) was = was << 8 | shown_[offset + size * i + b];
        if (was == numbers[i]) continue;
        commands << QString("write *(uint%1_t*)%2 0x%3").arg(8 * size).arg(address_text(from_ + offset + size * i)).arg(numbers[i], 0, 16);
    }
    if (commands.isEmpty()) return show_again();
    for (const QString& command : commands) ask(command, {}, command == commands.back());
}

void MemoryView::ask(const QString& command, const QString& file, bool last) {
    auto parsed = parse_hand_command((of_.core() + ": " + command).toStdString());
    if (!parsed) return void(emit told(words(parsed.error().text()), true));
    if (!file.isEmpty()) parsed->place = file.toStdString();
    live_.ask(std::move(*parsed), [this, command, last](const Result<std::vector<HandAnswer>>& answers) {
        if (!answers) return void(emit told(words(answers.error().text()), true));
        const HandAnswer& a = answers->front();
        const bool finds = command.startsWith("search") || command.startsWith("compare");
        if (finds && !a.values.empty()) {
            filling_ = true;
            clear();
            for (const auto& v : a.values) {
                auto* item = new QTreeWidgetItem(tree_, {words(v.name), words(v.text)});
                item->setFont(0, fixed_font());
                item->setData(0, kPlaceRole, words(v.name));
            }
            filling_ = false;
            tree_->resizeColumnToContents(0);
            return void(emit told(tr("%1. A double click goes there.").arg(words(plural(a.values.size(), "place", "places"))), false));
        }
        if (finds || command.startsWith("save")) return void(emit told(words(a.reason), false));
        if (!live_.state().hand.written.empty()) emit told(tr("Written: %1").arg(words(live_.state().hand.written.back())), false);
        if (last) emit changed();
    });
}

void MemoryView::open_menu(const QPoint& at) {
    const QTreeWidgetItem* item = tree_->itemAt(at);
    const QString from = item != nullptr ? item->text(0) : address_->text().trimmed();
    QMenu menu(this);
    menu.setObjectName("memory_menu");
    const auto line = [this](const QString& title, const QString& what, const QString& usual) {
        bool good = false;
        const QString text = QInputDialog::getText(this, title, what, QLineEdit::Normal, usual, &good);
        return good ? text.trimmed() : QString();
    };
    const bool somewhere = !from.isEmpty() && !of_.core().isEmpty();
    menu.addAction(tr("Fill from %1…").arg(from), this, [=, this] {
        if (!writes()) return;
        if (const QString text = line(tr("Fill memory"), tr("Length and byte:"), "16 0xff"); !text.isEmpty()) ask("fill " + from + " " + text);
    })->setEnabled(somewhere);
    menu.addAction(tr("Search from %1…").arg(from), this, [=, this] {
        if (const QString text = line(tr("Search memory"), tr("Length, and a word or a text:"), "0x10000 0x"); !text.isEmpty()) ask("search " + from + " " + text);
    })->setEnabled(somewhere);
    menu.addAction(tr("Compare with the image from %1…").arg(from), this, [=, this] {
        if (const QString text = line(tr("Compare with the image"), tr("Length:"), "0x1000"); !text.isEmpty()) ask("compare " + from + " " + text);
    })->setEnabled(somewhere);
    menu.addAction(tr("Compare all of the image"), this, [this] { ask("compare"); })->setEnabled(!of_.core().isEmpty());
    menu.addSeparator();
    menu.addAction(tr("Save from %1…").arg(from), this, [=, this] {
        const QString length = line(tr("Save memory"), tr("Length:"), "0x1000");
        if (length.isEmpty()) return;
        const QString path = QFileDialog::getSaveFileName(this, tr("Save memory as"), "memory.bin");
        if (!path.isEmpty()) ask("save " + from + " " + length + " file", path);
    })->setEnabled(somewhere);
    menu.addAction(tr("Load a file to %1…").arg(from), this, [=, this] {
        if (!writes()) return;
        const QString path = QFileDialog::getOpenFileName(this, tr("Load into memory"));
        if (!path.isEmpty()) ask("load " + from + " file", path);
    })->setEnabled(somewhere);
    menu.exec(tree_->viewport()->mapToGlobal(at));
}

}  // namespace mt::app
