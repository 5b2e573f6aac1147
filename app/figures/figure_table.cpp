#include "figures/figure_table.h"

#include <QHeaderView>

#include <algorithm>

#include "base/text.h"
#include "look/table_text.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {

std::string_view heading_of(const FigureInfo& f) { return f.heading.empty() ? f.detail : f.heading; }

}  // namespace

int FigureModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() || columns_.empty() ? 0 : static_cast<int>(document_.figures(kind_).size());
}
int FigureModel::columnCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(columns_.size());
}

const Cell& FigureModel::cell(const QModelIndex& index) const {
    return document_.figures(kind_)[static_cast<std::size_t>(index.row())]
        .cells[columns_[static_cast<std::size_t>(index.column())]];
}

bool FigureModel::is_text(int column) const {
    const auto& rows = document_.figures(kind_);
    return column == 0 || std::any_of(rows.begin(), rows.end(), [&](const MeasuredRow& r) {
               return std::holds_alternative<std::string>(r.cells[columns_[static_cast<std::size_t>(column)]].value);
           });
}

QVariant FigureModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) return {};
    const Cell& c = cell(index);
    const bool text = std::holds_alternative<std::string>(c.value);
    switch (role) {
        case Qt::DisplayRole:
            return words(cell_text(c));
        case kPlainRole:
            return words(cell_plain(c));
        case kSortRole: {
            const auto number = cell_number(c);
            return text ? QVariant(words(cell_text(c))) : QVariant(number.value_or(-1));
        }
        case Qt::TextAlignmentRole:
            return QVariant(Qt::AlignVCenter | (text ? Qt::AlignLeft : Qt::AlignRight));
        case Qt::FontRole:
            return text ? text_font(12, index.column() == 0) : fixed_font(11);
        case Qt::ToolTipRole:
            if (const Time* t = std::get_if<Time>(&c.value)) return words(ns_text(*t)) + " ns";
            return {};
        default:
            return {};
    }
}

QVariant FigureModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal || section >= columnCount()) return {};
    const FigureInfo& f = kind_.figures()[columns_[static_cast<std::size_t>(section)]];
    if (role == Qt::DisplayRole) return words(heading_of(f));
    if (role == Qt::ToolTipRole) return words(f.meaning);
    if (role == kUnitRole) {
        for (const MeasuredRow& r : document_.figures(kind_))
            if (const Cell& c = r.cells[columns_[static_cast<std::size_t>(section)]]; c.known())
                return words(cell_unit(c));
        return {};
    }
    if (role == Qt::TextAlignmentRole)
        return QVariant(Qt::AlignVCenter | (is_text(section) ? Qt::AlignLeft : Qt::AlignRight));
    return {};
}

int FigureModel::column_of(std::string_view key) const {
    for (std::size_t c = 0; c < columns_.size(); ++c)
        if (kind_.figures()[columns_[c]].key == key) return static_cast<int>(c);
    return -1;
}

void FigureModel::renew() {
    beginResetModel();
    columns_.clear();
    const auto figures = kind_.figures();
    const auto& rows = document_.figures(kind_);
    for (std::size_t i = 0; i < figures.size(); ++i)
        if (!heading_of(figures[i]).empty() &&
            std::any_of(rows.begin(), rows.end(), [i](const MeasuredRow& r) { return r.cells[i].known(); }))
            columns_.push_back(i);
    endResetModel();
}

FigureTable::FigureTable(const LaneKind& kind, Document& document, Viewpoint& view, QWidget* parent)
    : QTableView(parent), kind_(kind), document_(document), view_(view), model_(new FigureModel(kind, document, this)) {
    setObjectName(words(kind.id()));
    sorted_ = new QSortFilterProxyModel(this);
    sorted_->setSourceModel(model_);
    sorted_->setSortRole(FigureModel::kSortRole);
    sorted_->setFilterCaseSensitivity(Qt::CaseInsensitive);
    setModel(sorted_);
    setSortingEnabled(true);
    sortByColumn(-1, Qt::AscendingOrder);  // in the kind's order, until a person sorts
    dress_table(*this);
    verticalHeader()->setDefaultSectionSize(26);
    horizontalHeader()->setSectionsMovable(true);
    setHorizontalScrollMode(QAbstractItemView::ScrollPerPixel);
    give_table_menu(*this, objectName());
    setAccessibleName(words(kind.many()));
    const auto go = [this](const QModelIndex& index, bool leave) {
        const std::uint64_t activity = row_of(index).activity;
        if (activity == kNoActivity) return;
        if (const auto worst = kind_.worst(*document_.trail(), activity)) emit span_chosen(*worst, leave);
    };
    connect(this, &QTableView::clicked, this, [go](const QModelIndex& i) { go(i, false); });
    connect(this, &QTableView::doubleClicked, this, [go](const QModelIndex& i) { go(i, true); });
    connect(selectionModel(), &QItemSelectionModel::currentRowChanged, this, [this](const QModelIndex& index) {
        if (following_ || !index.isValid()) return;
        const LaneId lane = kind_.lane_of(*document_.trail(), row_of(index).activity);
        if (lane && kind_.lanes_are_activities() && view_.selection().lane != lane) view_.select(lane);
    });
    for (const auto signal : {&Document::opened, &Document::finished, &Document::measured})
        connect(&document, signal, this, &FigureTable::renew);
    connect(&view, &Viewpoint::selection_changed, this, &FigureTable::follow);
}

const MeasuredRow& FigureTable::row_of(const QModelIndex& index) const {
    return document_.figures(kind_)[static_cast<std::size_t>(sorted_->mapToSource(index).row())];
}

// The row of what is selected elsewhere is the current one here.
void FigureTable::follow() {
    const Selection& s = view_.selection();
    if (s.lane.kind != &kind_ || document_.lanes() == nullptr || (!s.span && !kind_.lanes_are_activities())) return;
    if (s.span && document_.lanes()->find(*s.span) == nullptr) return;
    const std::uint64_t activity = s.span ? kind_.activity_of(*document_.trail(), *s.span) : s.lane.index;
    for (int i = 0; i < sorted_->rowCount(); ++i) {
        if (row_of(sorted_->index(i, 0)).activity != activity || currentIndex().row() == i) continue;
        following_ = true;
        setCurrentIndex(sorted_->index(i, 0));
        following_ = false;
    }
}

void FigureTable::renew() {
    model_->renew();
    sorted_->setFilterKeyColumn(std::max(0, model_->column_of("name")));
    resizeColumnsToContents();
    for (int c = 0; c < model_->columnCount(); ++c) setColumnWidth(c, std::min(260, columnWidth(c) + 14));
    restore_columns(*this, objectName());
}

void FigureTable::set_filter(const QString& text) { sorted_->setFilterFixedString(text); }

QString FigureTable::cell(int row, std::string_view key) const {
    return sorted_->index(row, model_->column_of(key)).data().toString();
}

}  // namespace mt::app
