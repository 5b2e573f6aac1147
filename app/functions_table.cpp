#include "functions_table.h"

#include <QClipboard>
#include <QFileInfo>
#include <QGuiApplication>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QMenu>
#include <QShortcut>
#include <QVBoxLayout>

#include <algorithm>

#include "base/text.h"
#include "table_text.h"
#include "theme.h"

namespace mt::app {
namespace {

QString words(const std::string& s) { return QString::fromStdString(s); }
QString length(const std::optional<Time>& t) { return t ? words(duration_text(*t)) : QStringLiteral("–"); }

struct Figure {
    const char *heading, *meaning;
    QString (*text)(const FunctionRow&);
    double (*value)(const FunctionRow&);  ///< null: sorted by the text
};

double in_ns(const std::optional<Time>& t) { return t ? t->ns() : -1; }

const std::vector<Figure>& figures() {
    using Row = FunctionRow;
    static const std::vector<Figure> all = {
        {QT_TR_NOOP("function"), QT_TR_NOOP("its name in the image"), [](const Row& r) { return words(r.name); },
         nullptr},
        {QT_TR_NOOP("calls"), QT_TR_NOOP("whole calls"), [](const Row& r) { return words(count_text(r.count)); },
         [](const Row& r) { return double(r.count); }},
        {QT_TR_NOOP("left out"), QT_TR_NOOP("calls whose end was not seen, or in a stack that was switched meanwhile"),
         [](const Row& r) { return words(count_text(r.left_out)); }, [](const Row& r) { return double(r.left_out); }},
        {QT_TR_NOOP("own"), QT_TR_NOOP("time in the function itself, all calls"),
         [](const Row& r) { return words(duration_text(r.own)); }, [](const Row& r) { return r.own.ns(); }},
        {QT_TR_NOOP("share"), QT_TR_NOOP("own time by the time of all functions that are not left out"),
         [](const Row& r) { return words(share_text(r.share)); }, [](const Row& r) { return r.share; }},
        {QT_TR_NOOP("with callees"),
         QT_TR_NOOP("time in it and in what it called, without handlers that came in between"),
         [](const Row& r) { return words(duration_text(r.total)); }, [](const Row& r) { return r.total.ns(); }},
        {QT_TR_NOOP("least"), QT_TR_NOOP("shortest whole call, with callees"),
         [](const Row& r) { return length(r.least); }, [](const Row& r) { return in_ns(r.least); }},
        {QT_TR_NOOP("mean"), QT_TR_NOOP("mean of whole calls"), [](const Row& r) { return length(r.mean); },
         [](const Row& r) { return in_ns(r.mean); }},
        {QT_TR_NOOP("greatest"), QT_TR_NOOP("longest whole call: a double click shows it"),
         [](const Row& r) { return length(r.greatest); }, [](const Row& r) { return in_ns(r.greatest); }},
        {QT_TR_NOOP("instructions"), QT_TR_NOOP("executed in the function itself"),
         [](const Row& r) { return words(count_text(r.instructions)); },
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

}  // namespace

int FunctionModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(rows_.size());
}
int FunctionModel::columnCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(figures().size());
}

QVariant FunctionModel::data(const QModelIndex& index, int role) const {
    const Figure& f = figures()[static_cast<std::size_t>(index.column())];
    const FunctionRow& r = rows_[static_cast<std::size_t>(index.row())];
    const bool left = f.value == nullptr;
    if (role == Qt::DisplayRole) return f.text(r);
    if (role == kSortRole) return left ? QVariant(f.text(r)) : QVariant(f.value(r));
    if (role == Qt::TextAlignmentRole) return QVariant(Qt::AlignVCenter | (left ? Qt::AlignLeft : Qt::AlignRight));
    if (role == Qt::FontRole) return index.column() == 0 ? text_font(12, true) : left ? text_font(11) : fixed_font(11);
    return {};
}

QVariant FunctionModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal) return {};
    const Figure& f = figures()[static_cast<std::size_t>(section)];
    if (role == Qt::DisplayRole) return tr(f.heading);
    if (role == Qt::ToolTipRole) return tr(f.meaning);
    if (role == Qt::TextAlignmentRole)
        return QVariant(Qt::AlignVCenter | (f.value == nullptr ? Qt::AlignLeft : Qt::AlignRight));
    return {};
}

void FunctionModel::set(std::vector<FunctionRow> rows) {
    beginResetModel();
    rows_ = std::move(rows);
    endResetModel();
}

FunctionsTable::FunctionsTable(Session& session, QWidget* parent)
    : QWidget(parent), session_(session), model_(new FunctionModel(this)) {
    setAccessibleName(tr("Functions"));
    filter_ = new QLineEdit;
    filter_->setObjectName("functions_filter");
    filter_->setPlaceholderText(tr("Filter by name"));
    filter_->setClearButtonEnabled(true);
    filter_->setMaximumWidth(220);
    hint_ = new QLabel;
    hint_->setObjectName("functions_hint");
    hint_->setFont(text_font(11));
    sorted_ = new QSortFilterProxyModel(this);
    sorted_->setSourceModel(model_);
    sorted_->setSortRole(FunctionModel::kSortRole);
    sorted_->setFilterKeyColumn(0);
    sorted_->setFilterCaseSensitivity(Qt::CaseInsensitive);
    table_ = new QTableView;
    table_->setObjectName("functions");
    table_->setModel(sorted_);
    table_->setSortingEnabled(true);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setAlternatingRowColors(true);
    table_->setShowGrid(false);
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(21);
    table_->horizontalHeader()->setHighlightSections(false);
    table_->setMinimumHeight(30);
    table_->setContextMenuPolicy(Qt::CustomContextMenu);
    table_->setHorizontalScrollMode(QAbstractItemView::ScrollPerPixel);
    table_->sortByColumn(3, Qt::DescendingOrder);
    auto* top = new QHBoxLayout;
    top->addWidget(hint_, 1);
    top->addWidget(filter_);
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(12, 4, 12, 4);
    column->setSpacing(3);
    column->addLayout(top);
    column->addWidget(table_, 1);
    connect(filter_, &QLineEdit::textChanged, sorted_, &QSortFilterProxyModel::setFilterFixedString);
    connect(&session, &Session::opened, this, [this] {
        left_out_.clear();
        renew();
    });
    connect(&session, &Session::finished, this, &FunctionsTable::renew);
    connect(table_, &QTableView::customContextMenuRequested, this, &FunctionsTable::menu);
    connect(table_, &QTableView::doubleClicked, this, [this](const QModelIndex& index) {
        const FunctionRow& row = model_->rows()[static_cast<std::size_t>(sorted_->mapToSource(index).row())];
        if (row.count > 0)
            emit call_chosen(session_.trail()->steps[row.steps_index].core_index, row.worst.level,
                             static_cast<std::size_t>(row.worst.index));
    });
    auto* copy = new QShortcut(QKeySequence::Copy, table_);
    copy->setContext(Qt::WidgetWithChildrenShortcut);
    connect(copy, &QShortcut::activated, this, [this] { QGuiApplication::clipboard()->setText(copied_text()); });
    renew();
}

void FunctionsTable::renew() {
    const auto trail = session_.trail();
    const bool any = trail && !trail->steps.empty();
    model_->set(any ? function_rows(*trail, left_out_) : std::vector<FunctionRow>{});
    table_->resizeColumnsToContents();
    for (int c = 0; c < model_->columnCount(); ++c)
        table_->setColumnWidth(c, std::clamp(table_->columnWidth(c) + 16, c == 0 ? 180 : 60, 260));
    QString text = !any ? tr("Functions need instruction trace (E-Trace, ETMv4, N-Trace or a micro trace buffer).")
                   : session_.busy()
                       ? tr("Decoding: figures grow until its end.")
                       : tr("%1 functions ran. A double click shows the longest call, a right click leaves one out.")
                             .arg(model_->rowCount());
    if (!left_out_.empty()) {
        QStringList names;
        for (const auto& name : left_out_) names << words(name);
        text += tr(" Left out of the shares: %1.").arg(names.join(", "));
    }
    hint_->setText(text);
}

bool FunctionsTable::choose(const QString& name) {
    for (const FunctionRow& row : model_->rows())
        if (words(row.name) == name && row.count > 0) {
            emit call_chosen(session_.trail()->steps[row.steps_index].core_index, row.worst.level,
                             static_cast<std::size_t>(row.worst.index));
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
    menu.addAction(out ? tr("Count %1 again").arg(name) : tr("Leave %1 out of the shares").arg(name),
                   [this, name, out] { leave_out(name, !out); });
    menu.addAction(tr("Copy as text"), [this] { QGuiApplication::clipboard()->setText(copied_text()); });
    menu.exec(table_->viewport()->mapToGlobal(at));
}

void FunctionsTable::show_function(std::size_t core, unsigned function) {
    for (int i = 0; i < sorted_->rowCount(); ++i) {
        const FunctionRow& row =
            model_->rows()[static_cast<std::size_t>(sorted_->mapToSource(sorted_->index(i, 0)).row())];
        if (row.function != function || session_.trail()->steps[row.steps_index].core_index != core) continue;
        table_->selectRow(i);
        table_->scrollTo(sorted_->index(i, 0));
        return;
    }
}

QString FunctionsTable::copied_text() const { return table_text(*table_); }

}  // namespace mt::app
