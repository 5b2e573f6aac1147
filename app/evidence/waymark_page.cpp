#include "evidence/waymark_page.h"

#include <QDialog>
#include <QDialogButtonBox>
#include <QFormLayout>
#include <QKeyEvent>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>

#include <algorithm>

#include "base/text.h"
#include "look/words.h"
#include "measure/kinds/kinds.h"

namespace mt::app {

WaymarkPage::WaymarkPage(Document& document, Viewpoint& view, QWidget* parent) : ListedTable(document, view, parent) {
    setAccessibleName(tr("Waymarks"));
    set_columns({tr("time"), tr("name"), tr("length"), tr("since the one before"), tr("note")}, {160, 220, 110, 150, 500});
    connect(&document, &Document::opened, this, [this] { before_.clear(); });
}

const std::vector<Waymark>& WaymarkPage::all() const {
    static const std::vector<Waymark> none;
    const auto trail = document_.trail();
    return trail ? trail->waymarks : none;  // the document holds the trail
}

std::uint64_t WaymarkPage::row_count() const { return all().size(); }

std::optional<Time> WaymarkPage::time_of(std::uint64_t row) {
    return row < row_count() ? std::optional(all()[static_cast<std::size_t>(row)].at) : std::nullopt;
}

QStringList WaymarkPage::row_text(std::uint64_t row) const {
    if (row >= row_count()) return {};
    const auto i = static_cast<std::size_t>(row);
    const Waymark& m = all()[i];
    return {words(moment_text(m.at)), words(m.name),
            m.is_stretch() ? words(duration_text(m.until - m.at)) : QString(),
            i > 0 ? words(duration_text(m.at - all()[i - 1].at)) : QString(), words(m.note)};
}

std::uint64_t WaymarkPage::row_at_time(Time t) const {
    std::size_t at = 0;
    while (at + 1 < all().size() && all()[at + 1].at <= t) ++at;
    return at;
}

QStringList WaymarkPage::row_values(std::uint64_t row) const {
    const Waymark& m = all()[static_cast<std::size_t>(row)];
    return {words(ns_text(m.at)), words(ns_text(m.until)), words(m.name), words(m.note)};
}

RowTable::Scan WaymarkPage::scan_for(const QString& text) {
    return [text, marks = all()](const std::function<bool(Rows)>& found) {
        Rows rows;
        for (std::size_t i = 0; i < marks.size(); ++i)
            if (words(marks[i].name + " " + marks[i].note).contains(text, Qt::CaseInsensitive)) rows.push_back(i);
        found(std::move(rows));
    };
}

// A name must be given: a place without one is a place nobody finds again.
bool WaymarkPage::ask(Waymark& mark, const QString& title) {
    QDialog dialog(window());
    dialog.setWindowTitle(title);
    auto* form = new QFormLayout(&dialog);
    auto* name = new QLineEdit(words(mark.name));
    auto* note = new QLineEdit(words(mark.note));
    name->setObjectName("waymark_name");
    note->setObjectName("waymark_note");
    name->setMinimumWidth(320);
    form->addRow(tr("Name"), name);
    form->addRow(tr("Note"), note);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel);
    form->addRow(buttons);
    const auto renew = [&] { buttons->button(QDialogButtonBox::Ok)->setEnabled(!name->text().trimmed().isEmpty()); };
    connect(name, &QLineEdit::textChanged, &dialog, renew);
    connect(buttons, &QDialogButtonBox::accepted, &dialog, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, &dialog, &QDialog::reject);
    renew();
    if (dialog.exec() != QDialog::Accepted) return false;
    mark.name = name->text().trimmed().toStdString();
    mark.note = note->text().trimmed().toStdString();
    return true;
}

void WaymarkPage::change(std::vector<Waymark> next) {
    std::vector<Waymark> now = all();
    if (auto kept = document_.set_waymarks(std::move(next)); !kept) {
        emit told(words(kept.error().text()), true);
        return;
    }
    before_.push_back(std::move(now));
    renew();
    viewport()->update();
}

void WaymarkPage::ask_plant() {
    if (!document_.trail() || document_.live()) {
        emit told(tr("While a recording is made, Record › Mark this moment… writes a note into it."), false);
        return;
    }
    Waymark mark;
    const bool stretch = view_.a() && view_.b() && *view_.a() != *view_.b();
    mark.at = stretch ? std::min(*view_.a(), *view_.b()) : view_.cursor();
    mark.until = stretch ? std::max(*view_.a(), *view_.b()) : mark.at;
    if (!ask(mark, stretch ? tr("Waymark from A to B") : tr("Waymark at %1").arg(words(moment_text(mark.at))))) return;
    std::vector<Waymark> next = all();
    next.push_back(mark);
    change(std::move(next));
    const auto at = std::find(all().begin(), all().end(), mark);
    if (at != all().end())
        view_.select(SpanRef{{&waymarks_kind(), 0}, 0, static_cast<std::uint64_t>(at - all().begin())});
}

void WaymarkPage::edit() {
    if (!current_ || *current_ >= row_count()) return;
    std::vector<Waymark> next = all();
    if (ask(next[static_cast<std::size_t>(*current_)], tr("Waymark"))) change(std::move(next));
}

void WaymarkPage::take_away() {
    if (!current_ || !anchor_ || row_count() == 0) return;
    std::vector<Waymark> next;
    for (std::size_t i = 0; i < all().size(); ++i)
        if (i < std::min(*current_, *anchor_) || i > std::max(*current_, *anchor_) || !is_shown(shown(), i))
            next.push_back(all()[i]);
    change(std::move(next));
    forget();
}

void WaymarkPage::undo() {
    if (before_.empty()) return;
    const std::vector<Waymark> back = before_.back();
    if (auto kept = document_.set_waymarks(back); !kept) {
        emit told(words(kept.error().text()), true);
        return;
    }
    before_.pop_back();
    renew();
    viewport()->update();
}

void WaymarkPage::keyPressEvent(QKeyEvent* e) {
    if (e->matches(QKeySequence::Undo)) return undo();
    if (e->key() == Qt::Key_Delete) return take_away();
    if (e->key() == Qt::Key_Return || e->key() == Qt::Key_Enter || e->key() == Qt::Key_F4) return edit();
    RowTable::keyPressEvent(e);
}

void WaymarkPage::add_to_menu(QMenu& menu) {
    if (!current_) return;
    menu.addAction(tr("Edit…"), this, &WaymarkPage::edit);
    menu.addAction(tr("Take away"), this, &WaymarkPage::take_away);
    menu.addAction(tr("Undo"), this, &WaymarkPage::undo)->setEnabled(!before_.empty());
    menu.addSeparator();
}

}  // namespace mt::app
