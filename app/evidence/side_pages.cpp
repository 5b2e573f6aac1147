#include "evidence/side_pages.h"

#include <QLayout>

#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "look/filter_field.h"
#include "look/page_parts.h"
#include "look/table_text.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {

constexpr int kStreamRole = kCellSortRole + 1, kSlotRole = kCellSortRole + 2;

QStandardItem* cell_item(const Cell& cell) {
    const auto number = cell_number(cell);
    return number_cell(words(cell_text(cell)), number ? QVariant(*number) : QVariant(-HUGE_VAL), words(cell_plain(cell)));
}

QString lines_text(const std::vector<std::uint32_t>& lines) {
    QStringList all;
    for (std::size_t i = 0; i < lines.size();) {
        std::size_t k = i;
        while (k + 1 < lines.size() && lines[k + 1] == lines[k] + 1) ++k;
        all << (k > i ? QString("%1–%2").arg(lines[i]).arg(lines[k]) : QString::number(lines[i]));
        i = k + 1;
    }
    return all.join(", ");
}

}  // namespace

FiguresBothPage::FiguresBothPage(Document& document, QWidget* parent)
    : QWidget(parent), document_(document), model_(new QStandardItemModel(this)) {
    kind_ = new QComboBox;
    kind_->setObjectName("both_kind");
    kind_->setAccessibleName(tr("Of what"));
    figure_ = new QComboBox;
    figure_->setObjectName("both_figure");
    figure_->setAccessibleName(tr("Which figure"));
    sorted_ = filtered(model_, this);
    sorted_->setSortRole(kCellSortRole);
    table_ = figures_view("both_figures", tr("Figures of both recordings"), *sorted_);
    auto* rest = new QWidget;
    lay_page(*this, {kind_, figure_, rest}, rest, table_);
    layout()->setContentsMargins(0, 0, 0, 0);
    connect(kind_, &QComboBox::currentIndexChanged, this, &FiguresBothPage::renew_figures);
    connect(figure_, &QComboBox::currentIndexChanged, this, &FiguresBothPage::fill);
    connect(&document, &Document::measured, this, &FiguresBothPage::fill);
}

void FiguresBothPage::show_other(std::shared_ptr<const OtherRecording> other) {
    other_ = std::move(other);
    renew_kinds();
}

const LaneKind* FiguresBothPage::kind() const { return LaneKinds::find(kind_->currentData().toString().toStdString()); }

void FiguresBothPage::choose(std::string_view kind, std::string_view figure) {
    kind_->setCurrentIndex(kind_->findData(words(std::string(kind))));
    figure_->setCurrentIndex(figure_->findData(words(std::string(figure))));
}

void FiguresBothPage::renew_kinds() {
    const QString before = kind_->currentData().toString();
    {
        const QSignalBlocker quiet(kind_);
        kind_->clear();
        for (const LaneKind* k : LaneKinds::all()) {
            const bool there = other_ && std::any_of(other_->figures.begin(), other_->figures.end(), [k](const auto& f) { return f.first == k; });
            if (there || (other_ && !document_.figures(*k).empty()))
                kind_->addItem(words(k->many()), words(std::string(k->id())));
        }
        if (const int at = kind_->findData(before.isEmpty() ? QStringLiteral("tasks") : before); at >= 0) kind_->setCurrentIndex(at);
    }
    renew_figures();
}

void FiguresBothPage::renew_figures() {
    const QString before = figure_->currentData().toString();
    {
        const QSignalBlocker quiet(figure_);
        figure_->clear();
        if (const LaneKind* k = kind(); k != nullptr)
            for (const FigureInfo& f : k->figures())
                if (f.key != "name" && f.key != "number" && f.key != "full_name")
                    figure_->addItem(words(std::string(f.heading.empty() ? f.meaning : f.heading)), words(std::string(f.key)));
        for (const QString& wanted : {before, QStringLiteral("max"), QStringLiteral("count")})
            if (const int at = figure_->findData(wanted); at >= 0) {
                figure_->setCurrentIndex(at);
                break;
            }
    }
    fill();
}

void FiguresBothPage::fill() {
    model_->clear();
    const LaneKind* k = kind();
    if (k == nullptr || !other_) return;
    model_->setHorizontalHeaderLabels({words(std::string(k->one())).section(' ', 1), tr("before   "), tr("after   "), tr("difference   ")});
    const auto found = std::find_if(other_->figures.begin(), other_->figures.end(), [k](const auto& f) { return f.first == k; });
    static const std::vector<MeasuredRow> nothing;
    for (const FigureBoth& f : figures_both(*k, figure_->currentData().toString().toStdString(),
                                            found == other_->figures.end() ? nothing : found->second, document_.figures(*k))) {
        const auto was = cell_number(f.before), is = cell_number(f.after);
        QString text;
        double share = 0;
        if (was && is) {
            share = *was != 0 ? (*is - *was) / std::fabs(*was) : *is == 0 ? 0 : HUGE_VAL;
            text = *was == *is ? QStringLiteral("=") : std::isfinite(share) ? QString("%1%2 %").arg(share > 0 ? "+" : "−").arg(std::fabs(100 * share), 0, 'g', 3) : tr("new");
        }
        auto* difference = number_cell(text, share, was && is && std::isfinite(share) ? QString::number(100 * share, 'g', 6) : QString());
        model_->appendRow({text_cell(words(f.activity), true), cell_item(f.before), cell_item(f.after), difference});
    }
    table_->resizeColumnsToContents();
    restore_columns(*table_, "both_figures");
}

SidePage::SidePage(Document& document, QWidget* parent)
    : QWidget(parent), document_(document), model_(new QStandardItemModel(this)) {
    what_ = new QComboBox;
    what_->setObjectName("side_what");
    what_->setAccessibleName(tr("Rows"));
    what_->addItems({tr("What happened"), tr("Calls")});
    hint_ = hint_label("side_hint");
    table_ = figures_view("side", tr("Both recordings side by side"), *model_, false);
    lay_page(*this, {what_, hint_}, hint_, table_);
    layout()->setContentsMargins(0, 0, 0, 0);
    soon_.setSingleShot(true);
    soon_.setInterval(150);
    connect(&soon_, &QTimer::timeout, this, &SidePage::compute);
    connect(what_, &QComboBox::currentIndexChanged, this, &SidePage::ask);
    connect(table_, &QTableView::doubleClicked, this, [this](const QModelIndex& index) {
        const SideRow& row = rows_[static_cast<std::size_t>(index.row())];
        if (row.after) emit moment_chosen(stretch_.after_from + row.after->time);
    });
}

void SidePage::show_other(std::shared_ptr<const OtherRecording> other) {
    other_ = std::move(other);
    rows_.clear();
    model_->clear();
    ask();
}

void SidePage::look_at(const SideStretch& stretch, std::size_t core) {
    if (stretch == stretch_ && core == core_) return;
    stretch_ = stretch;
    core_ = core;
    ask();
}

void SidePage::ask() {
    if (isVisible()) soon_.start();
}

void SidePage::compute() {
    const auto trail = document_.trail();
    if (!other_ || !trail) {
        hint_->setText(tr("Compare with another recording first."));
        return;
    }
    const quint64 turn = ++turn_;
    jobs_.clear();
    jobs_.add([this, turn, trail, other = other_, s = stretch_, core = core_, calls = what_->currentIndex() == 1] {
        std::size_t there = 0;  // the core of the same name
        for (std::size_t c = 0; c < other->trail->cores.size() && core < trail->cores.size(); ++c)
            if (other->trail->cores[c].name == trail->cores[core].name) there = c;
        auto rows = calls ? side_by_side(side_calls(*other->trail, there, s.before_from, s.before_to),
                                         side_calls(*trail, core, s.after_from, s.after_to))
                          : side_by_side(side_events(*other->trail, s.before_from, s.before_to),
                                         side_events(*trail, s.after_from, s.after_to));
        QMetaObject::invokeMethod(
            this,
            [this, turn, rows = std::move(rows)] {
                if (turn == turn_) fill(rows);
            },
            Qt::QueuedConnection);
    });
}

void SidePage::fill(const std::vector<SideRow>& rows) {
    rows_ = rows;
    model_->clear();
    model_->setHorizontalHeaderLabels({tr("after its begin"), tr("before"), tr("after"), tr("after its begin ")});
    std::size_t differ = 0;
    std::optional<std::size_t> first;
    for (std::size_t i = 0; i < rows.size(); ++i) {
        const SideRow& row = rows[i];
        const auto time = [](const std::optional<SideEvent>& e) {
            return e ? number_cell(words(duration_text(e->time)), double(e->time.ps), words(ns_text(e->time))) : number_cell({}, 0.0, {});
        };
        const auto text = [](const std::optional<SideEvent>& e) {
            return e ? QString(static_cast<qsizetype>(2 * e->depth), QChar(' ')) + words(e->text) : QString();
        };
        QList<QStandardItem*> items{time(row.before), text_cell(text(row.before)), text_cell(text(row.after)), time(row.after)};
        if (!row.both()) {
            ++differ;
            if (!first) first = i;
            QColor tint = row.after ? theme().interrupt : theme().measure;
            tint.setAlpha(46);
            for (QStandardItem* item : items) item->setBackground(tint);
        }
        model_->appendRow(items);
    }
    table_->resizeColumnsToContents();
    for (const int c : {1, 2}) table_->setColumnWidth(c, std::clamp(table_->columnWidth(c), 200, 420));
    restore_columns(*table_, "side");
    const QString where = stretch_.of_spans ? tr("within what is selected in each") : tr("within what is visible");
    if (rows.empty())
        hint_->setText(what_->currentIndex() == 1 ? tr("No calls %1; select a call in each, or show less.").arg(where) : tr("Nothing happened %1.").arg(where));
    else
        hint_->setText(tr("%1: %2 rows, %3 in only one of both%4")
                           .arg(where, words(count_text(rows.size())), words(count_text(differ)),
                                std::max(rows_.size(), differ) >= kMostSideEvents ? tr(" · the first %1").arg(words(count_text(kMostSideEvents))) : QString()));
    if (first) {
        table_->scrollTo(model_->index(static_cast<int>(*first), 1), QAbstractItemView::PositionAtCenter);
        table_->selectRow(static_cast<int>(*first));
    }
    emit filled();
}

CodeBothPage::CodeBothPage(Document& document, QWidget* parent)
    : QWidget(parent), document_(document), model_(new QStandardItemModel(this)) {
    hint_ = hint_label("code_hint");
    sorted_ = filtered(model_, this);
    sorted_->setSortRole(kCellSortRole);
    table_ = figures_view("both_code", tr("Code that only one recording ran"), *sorted_);
    lay_page(*this, {hint_}, hint_, table_);
    layout()->setContentsMargins(0, 0, 0, 0);
    connect(table_, &QTableView::doubleClicked, this, [this](const QModelIndex& index) {
        const QModelIndex first = sorted_->index(index.row(), 0);
        emit place_chosen(first.data(kStreamRole).toULongLong(), first.data(kSlotRole).toUInt());
    });
}

void CodeBothPage::show_other(std::shared_ptr<const OtherRecording> other) {
    model_->clear();
    model_->setHorizontalHeaderLabels({tr("function"), tr("source"), tr("gained   "), tr("lost   "), tr("lines"), tr("branches that went another way")});
    const auto trail = document_.trail();
    std::uint64_t gained = 0, lost = 0;
    QStringList apart;
    for (std::size_t k = 0; other && trail && k < other->code.size(); ++k) {
        const CodeBoth& of = other->code[k];
        const CoverDifference& d = of.difference;
        gained += d.gained;
        lost += d.lost;
        for (const auto* list : {&d.changed, &d.gone})
            for (const std::string& name : *list) apart << words(name);
        for (const CoverDifference::Of& f : d.functions) {
            QStringList ways;
            for (const auto& w : f.ways)
                ways << tr("%1: %2 only %3").arg(words(hex_text(of.code->address(w.slot), 8)), w.taken ? tr("taken") : tr("not taken"), w.gained ? tr("after") : tr("before"));
            QStringList lines;
            if (!f.gained_lines.empty()) lines << "+ " + lines_text(f.gained_lines);
            if (!f.lost_lines.empty()) lines << "− " + lines_text(f.lost_lines);
            auto* name = text_cell(words(f.name) + (f.fresh ? tr(" (only after)") : f.vanished ? tr(" (only before)") : QString()), true);
            name->setData(qulonglong(of.stream), kStreamRole);
            name->setData(f.first, kSlotRole);
            const auto count = [](std::uint64_t n) { return number_cell(n == 0 ? QStringLiteral("–") : words(count_text(n)), double(n), QString::number(n)); };
            model_->appendRow({name, text_cell(f.file.empty() ? QString() : words(f.file + ":" + std::to_string(f.line))), count(f.gained), count(f.lost),
                               text_cell(lines.join("  ")), text_cell(ways.join("; "))});
        }
    }
    table_->resizeColumnsToContents();
    for (const int c : {4, 5}) table_->setColumnWidth(c, std::clamp(table_->columnWidth(c), 160, 420));
    restore_columns(*table_, "both_code");
    if (!other)
        hint_->setText(tr("Compare with another recording first."));
    else if (other->code.empty())
        hint_->setText(tr("Only recordings with instruction trace of the same core tell which code ran."));
    else
        hint_->setText(tr("%1 instructions ran only after, %2 only before%3")
                           .arg(words(count_text(gained)), words(count_text(lost)),
                                apart.isEmpty() ? QString() : tr(" · changed or gone, and so not comparable: %1").arg(apart.join(", "))));
}

}  // namespace mt::app
