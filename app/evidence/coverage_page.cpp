#include "evidence/coverage_page.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QPainter>
#include <QStyledItemDelegate>
#include <QVBoxLayout>

#include <algorithm>

#include "base/text.h"
#include "look/elided_label.h"
#include "look/filter_field.h"
#include "look/table_text.h"
#include "look/theme.h"
#include "look/words.h"

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

// A bar of what ran behind the figure.
class ShareBars : public QStyledItemDelegate {
  public:
    using QStyledItemDelegate::QStyledItemDelegate;
    void paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        const QVariant share = index.data(CoverageModel::kShareRole);
        if (share.isValid() && share.toDouble() >= 0) {
            const QRectF r = QRectF(option.rect).adjusted(4, 3, -4, -3);
            QColor rest = theme().rule;
            p->fillRect(QRectF(r.left(), r.bottom() - 3, r.width(), 3), rest);
            p->fillRect(QRectF(r.left(), r.bottom() - 3, r.width() * share.toDouble(), 3), theme().measure);
        }
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
    const bool text = c == name || c == file;
    if (role == Qt::DisplayRole) {
        if (c == name) return r.name;
        if (c == file) return r.file;
        if (c == calls) return words(count_text(r.calls));
        return part.text();
    }
    if (role == kSortRole) return text ? data(index, Qt::DisplayRole) : c == calls ? QVariant(double(r.calls)) : QVariant(part.share());
    if (role == kShareRole) return text || c == calls ? QVariant() : QVariant(part.share());
    if (role == kPlainRole) {
        if (text) return {};
        if (c == calls) return QString::number(r.calls);
        return part.whole == 0 ? QString() : QString::number(100 * part.share(), 'f', 2);
    }
    if (role == Qt::ToolTipRole && c == branches && part.whole > 0)
        return tr("%1 taken at least once, %2 not taken at least once, %3 both")
            .arg(words(count_text(r.sums.branches_taken)), words(count_text(r.sums.branches_not_taken)),
                 words(count_text(r.sums.branches_both)));
    if (role == Qt::TextAlignmentRole) return QVariant(Qt::AlignVCenter | (text ? Qt::AlignLeft : Qt::AlignRight));
    if (role == Qt::ForegroundRole && r.sums.instructions_run == 0 && r.sums.lines_run == 0 && c == name)
        return theme().finding;
    if (role == Qt::FontRole) return c == name ? text_font(12, true) : text ? text_font(11) : fixed_font(11);
    return {};
}

QVariant CoverageModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal) return {};
    static const std::array<std::array<const char*, 2>, kColumns> heads = {{
        {QT_TR_NOOP("name"), QT_TR_NOOP("function, or source file; red: nothing of it ran")},
        {QT_TR_NOOP("source"), QT_TR_NOOP("where it stands")},
        {QT_TR_NOOP("lines run   "), QT_TR_NOOP("source lines with code of which a statement was begun")},
        {QT_TR_NOOP("instructions run   "), QT_TR_NOOP("executed at least once")},
        {QT_TR_NOOP("branches both ways   "), QT_TR_NOOP("conditional branches of the object code that were taken, and not taken")},
        {QT_TR_NOOP("calls   "), QT_TR_NOOP("executions of its first instruction")},
    }};
    const auto& head = heads[static_cast<std::size_t>(section)];
    if (role == Qt::DisplayRole) return tr(head[0]);
    if (role == Qt::ToolTipRole) return tr(head[1]);
    if (role == kUnitRole) return section >= lines && section <= branches ? QStringLiteral("%") : QString();
    if (role == Qt::TextAlignmentRole)
        return QVariant(Qt::AlignVCenter | (section <= file ? Qt::AlignLeft : Qt::AlignRight));
    return {};
}

void CoverageModel::set(std::vector<Row> rows) {
    beginResetModel();
    rows_ = std::move(rows);
    endResetModel();
}

CoveragePage::CoveragePage(Document& document, QWidget* parent)
    : QWidget(parent), document_(document), model_(new CoverageModel(this)) {
    setAccessibleName(tr("Coverage"));
    hint_ = new ElidedLabel;
    hint_->setObjectName("coverage_hint");
    hint_->setFont(text_font(11));
    by_ = new QComboBox;
    by_->setObjectName("coverage_by");
    by_->setAccessibleName(tr("Rows"));
    by_->addItems({tr("Functions"), tr("Files")});
    never_ = new QToolButton;
    never_->setObjectName("coverage_never");
    never_->setText(tr("Never run"));
    never_->setToolTip(tr("Only what never ran"));
    never_->setCheckable(true);
    filter_ = filter_field("coverage_filter", tr("Filter by name"), tr("Filter coverage by name"));
    filter_->setMinimumWidth(124);
    sorted_ = filtered(model_, this);
    sorted_->setSortRole(CoverageModel::kSortRole);
    table_ = new QTableView;
    table_->setObjectName("coverage");
    table_->setAccessibleName(tr("Coverage"));
    table_->setModel(sorted_);
    table_->setSortingEnabled(true);
    table_->setItemDelegate(new ShareBars(table_));
    table_->setMinimumHeight(30);
    dress_table(*table_);
    give_table_menu(*table_, "coverage");
    table_->sortByColumn(CoverageModel::instructions, Qt::AscendingOrder);
    setFocusProxy(table_);
    auto* top = new QHBoxLayout;
    top->addWidget(by_);
    top->addWidget(never_);
    top->addWidget(hint_, 1);
    top->addWidget(filter_);
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(12, 4, 12, 4);
    column->setSpacing(3);
    column->addLayout(top);
    column->addWidget(table_, 1);
    connect(filter_, &QLineEdit::textChanged, sorted_, &QSortFilterProxyModel::setFilterFixedString);
    connect(by_, &QComboBox::currentIndexChanged, this, &CoveragePage::fill);
    connect(never_, &QToolButton::toggled, this, &CoveragePage::fill);
    connect(&document, &Document::opened, this, [this] {
        all_.reset();
        prepared_for_.reset();
        ++turn_;
        fill();
    });
    connect(&document, &Document::finished, this, &CoveragePage::prepare);
    const auto choose = [this](const QModelIndex& index) {
        const auto& row = model_->rows()[static_cast<std::size_t>(sorted_->mapToSource(index).row())];
        if (row.slot != Code::kNowhere) emit place_chosen(row.stream, row.slot);
    };
    connect(table_, &QTableView::doubleClicked, this, choose);
    connect(table_, &QTableView::activated, this, choose);
    fill();
}

void CoveragePage::showEvent(QShowEvent*) { prepare(); }

// An image may be large: a job looks at it.
void CoveragePage::prepare() {
    const auto trail = document_.trail();
    if (!isVisible() || !trail || trail == prepared_for_ || trail->steps.empty()) return;
    if (std::any_of(trail->steps.begin(), trail->steps.end(), [](const StepTrail& s) { return s.counters == nullptr; }))
        return fill();  // not decoded to the end
    prepared_for_ = trail;
    const quint64 turn = ++turn_;
    jobs_.clear();
    jobs_.add([this, turn, trail, recording = document_.recording()] {
        auto all = std::make_shared<std::vector<Of>>();
        for (std::size_t i = 0; i < trail->steps.size(); ++i) {
            const StepTrail& steps = trail->steps[i];
            all->push_back({i, Coverage::of(steps.code, steps.functions,
                                            SourceMap::of(*recording->images[steps.core_index], *steps.code),
                                            CoverCounts::of(steps))});
        }
        QMetaObject::invokeMethod(
            this,
            [this, turn, all] {
                if (turn != turn_) return;
                all_ = all;
                fill();
            },
            Qt::QueuedConnection);
    });
}

void CoveragePage::show_files(bool on) { by_->setCurrentIndex(on ? 1 : 0); }
void CoveragePage::show_never(bool on) { never_->setChecked(on); }

void CoveragePage::fill() {
    std::vector<CoverageModel::Row> rows;
    CoverSums sums;
    bool gaps = false;
    const auto trail = document_.trail();
    const bool files = by_->currentIndex() == 1, never = never_->isChecked();
    for (std::size_t i = 0; all_ && i < all_->size(); ++i) {
        const Of& of = (*all_)[i];
        const Coverage& c = of.coverage;
        sums.add(c.sums);
        if (trail && of.stream < trail->steps.size())
            for (std::size_t g = 0; g < trail->steps[of.stream].gaps.size() && !gaps; ++g)
                gaps = is_missing(trail->steps[of.stream].gaps[g].gap.kind);
        const QString core = all_->size() > 1 && trail ? words(trail->steps[of.stream].core) + ": " : QString();
        if (files) {
            for (const CoverFile& f : c.files) {
                if (never && f.sums.lines_run > 0) continue;
                const auto begins = c.map->line_begins(f.index);
                std::uint64_t calls = 0;
                for (const std::uint32_t k : f.functions) calls += c.functions[k].calls;
                rows.push_back({words(f.name), core + words(plural(f.functions.size(), "function", "functions")), f.sums,
                                calls, of.stream, begins.empty() ? Code::kNowhere : begins.front().slot});
            }
        } else {
            for (const CoverFunction& f : c.functions) {
                if (never && f.sums.instructions_run > 0) continue;
                rows.push_back({words(f.name),
                                core + (f.file.empty() ? QString() : words(f.file + ":" + std::to_string(f.line))),
                                f.sums, f.calls, of.stream, (*c.table)[f.function].entry});
            }
        }
    }
    model_->set(std::move(rows));
    table_->resizeColumnsToContents();
    table_->setColumnWidth(CoverageModel::name, std::clamp(table_->columnWidth(CoverageModel::name), 160, 360));
    for (int c = CoverageModel::lines; c <= CoverageModel::branches; ++c)
        table_->setColumnWidth(c, std::max(table_->columnWidth(c), 150));
    restore_columns(*table_, "coverage");
    const auto share = [](std::uint64_t part, std::uint64_t whole) {
        return whole == 0 ? QStringLiteral("–")
                          : QString::number(std::min(part < whole ? 99.9 : 100.0, 100.0 * static_cast<double>(part) / static_cast<double>(whole)), 'f', 1) + " %";
    };
    QString text;
    if (!has_something())
        text = tr("Coverage needs instruction trace (ETM, E-Trace, N-Trace or a micro trace buffer).");
    else if (!all_)
        text = tr("Coverage comes when decoding has ended.");
    else
        text = tr("%1 of the lines, %2 of the instructions, %3 of the branches both ways")
                   .arg(share(sums.lines_run, sums.lines), share(sums.instructions_run, sums.instructions),
                        share(sums.branches_both, sums.branches)) +
               (gaps ? tr(" · trace is missing in places: what ran there is not counted") : QString());
    hint_->setText(text);
}

}  // namespace mt::app
