#include "evidence/coverage_page.h"

#include <QDialog>
#include <QDialogButtonBox>
#include <QFileDialog>
#include <QFileInfo>
#include <QHeaderView>
#include <QPainter>
#include <QScrollBar>
#include <QSplitter>
#include <QVBoxLayout>
#include <QStyledItemDelegate>

#include <algorithm>
#include <map>

#include "base/text.h"
#include "look/filter_field.h"
#include "look/form_rows.h"
#include "look/page_parts.h"
#include "look/shapes.h"
#include "look/table_text.h"
#include "look/theme.h"
#include "look/words.h"
#include "share/cover_tables.h"

namespace mt::app {
namespace {

// "47 of 62", and how much that is.
struct Part {
    std::uint64_t part = 0, whole = 0;
    double share() const { return whole == 0 ? -1 : static_cast<double>(part) / static_cast<double>(whole); }
    QString text() const {
        return whole == 0 ? QStringLiteral("–")
                          : CoveragePage::tr("%1 of %2").arg(words(count_text(part)), words(count_text(whole)));
    }
};
Part part_of(const CoverageModel::Row& row, int column) {
    switch (column) {
        case CoverageModel::lines:
            return {row.sums.lines_run, row.sums.lines};
        case CoverageModel::instructions:
            return {row.sums.instructions_run, row.sums.instructions};
        case CoverageModel::branches:
            return {row.sums.branches_both, row.sums.branches};
        default:
            return {};
    }
}

// A bar of what ran below the figure.
class ShareBars : public QStyledItemDelegate {
  public:
    using QStyledItemDelegate::QStyledItemDelegate;
    void paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        const QVariant share = index.data(CoverageModel::kShareRole);
        if (share.isValid() && share.toDouble() >= 0) draw_share(*p, option.rect, share.toDouble());
        QStyledItemDelegate::paint(p, option, index);
    }
};

}  // namespace

int CoverageModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(rows_.size());
}
int CoverageModel::columnCount(const QModelIndex& parent) const { return parent.isValid() ? 0 : kColumns; }

QVariant CoverageModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) return {};
    const Row& r = rows_[static_cast<std::size_t>(index.row())];
    const int c = index.column();
    const Part part = part_of(r, c);
    const bool text = c == name || c == file || c == reason, number = c == calls || c == here || c == there;
    const std::uint64_t value = c == calls ? r.calls : c == here ? r.here : r.there;
    if (role == Qt::DisplayRole) {
        if (c == name) return r.name;
        if (c == file) return r.file;
        if (c == reason) return r.reason;
        if (number) return c != calls && value == 0 ? QStringLiteral("–") : words(count_text(value));
        return part.text();
    }
    if (role == kSortRole) return text ? data(index, Qt::DisplayRole) : number ? QVariant(double(value)) : QVariant(part.share());
    if (role == kShareRole) return text || number ? QVariant() : QVariant(part.share());
    if (role == kPlainRole) {
        if (text) return {};
        if (number) return QString::number(value);
        return part.whole == 0 ? QString() : QString::number(100 * part.share(), 'f', 2);
    }
    if (role == Qt::ToolTipRole && c == branches && part.whole > 0)
        return tr("%1 taken at least once, %2 not taken at least once, %3 both")
            .arg(words(count_text(r.sums.branches_taken)), words(count_text(r.sums.branches_not_taken)),
                 words(count_text(r.sums.branches_both)));
    if (role == Qt::TextAlignmentRole) return QVariant(Qt::AlignVCenter | (text ? Qt::AlignLeft : Qt::AlignRight));
    if (role == Qt::ForegroundRole && r.sums.instructions_run == 0 && r.sums.lines_run == 0 && c == name)
        return r.reason.isEmpty() ? theme().finding : theme().second;
    if (role == Qt::ForegroundRole && c == there && r.there > 0) return theme().finding;
    if (role == Qt::FontRole) return c == name ? text_font(12, true) : text ? text_font(11) : fixed_font(11);
    return {};
}

QVariant CoverageModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal) return {};
    static constexpr std::array<TableHead, kColumns> heads = {{
        {QT_TR_NOOP("name"), QT_TR_NOOP("function, source file or folder; red: nothing of it ran"), true},
        {QT_TR_NOOP("source"), QT_TR_NOOP("where it stands"), true},
        {QT_TR_NOOP("lines run   "), QT_TR_NOOP("source lines with code of which a statement was begun"), false, "%"},
        {QT_TR_NOOP("instructions run   "), QT_TR_NOOP("executed at least once"), false, "%"},
        {QT_TR_NOOP("branches both ways   "), QT_TR_NOOP("conditional branches of the object code that were taken, and not taken"), false, "%"},
        {QT_TR_NOOP("calls   "), QT_TR_NOOP("executions of its first instruction")},
        {QT_TR_NOOP("only here   "), QT_TR_NOOP("instructions that this recording ran and the other one did not")},
        {QT_TR_NOOP("only there   "), QT_TR_NOOP("instructions that the other recording ran and this one did not")},
        {QT_TR_NOOP("need not run"), QT_TR_NOOP("why, as it is kept in the store"), true},
    }};
    return table_head(*this, heads[static_cast<std::size_t>(section)], orientation, role);
}

void CoverageModel::set(std::vector<Row> rows) {
    beginResetModel();
    rows_ = std::move(rows);
    endResetModel();
}

CoveragePage::CoveragePage(Document& document, CoverBook& book, Viewpoint& view, QWidget* parent)
    : QWidget(parent), document_(document), book_(book), model_(new CoverageModel(this)) {
    setAccessibleName(tr("Coverage"));
    hint_ = hint_label("coverage_hint");
    by_ = new QComboBox;
    by_->setObjectName("coverage_by");
    by_->setAccessibleName(tr("Rows"));
    by_->addItems({tr("Functions"), tr("Files"), tr("Folders")});
    never_ = tool_button("coverage_never", tr("Never run"), tr("Only what never ran"));
    over_time_ = tool_button("coverage_over_time", tr("Over time"), tr("When code ran that had not run before: decodes all once more"));
    for (QToolButton* b : {never_, over_time_}) b->setCheckable(true);
    with_ = tool_button("coverage_with", tr("Together with"), tr("Other recordings beside this one"));
    with_->setPopupMode(QToolButton::InstantPopup);
    auto* menu = new QMenu(with_);
    menu->setObjectName("coverage_menu");
    connect(menu, &QMenu::aboutToShow, this, [this, menu] {
        menu->clear();
        fill_menu(*menu);
    });
    with_->setMenu(menu);
    filter_ = filter_field("coverage_filter", tr("Filter by name"), tr("Filter coverage by name"));
    filter_->setMinimumWidth(124);
    sorted_ = filtered(model_, this);
    sorted_->setSortRole(CoverageModel::kSortRole);
    table_ = figures_view("coverage", tr("Coverage"), *sorted_);
    table_->setItemDelegate(new ShareBars(table_));
    table_->sortByColumn(CoverageModel::instructions, Qt::AscendingOrder);
    growth_ = new GrowthPlot(view);
    growth_->hide();
    auto* across = new QSplitter(Qt::Horizontal);
    across->addWidget(table_);
    across->addWidget(growth_);
    across->setStretchFactor(0, 1);
    across->setStretchFactor(1, 0);
    across->setHandleWidth(1);
    setFocusProxy(table_);
    lay_page(*this, {by_, never_, over_time_, with_, hint_, filter_}, hint_, across);
    connect(filter_, &QLineEdit::textChanged, sorted_, &QSortFilterProxyModel::setFilterFixedString);
    connect(by_, &QComboBox::currentIndexChanged, this, &CoveragePage::fill);
    connect(never_, &QToolButton::toggled, this, &CoveragePage::fill);
    connect(over_time_, &QToolButton::toggled, this, [this](bool on) {
        growth_->setVisible(on);
        fill_growth();
        book_.set_growth_wanted(on);
    });
    connect(&book, &CoverBook::changed, this, &CoveragePage::fill);
    connect(growth_, &GrowthPlot::moment_chosen, this, &CoveragePage::moment_chosen);
    const auto choose = [this](const QModelIndex& index) {
        const auto& row = model_->rows()[static_cast<std::size_t>(sorted_->mapToSource(index).row())];
        if (row.slot != Code::kNowhere) emit place_chosen(row.stream, row.slot);
    };
    connect(table_, &QTableView::doubleClicked, this, choose);
    connect(table_, &QTableView::activated, this, choose);
    fill();
}

void CoveragePage::fill_menu(QMenu& menu) {
    const bool whole = document_.trail() && document_.trail()->complete;
    menu.addAction(tr("A store of recordings…"), this, [this] { ask_store(false); })->setEnabled(whole);
    menu.addAction(tr("A new store…"), this, [this] { ask_store(true); })->setEnabled(whole);
    menu.addAction(tr("Another recording: what only this one ran…"), this, &CoveragePage::ask_other)->setEnabled(whole);
    menu.addSeparator();
    auto* add = menu.addAction(tr("Add this recording to the store"), &book_, &CoverBook::add_to_store);
    add->setEnabled(whole && !book_.store().isEmpty());
    const QString place = table_->currentIndex().isValid() ? place_of(table_->currentIndex()) : QString();
    auto* reason = menu.addAction(place.isEmpty() ? tr("Say why something need not run…") : tr("Say why %1 need not run…").arg(place),
                                  this, [this, place] { ask_reason(place); });
    reason->setEnabled(!place.isEmpty() && !book_.store().isEmpty());
    if (const auto book = book_.book(); book && !book->contributions.empty()) {
        constexpr std::size_t kMost = 30;
        QMenu* from = menu.addMenu(tr("Recordings in the store"));
        for (std::size_t i = 0; i < std::min(kMost, book->contributions.size()); ++i) {
            const auto& c = book->contributions[i];
            from->addAction(tr("%1, %2: %3 executed, %4 of the program for the first time").arg(QFileInfo(words(c.input)).fileName(), words(c.made),
                                                                       words(plural(c.instructions, "instruction", "instructions")), words(count_text(c.fresh))))
                ->setEnabled(false);
        }
        if (book->contributions.size() > kMost) from->addAction(tr("and %1 more").arg(book->contributions.size() - kMost))->setEnabled(false);
    }
    menu.addSeparator();
    auto* alone = menu.addAction(tr("Nothing: this recording alone"), this, [this] {
        book_.use_store({});
        book_.use_other({});
    });
    alone->setEnabled(!book_.store().isEmpty() || !book_.other().isEmpty());
}

void CoveragePage::ask_store(bool fresh) {
    const QString kinds = tr("Coverage stores (*.mtcover);;All files (*)");
    QString path = fresh ? QFileDialog::getSaveFileName(this, tr("New store"), book_.store(), kinds, nullptr, QFileDialog::DontConfirmOverwrite)
                         : QFileDialog::getOpenFileName(this, tr("Store"), book_.store(), kinds);
    if (path.isEmpty()) return;
    if (fresh && QFileInfo(path).suffix().isEmpty()) path += ".mtcover";
    book_.use_store(path);
}

void CoveragePage::ask_other() {
    const QString path = QFileDialog::getOpenFileName(this, tr("Another recording of the same program"), book_.other());
    if (!path.isEmpty()) book_.use_other(path);
}

// As the store names it: functions by their name.
QString CoveragePage::place_of(const QModelIndex& index) const {
    return by_->currentIndex() == functions ? sorted_->index(index.row(), CoverageModel::name).data().toString() : QString();
}

void CoveragePage::ask_reason(const QString& place) {
    if (book_.store().isEmpty())
        return emit told(tr("Reasons are kept in a store: choose one on the page Coverage, under Together with."), true);
    QDialog dialog(this);
    dialog.setObjectName("reason_dialog");
    dialog.setWindowTitle(tr("Need not run"));
    dialog.setMinimumWidth(420);
    auto *reason = new QLineEdit, *note = new QLineEdit;
    reason->setObjectName("reason_text");
    note->setObjectName("reason_note");
    note->setPlaceholderText(tr("who says so, say"));
    if (const auto book = book_.book())
        for (const auto& r : book->reasons)
            if (words(r.place) == place) {
                reason->setText(words(r.reason));
                note->setText(words(r.note));
            }
    FormRows rows(6);
    rows.whole(new QLabel(tr("Why need %1 not run? Empty: it must again.").arg(place)));
    rows.add(tr("reason"), {reason});
    rows.add(tr("note"), {note});
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel);
    auto* column = new QVBoxLayout(&dialog);
    column->addLayout(rows.grid());
    column->addWidget(buttons);
    connect(buttons, &QDialogButtonBox::accepted, &dialog, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, &dialog, &QDialog::reject);
    if (dialog.exec() == QDialog::Accepted) book_.justify(place, reason->text().trimmed(), note->text().trimmed());
}

void CoveragePage::add_functions(const CoverBook::Of& of, const QString& core, std::vector<CoverageModel::Row>& rows) const {
    const Coverage& c = of.coverage;
    std::map<std::uint32_t, const CoverDifference::Of*> differs;
    if (of.difference)
        for (const auto& d : of.difference->functions) differs[d.function] = &d;
    for (const CoverFunction& f : c.functions) {
        if (never_->isChecked() && f.sums.instructions_run > 0) continue;
        CoverageModel::Row row{words(f.name),
                               core + (f.file.empty() ? QString() : words(f.file + ":" + std::to_string(f.line))),
                               f.sums, f.calls, 0, 0, {}, of.stream, (*c.table)[f.function].entry};
        if (const auto d = differs.find(f.function); d != differs.end()) {
            row.here = d->second->gained;
            row.there = d->second->lost;
            row.slot = d->second->first;
        }
        for (const auto& r : book_.book()->reasons)
            if (r.place == f.name) row.reason = words(r.reason);
        rows.push_back(std::move(row));
    }
}

void CoveragePage::add_files(const CoverBook::Of& of, const QString& core, std::vector<CoverageModel::Row>& rows) const {
    const Coverage& c = of.coverage;
    const bool by_folder = by_->currentIndex() == folders;
    std::map<std::string, std::pair<std::uint64_t, std::uint64_t>> differs;
    if (of.difference)
        for (const auto& d : of.difference->functions) {
            differs[d.file].first += d.gained;
            differs[d.file].second += d.lost;
        }
    std::map<std::string, CoverageModel::Row> of_folder;
    std::map<std::string, std::pair<std::uint64_t, std::uint64_t>> within;  // files and functions
    for (const CoverFile& f : c.files) {
        const auto begins = c.map->line_begins(f.index);
        std::uint64_t calls = 0;
        for (const std::uint32_t k : f.functions) calls += c.functions[k].calls;
        const auto [here, there] = differs[f.name];
        const std::uint32_t slot = begins.empty() ? Code::kNowhere : begins.front().slot;
        if (!by_folder) {
            if (never_->isChecked() && f.sums.lines_run > 0) continue;
            rows.push_back({words(f.name), core + words(plural(f.functions.size(), "function", "functions")), f.sums, calls,
                            here, there, {}, of.stream, slot});
            continue;
        }
        const std::string folder = cover_folder_of(f.name);
        CoverageModel::Row& row = of_folder.try_emplace(folder, CoverageModel::Row{words(folder), {}, {}, 0, 0, 0, {}, of.stream, slot}).first->second;
        row.sums.add(f.sums);
        row.calls += calls;
        row.here += here;
        row.there += there;
        ++within[folder].first;
        within[folder].second += f.functions.size();
    }
    for (auto& [folder, row] : of_folder) {
        if (never_->isChecked() && row.sums.lines_run > 0) continue;
        row.file = core + words(plural(within[folder].first, "file", "files") + ", " + plural(within[folder].second, "function", "functions"));
        rows.push_back(std::move(row));
    }
}

void CoveragePage::fill() {
    std::vector<CoverageModel::Row> rows;
    const auto book = book_.book();
    bool compared = false;
    for (std::size_t i = 0; book && i < book->of.size(); ++i) {
        const CoverBook::Of& of = book->of[i];
        const QString core = book->of.size() > 1 ? words(of.core) + ": " : QString();
        compared = compared || of.difference;
        by_->currentIndex() == functions ? add_functions(of, core, rows) : add_files(of, core, rows);
    }
    const QString chosen = table_->currentIndex().isValid() ? sorted_->index(table_->currentIndex().row(), CoverageModel::name).data().toString() : QString();
    const int at = table_->verticalScrollBar()->value();
    const bool first = model_->rowCount() == 0;
    model_->set(std::move(rows));
    if (first) {
        table_->resizeColumnsToContents();
        table_->setColumnWidth(CoverageModel::name, std::clamp(table_->columnWidth(CoverageModel::name), 160, 360));
        for (int c = CoverageModel::lines; c <= CoverageModel::branches; ++c)
            table_->setColumnWidth(c, std::max(table_->columnWidth(c), 150));
        table_->horizontalHeader()->setSectionResizeMode(CoverageModel::file, QHeaderView::Stretch);
    }
    restore_columns(*table_, "coverage");
    table_->setColumnHidden(CoverageModel::here, !compared);
    table_->setColumnHidden(CoverageModel::there, !compared);
    table_->setColumnHidden(CoverageModel::reason, !book || book->reasons.empty());
    // While it grows, what a person looks at stays where it is.
    for (int row = 0; row < sorted_->rowCount() && !chosen.isEmpty(); ++row)
        if (sorted_->index(row, CoverageModel::name).data().toString() == chosen) {
            table_->selectRow(row);
            break;
        }
    table_->verticalScrollBar()->setValue(at);
    fill_growth();
    renew_hint();
}

// Of several cores the first that has instructions; its share is of all that the program has.
void CoveragePage::fill_growth() {
    if (!over_time_->isChecked()) return;
    std::vector<std::pair<Time, double>> points;
    const auto book = book_.book();
    for (std::size_t i = 0; book && i < book->of.size() && points.empty(); ++i) {
        const CoverBook::Of& of = book->of[i];
        if (!of.growth || of.coverage.sums.instructions == 0) continue;
        for (const auto& p : of.growth->points)
            points.emplace_back(p.time, std::min(1.0, static_cast<double>(p.run) / static_cast<double>(of.coverage.sums.instructions)));
    }
    growth_->show(std::move(points), book_.busy() ? tr("decoding once more …") : tr("nothing ran"));
}

void CoveragePage::renew_hint() {
    const auto share = [](std::uint64_t part, std::uint64_t whole) {
        return whole == 0 ? QStringLiteral("–")
                          : QString::number(std::min(part < whole ? 99.9 : 100.0, 100.0 * static_cast<double>(part) / static_cast<double>(whole)), 'f', 1) + " %";
    };
    const auto book = book_.book();
    QString text;
    if (!has_something()) {
        text = tr("Coverage needs instruction trace (ETM, E-Trace, N-Trace or a micro trace buffer).");
    } else if (!book_.trouble().isEmpty()) {
        text = book_.trouble();
    } else if (!book) {
        text = document_.live() ? tr("Coverage comes with the first instructions.") : tr("Coverage comes when decoding has ended.");
    } else {
        CoverSums sums;
        std::uint64_t here = 0, there = 0;
        for (const CoverBook::Of& of : book->of) {
            sums.add(of.coverage.sums);
            if (of.difference) here += of.difference->gained, there += of.difference->lost;
        }
        text = tr("%1 of the lines, %2 of the instructions, %3 of the branches both ways")
                   .arg(share(sums.lines_run, sums.lines), share(sums.instructions_run, sums.instructions),
                        share(sums.branches_both, sums.branches));
        if (document_.live()) text += tr(" · so far");
        if (!book_.store().isEmpty())
            text += tr(" · with %1 of %2").arg(words(plural(book->contributions.size(), "recording", "recordings")), QFileInfo(book_.store()).fileName());
        if (!book_.other().isEmpty())
            text += tr(" · against %1: %2 instructions only here, %3 only there")
                        .arg(QFileInfo(book_.other()).fileName(), words(count_text(here)), words(count_text(there)));
        if (!book->justified_but_run.empty()) text += " · " + words(book->justified_but_run.front());
        if (!book->lost.empty())
            text += tr(" · %1 changed since, or gone: what others ran of them does not count").arg(words(plural(book->lost.size(), "function is", "functions are")));
        if (book->gaps) text += tr(" · trace is missing in places: what ran there is not counted");
        if (book_.busy()) text += tr(" · looking …");
    }
    hint_->setText(text);
}

}  // namespace mt::app
