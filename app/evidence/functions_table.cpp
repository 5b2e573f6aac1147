#include "evidence/functions_table.h"

#include <QClipboard>
#include <QFileInfo>
#include <QGuiApplication>
#include <QHeaderView>
#include <QMenu>
#include <QPainter>
#include <QShortcut>
#include <QStyledItemDelegate>

#include <algorithm>

#include "base/text.h"
#include "look/filter_field.h"
#include "look/page_parts.h"
#include "look/table_text.h"
#include "look/theme.h"
#include "look/words.h"
#include "measure/refs.h"

namespace mt::app {
namespace {

QString length(const std::optional<Time>& t) { return t ? words(duration_text(*t)) : QStringLiteral("–"); }

struct Figure {
    const char *heading, *meaning;
    QString (*text)(const FunctionRow&);
    double (*value)(const FunctionRow&);  ///< null: sorted by the text
    const char* unit = "";                ///< of the plain value
    bool shares = false;                  ///< `value` is a part of a whole
};

double in_ns(const std::optional<Time>& t) { return t ? t->ns() : -1; }

const std::vector<Figure>& figures() {
    using Row = FunctionRow;
    static const std::vector<Figure> all = {
        {QT_TR_NOOP("core"), QT_TR_NOOP("which core it ran on"), [](const Row&) { return QString(); }, nullptr},
        {QT_TR_NOOP("function"), QT_TR_NOOP("its name in the image"), [](const Row& r) { return words(r.name); },
         nullptr},
        {QT_TR_NOOP("calls"), QT_TR_NOOP("whole calls; and in how many places the compiler inlined it"),
         [](const Row& r) {
             const QString places = QObject::tr("inlined in %1").arg(words(count_text(r.places)));
             if (!r.traced) return r.places > 0 ? places : QStringLiteral("–");
             return r.places > 0 ? words(count_text(r.count)) + ", " + places : words(count_text(r.count));
         },
         [](const Row& r) { return r.traced    ? double(r.count)
                                   : r.inlined ? -2.0
                                               : -1.0; }},
        {QT_TR_NOOP("calls over time"), QT_TR_NOOP("how often it was called, from the start to the end"),
         [](const Row&) { return QString(); }, [](const Row& r) { return double(r.count); }},
        {QT_TR_NOOP("own"), QT_TR_NOOP("time in the function itself, all calls; ≈: estimated from samples"),
         [](const Row& r) {
             return r.inlined ? QStringLiteral("–")
                              : (r.sampled ? QStringLiteral("≈ ") : QString()) + words(duration_text(r.own));
         },
         [](const Row& r) { return r.own.ns(); }, "ns"},
        {QT_TR_NOOP("share"), QT_TR_NOOP("own time by the time of all functions of its core that are not excluded"),
         [](const Row& r) {
             if (r.inlined) return QStringLiteral("–");
             QString text = words(share_text(r.share));
             if (r.sampled) text.replace(QStringLiteral(" %"), QString(" ± %1 %").arg(r.share_error * 100, 0, 'f', 2));
             return text;
         },
         [](const Row& r) { return r.share; }, "%", true},
        {QT_TR_NOOP("samples"), QT_TR_NOOP("of the program counter that hit it, where own and share come from these"),
         [](const Row& r) { return r.sampled ? words(count_text(r.samples)) : QStringLiteral("–"); },
         [](const Row& r) { return r.sampled ? double(r.samples) : -1.0; }},
        {QT_TR_NOOP("inclusive"), QT_TR_NOOP("time in it and in what it called, with handlers that preempted it"),
         [](const Row& r) { return r.traced ? words(duration_text(r.total)) : QStringLiteral("–"); },
         [](const Row& r) { return r.traced ? r.total.ns() : -1; }, "ns"},
        {QT_TR_NOOP("min"), QT_TR_NOOP("shortest whole call, inclusive"), [](const Row& r) { return length(r.least); },
         [](const Row& r) { return in_ns(r.least); }, "ns"},
        {QT_TR_NOOP("mean"), QT_TR_NOOP("mean of whole calls"), [](const Row& r) { return length(r.mean); },
         [](const Row& r) { return in_ns(r.mean); }, "ns"},
        {QT_TR_NOOP("max"), QT_TR_NOOP("longest whole call: a double click shows it"),
         [](const Row& r) { return length(r.greatest); }, [](const Row& r) { return in_ns(r.greatest); }, "ns"},
        {QT_TR_NOOP("excluded"), QT_TR_NOOP("calls whose end was not seen, or in a stack that was switched meanwhile"),
         [](const Row& r) { return r.traced ? words(count_text(r.left_out)) : QStringLiteral("–"); },
         [](const Row& r) { return r.traced ? double(r.left_out) : -1.0; }},
        {QT_TR_NOOP("instructions"), QT_TR_NOOP("executed in the function itself"),
         [](const Row& r) { return r.traced || r.inlined ? words(count_text(r.instructions)) : QStringLiteral("–"); },
         [](const Row& r) { return double(r.instructions); }},
        {QT_TR_NOOP("recursive"), QT_TR_NOOP("calls while it was on the stack already"),
         [](const Row& r) { return r.recursive == 0 ? QStringLiteral("–") : words(count_text(r.recursive)); },
         [](const Row& r) { return double(r.recursive); }},
        {QT_TR_NOOP("source"), QT_TR_NOOP("file and line of its first instruction"),
         [](const Row& r) {
             return r.file.empty() ? QStringLiteral("–")
                                   : QFileInfo(words(r.file)).fileName() + ":" + QString::number(r.line);
         },
         nullptr},
    };
    return all;
}

// Calls over time as small bars.
class RateBars : public QStyledItemDelegate {
  public:
    using QStyledItemDelegate::QStyledItemDelegate;
    void paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        QStyledItemDelegate::paint(p, option, index);
        const QVariantList bars = index.data(FunctionModel::kRateRole).toList();
        if (bars.isEmpty()) return;
        const QRectF r = QRectF(option.rect).adjusted(4, 3, -4, -3);
        const double w = r.width() / static_cast<double>(bars.size());
        for (qsizetype i = 0; i < bars.size(); ++i) {
            const double share = bars[i].toDouble();
            if (share <= 0) continue;
            const double h = std::max(1.0, r.height() * share);
            p->fillRect(QRectF(r.left() + w * static_cast<double>(i), r.bottom() - h, std::max(1.0, w - 0.5), h),
                        theme().measure);
        }
    }
};

}  // namespace

int FunctionModel::core_column() { return 0; }
int FunctionModel::name_column() { return 1; }
int FunctionModel::rate_column() { return 3; }
int FunctionModel::own_column() { return 4; }

int FunctionModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(rows_.size());
}
int FunctionModel::columnCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(figures().size());
}

QVariant FunctionModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) return {};
    const Figure& f = figures()[static_cast<std::size_t>(index.column())];
    const FunctionRow& r = rows_[static_cast<std::size_t>(index.row())];
    const bool left = f.value == nullptr;
    if (role == kRateRole) {
        // Calls over time, each stretch as a share of the busiest.
        QVariantList bars;
        if (!r.traced || trail_ == nullptr) return bars;
        const CallRate& rate = trail_->steps[r.steps_index].tallies[r.function].rate;
        const auto used = std::clamp<std::int64_t>(trail_->end.ps / rate.width.ps + 1, 1, CallRate::kBuckets);
        const std::uint32_t most = *std::max_element(rate.calls.begin(), rate.calls.end());
        for (std::int64_t i = 0; i < used && most > 0; ++i)
            bars << double(rate.calls[static_cast<std::size_t>(i)]) / most;
        return bars;
    }
    if (role == Qt::ToolTipRole && index.column() == rate_column() && r.traced && trail_ != nullptr) {
        const CallRate& rate = trail_->steps[r.steps_index].tallies[r.function].rate;
        const std::uint32_t most = *std::max_element(rate.calls.begin(), rate.calls.end());
        return tr("at most %1 calls in %2").arg(words(count_text(most)), words(duration_text(rate.width)));
    }
    if (role == Qt::DisplayRole && index.column() == core_column())
        return r.core < cores_.size() ? cores_[r.core] : QString();
    if (role == Qt::DisplayRole) return f.text(r);
    if (role == kPlainRole) {
        if (left || index.column() == rate_column()) return {};
        return f.value(r) < 0 ? QVariant(QString())
                              : QVariant(QString::number(f.value(r) * (f.shares ? 100 : 1), 'g', 12));
    }
    if (role == kSortRole && index.column() == core_column()) return QVariant::fromValue<qulonglong>(r.core);
    if (role == kSortRole) return left ? QVariant(f.text(r)) : QVariant(f.value(r));
    if (role == Qt::TextAlignmentRole) return QVariant(Qt::AlignVCenter | (left ? Qt::AlignLeft : Qt::AlignRight));
    if (role == Qt::FontRole)
        return index.column() == name_column() ? text_font(12, true) : left ? text_font(11) : fixed_font(11);
    return {};
}

QVariant FunctionModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal) return {};
    const Figure& f = figures()[static_cast<std::size_t>(section)];
    const bool left = f.value == nullptr;
    const QVariant head = table_head(*this, {f.heading, f.meaning, left, f.unit}, orientation, role);
    // Room for the arrow of the order behind figures.
    return role == Qt::DisplayRole && !left ? head.toString() + QStringLiteral("   ") : head;
}

void FunctionModel::set(std::vector<FunctionRow> rows, std::shared_ptr<const Trail> trail, std::vector<QString> cores) {
    beginResetModel();
    rows_ = std::move(rows);
    trail_ = std::move(trail);
    cores_ = std::move(cores);
    endResetModel();
}

FunctionsTable::FunctionsTable(Document& document, QWidget* parent)
    : QWidget(parent), document_(document), model_(new FunctionModel(this)) {
    setAccessibleName(tr("Functions"));
    filter_ = filter_field("functions_filter", tr("Filter by name"), tr("Filter functions by name"));
    filter_->setMinimumWidth(124);
    hint_ = hint_label("functions_hint");
    sorted_ = filtered(model_, this, FunctionModel::name_column());
    sorted_->setSortRole(FunctionModel::kSortRole);
    table_ = figures_view("functions", tr("Functions"), *sorted_);
    disconnect(table_, &QWidget::customContextMenuRequested, nullptr, nullptr);  // it has more of its own
    table_->setHorizontalScrollMode(QAbstractItemView::ScrollPerPixel);
    table_->setItemDelegateForColumn(FunctionModel::rate_column(), new RateBars(table_));
    table_->sortByColumn(FunctionModel::own_column(), Qt::DescendingOrder);
    lay_page(*this, {hint_, filter_}, hint_, table_);
    connect(filter_, &QLineEdit::textChanged, sorted_, &QSortFilterProxyModel::setFilterFixedString);
    connect(&document, &Document::opened, this, [this] {
        left_out_.clear();
        renew();
    });
    connect(&document, &Document::finished, this, &FunctionsTable::renew);
    connect(table_, &QTableView::customContextMenuRequested, this, &FunctionsTable::menu);
    connect(table_, &QTableView::doubleClicked, this, [this](const QModelIndex& index) {
        const FunctionRow& row = model_->rows()[static_cast<std::size_t>(sorted_->mapToSource(index).row())];
        if (row.count > 0) emit call_chosen(call_ref(row.steps_index, row.worst.level, row.worst.index));
    });
    renew();
}

void FunctionsTable::renew() {
    const auto trail = document_.trail();
    const bool any = trail && !trail->steps.empty();
    const bool sampled = trail && std::any_of(trail->cores.begin(), trail->cores.end(),
                                              [](const CoreTrail& c) { return !c.samples.empty(); });
    std::vector<QString> cores;
    if (trail)
        for (const auto& c : trail->cores) cores.push_back(words(c.name));
    std::vector<FunctionRow> rows;
    if (any || sampled) rows = function_rows(*trail, left_out_, document_.recording()->functions);
    if (any) rows = with_inlined(std::move(rows), *trail);
    const auto inlined = std::count_if(rows.begin(), rows.end(), [](const FunctionRow& r) { return r.inlined; });
    const auto called = static_cast<std::ptrdiff_t>(rows.size()) - inlined;
    model_->set(std::move(rows), trail, std::move(cores));
    table_->resizeColumnsToContents();
    for (int c = 0; c < model_->columnCount(); ++c)
        table_->setColumnWidth(
            c, c == FunctionModel::rate_column()
                   ? 140
                   : std::clamp(table_->columnWidth(c) + 16, c == FunctionModel::name_column() ? 120 : 50, 260));
    restore_columns(*table_, "functions");
    QString text = !any && !sampled
                       ? tr("Functions need instruction trace (E-Trace, ETMv4, N-Trace or a micro trace buffer).")
                   : document_.busy()
                       ? tr("Decoding: figures grow until its end.")
                       : tr("%1 functions ran%2. A double click shows the longest call, a right click excludes one.")
                             .arg(called)
                             .arg(inlined == 0   ? QString()
                                  : inlined == 1 ? tr(", and one that is inlined")
                                                 : tr(", and %1 that are inlined").arg(inlined));
    // Of what the shares are parts.
    QStringList sources;
    for (std::size_t c = 0; trail && c < trail->cores.size(); ++c)
        if (const auto& all = model_->rows();
            std::any_of(all.begin(), all.end(), [c](const FunctionRow& r) { return r.core == c && !r.inlined; })) {
            const bool estimated =
                std::any_of(all.begin(), all.end(), [c](const FunctionRow& r) { return r.core == c && r.sampled; });
            sources << QString(estimated ? tr("%1 from its samples") : tr("%1 from its trace"))
                           .arg(words(trail->cores[c].name));
        }
    if (!document_.busy() && !sources.isEmpty())
        text += tr(" Shares are of each core's own: %1.").arg(sources.join(", "));
    if (!left_out_.empty()) {
        QStringList names;
        for (const auto& name : left_out_) names << words(name);
        text += tr(" Excluded from the shares: %1.").arg(names.join(", "));
    }
    hint_->setText(text);
}

bool FunctionsTable::has_something() const {
    const auto trail = document_.trail();
    const auto recording = document_.recording();
    if (!trail || !recording) return false;
    return !trail->steps.empty() ||
           (!trail->streams.empty() && std::any_of(recording->functions.begin(), recording->functions.end(),
                                                   [](const auto& f) { return f != nullptr; }));
}

bool FunctionsTable::choose(const QString& name) {
    for (const FunctionRow& row : model_->rows())
        if (words(row.name) == name && row.count > 0) {
            emit call_chosen(call_ref(row.steps_index, row.worst.level, row.worst.index));
            return true;
        }
    return false;
}

void FunctionsTable::leave_out(const QString& name, bool out) {
    if (out)
        left_out_.insert(name.toStdString());
    else
        left_out_.erase(name.toStdString());
    renew();
}

void FunctionsTable::menu(const QPoint& at) {
    const QModelIndex index = sorted_->mapToSource(table_->indexAt(at));
    if (!index.isValid()) return;
    const QString name = words(model_->rows()[static_cast<std::size_t>(index.row())].name);
    const bool out = left_out_.count(name.toStdString()) != 0;
    QMenu menu(this);
    menu.addAction(out ? tr("Count %1 again").arg(name) : tr("Exclude %1 from the shares").arg(name),
                   [this, name, out] { leave_out(name, !out); });
    menu.addSeparator();
    add_table_actions(menu, *table_, "functions");
    menu.exec(table_->viewport()->mapToGlobal(at));
}

void FunctionsTable::show_function(std::size_t core, unsigned function) {
    for (int i = 0; i < sorted_->rowCount(); ++i) {
        const FunctionRow& row =
            model_->rows()[static_cast<std::size_t>(sorted_->mapToSource(sorted_->index(i, 0)).row())];
        if (row.function != function || row.core != core) continue;
        table_->selectRow(i);
        table_->scrollTo(sorted_->index(i, 0));
        return;
    }
}

QString FunctionsTable::copied_text() const { return table_text(*table_, true); }

}  // namespace mt::app
