#include "measures.h"

#include <QAction>
#include <QClipboard>
#include <QGuiApplication>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QMenu>
#include <QPushButton>
#include <QShortcut>
#include <QVBoxLayout>

#include <functional>

#include "base/text.h"
#include "table_text.h"
#include "theme.h"

namespace mt::app {
namespace {

QString words(const std::string& s) { return QString::fromStdString(s); }

struct Figure {
    const char* heading;
    const char* meaning;
    std::function<QString(const InterruptRow&)> text;
    std::function<double(const InterruptRow&)> value;
    bool left = false;
};

QString length_text(const std::optional<Time>& t) { return t ? words(duration_text(*t)) : QStringLiteral("–"); }
double length_value(const std::optional<Time>& t) { return t ? static_cast<double>(t->ps) : -1; }

Figure length_figure(const char* heading, const char* meaning,
                     std::function<std::optional<Time>(const InterruptRow&)> get) {
    return {heading, meaning, [get](const InterruptRow& r) { return length_text(get(r)); },
            [get](const InterruptRow& r) { return length_value(get(r)); }};
}

const std::vector<Figure>& figures() {
    using Row = InterruptRow;
    static const std::vector<Figure> all = {
        {QT_TR_NOOP("no."), QT_TR_NOOP("exception number; interrupts start at 16"),
         [](const Row& r) { return QString::number(r.number); }, [](const Row& r) { return double(r.number); }},
        {QT_TR_NOOP("name"), QT_TR_NOOP("from the SVD file, the vector table, or the architecture"),
         [](const Row& r) { return words(r.name); }, nullptr, true},
        {QT_TR_NOOP("count"), QT_TR_NOOP("whole executions"), [](const Row& r) { return words(count_text(r.count)); },
         [](const Row& r) { return double(r.count); }},
        {QT_TR_NOOP("left out"), QT_TR_NOOP("executions cut by a gap or the recording's ends; in no figure"),
         [](const Row& r) { return words(count_text(r.left_out)); }, [](const Row& r) { return double(r.left_out); }},
        length_figure(QT_TR_NOOP("least"), QT_TR_NOOP("shortest duration, with what cut in"),
                      [](const Row& r) { return r.least; }),
        length_figure(QT_TR_NOOP("mean"), QT_TR_NOOP("mean duration, with what cut in"),
                      [](const Row& r) { return r.mean; }),
        length_figure(QT_TR_NOOP("greatest"), QT_TR_NOOP("longest duration, with what cut in"),
                      [](const Row& r) { return r.greatest; }),
        length_figure(QT_TR_NOOP("deviation"), QT_TR_NOOP("standard deviation of the duration"),
                      [](const Row& r) { return r.deviation; }),
        length_figure(QT_TR_NOOP("95 %"), QT_TR_NOOP("95 % of the durations are not longer"),
                      [](const Row& r) { return r.p95; }),
        length_figure(QT_TR_NOOP("99 %"), QT_TR_NOOP("99 % of the durations are not longer"),
                      [](const Row& r) { return r.p99; }),
        length_figure(QT_TR_NOOP("own least"), QT_TR_NOOP("shortest duration without what cut in"),
                      [](const Row& r) { return r.own_least; }),
        length_figure(QT_TR_NOOP("own mean"), QT_TR_NOOP("mean duration without what cut in"),
                      [](const Row& r) { return r.own_mean; }),
        length_figure(QT_TR_NOOP("own greatest"), QT_TR_NOOP("longest duration without what cut in"),
                      [](const Row& r) { return r.own_greatest; }),
        length_figure(QT_TR_NOOP("period least"), QT_TR_NOOP("shortest time from entry to entry"),
                      [](const Row& r) { return r.period_least; }),
        length_figure(QT_TR_NOOP("period mean"), QT_TR_NOOP("mean time from entry to entry"),
                      [](const Row& r) { return r.period_mean; }),
        length_figure(QT_TR_NOOP("period greatest"), QT_TR_NOOP("longest time from entry to entry, never across a gap"),
                      [](const Row& r) { return r.period_greatest; }),
        {QT_TR_NOOP("share"), QT_TR_NOOP("own time by the time of the recording outside gaps"),
         [](const Row& r) { return words(share_text(r.share)); }, [](const Row& r) { return r.share; }},
        {QT_TR_NOOP("deepest"), QT_TR_NOOP("greatest nest depth it ran at"),
         [](const Row& r) { return QString::number(r.deepest); }, [](const Row& r) { return double(r.deepest); }},
        {QT_TR_NOOP("within bounds"),
         QT_TR_NOOP("executions whose begin or end is known only within bounds, and the widest bound"),
         [](const Row& r) {
             return r.bounded == 0 ? QStringLiteral("–")
                                   : words(count_text(r.bounded)) + " ≤ " + words(duration_text(r.widest_bound));
         },
         [](const Row& r) { return double(r.bounded); }},
        {QT_TR_NOOP("core"), QT_TR_NOOP("which core took it"), [](const Row& r) { return words(r.core_name); }, nullptr,
         true},
    };
    return all;
}

}  // namespace

int InterruptModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(session_.rows().size());
}
int InterruptModel::columnCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(figures().size());
}

QVariant InterruptModel::data(const QModelIndex& index, int role) const {
    const Figure& f = figures()[static_cast<std::size_t>(index.column())];
    const InterruptRow& r = session_.rows()[static_cast<std::size_t>(index.row())];
    if (role == Qt::DisplayRole) return f.text(r);
    if (role == kSortRole) return f.value ? QVariant(f.value(r)) : QVariant(f.text(r));
    if (role == Qt::TextAlignmentRole) return QVariant(Qt::AlignVCenter | (f.left ? Qt::AlignLeft : Qt::AlignRight));
    if (role == Qt::FontRole) return f.left ? text_font(12, index.column() == 1) : fixed_font(11);
    if (role == Qt::ToolTipRole && f.value) {
        const double v = f.value(r);
        const QString unit = f.text(r).section(' ', -1);
        if (v >= 0 && (unit == "s" || unit == "ms" || unit == "µs" || unit == "ns"))
            return QString::number(v / 1e3, 'f', 3) + " ns";
    }
    return {};
}

QVariant InterruptModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal) return {};
    const Figure& f = figures()[static_cast<std::size_t>(section)];
    if (role == Qt::DisplayRole) return tr(f.heading);
    if (role == Qt::ToolTipRole) return tr(f.meaning);
    if (role == Qt::TextAlignmentRole) return QVariant(Qt::AlignVCenter | (f.left ? Qt::AlignLeft : Qt::AlignRight));
    return {};
}

void InterruptModel::renew() {
    beginResetModel();
    endResetModel();
}

MeasuresPanel::MeasuresPanel(Session& session, Viewpoint& view, QWidget* parent)
    : QWidget(parent), session_(session), view_(view) {
    setAccessibleName(tr("Measures of the selected interrupt"));
    name_ = new QLabel;
    name_->setObjectName("measures_name");
    name_->setFont(text_font(13, true));
    all_ = new QLabel;
    all_->setObjectName("all_measures");
    all_->setText("<a href=\"all\" style=\"text-decoration:none\">" + tr("all measures ▸") + "</a>");
    sub_ = new QLabel;
    sub_->setObjectName("measures_sub");
    sub_->setFont(text_font(11));
    sub_->setWordWrap(true);
    figures_ = new QLabel;
    figures_->setObjectName("measures_figures");
    figures_->setTextFormat(Qt::RichText);
    figures_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    distribution_ = new DistributionPlot(session, view);
    over_time_ = new OverTimePlot(session, view);
    auto* top = new QHBoxLayout;
    top->addWidget(name_, 1);
    top->addWidget(all_);
    auto caption = [](const QString& text) {
        auto* label = new QLabel(text);
        label->setFont(text_font(11));
        return label;
    };
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(12, 8, 8, 4);
    column->setSpacing(3);
    column->addLayout(top);
    column->addWidget(sub_);
    column->addWidget(figures_);
    column->addWidget(captions_[0] = caption(tr("distribution of the duration")));
    column->addWidget(distribution_, 4);
    column->addWidget(captions_[1] = caption(tr("over time: one dot per execution")));
    over_choice_ = new QComboBox;
    over_choice_->setObjectName("over_time_choice");
    over_choice_->setFont(text_font(11));
    over_choice_->addItems({tr("over time: response of each job"), tr("over time: running time of each job"),
                            tr("over time: how long each job was held up"), tr("over time: processor load")});
    over_choice_->setToolTip(tr("Held up: from ready to end, less its own running time"));
    column->addWidget(over_choice_);
    connect(over_choice_, &QComboBox::currentIndexChanged, this,
            [this](int i) { over_time_->set_shown(static_cast<OverTimePlot::Shown>(i)); });
    connect(over_time_, &OverTimePlot::window_chosen, this, &MeasuresPanel::window_chosen);
    column->addWidget(over_time_, 5);
    setMinimumWidth(240);
    connect(all_, &QLabel::linkActivated, this, &MeasuresPanel::all_wanted);
    connect(distribution_, &DistributionPlot::instance_chosen, this, &MeasuresPanel::instance_chosen);
    connect(over_time_, &OverTimePlot::instance_chosen, this, &MeasuresPanel::instance_chosen);
    connect(&session, &Session::opened, this, &MeasuresPanel::renew);
    connect(&session, &Session::finished, this, &MeasuresPanel::renew);
    connect(&view, &Viewpoint::selection_changed, this, &MeasuresPanel::renew);
    renew();
}

void MeasuresPanel::renew() {
    const Selection s = view_.selection();
    const InterruptRow* row = nullptr;
    for (const auto& r : session_.rows())
        if (r.core == s.core && static_cast<int>(r.lane) == s.lane) row = &r;
    const TaskRow* task = nullptr;
    for (const auto& r : session_.task_rows())
        if (static_cast<int>(r.task) == s.task) task = &r;
    if (s.task >= 0) row = nullptr;
    all_->setVisible(!session_.rows().empty() || !session_.task_rows().empty());
    captions_[0]->setVisible(row != nullptr || task != nullptr);
    captions_[1]->setVisible(row != nullptr);
    over_choice_->setVisible(task != nullptr);
    captions_[0]->setText(task != nullptr ? tr("distribution of the response") : tr("distribution of the duration"));
    const auto cell = [&](const QString& label, const QString& value, bool loud = false) {
        return QString(
                   "<td width=\"33%\" style=\"padding:2px 10px 2px 0\"><span style=\"color:%3; "
                   "font-size:10px\">%1</span><br><b style=\"color:%4\">%2</b></td>")
            .arg(label, value, theme().second.name(), loud ? theme().finding.name() : theme().text.name());
    };
    if (task != nullptr) {
        bool loud = false;
        for (const auto& f : session_.findings())
            loud = loud || (f.task == s.task && f.lane < 0 && f.kind != FindingKind::slow_growth);
        name_->setText(words(task->name));
        // With task switches alone, a stretch on the core is all that is known.
        const TaskLane& lane = session_.trail()->tasks.tasks[task->task];
        const bool only_switches = session_.trail()->tasks.cores[lane.core].only_switches;
        const Figures& shown = only_switches ? task->run : task->response;
        if (only_switches) captions_[0]->setText(tr("distribution of the time on the core"));
        over_choice_->setItemText(
            0, only_switches ? tr("over time: each stretch on the core") : tr("over time: response of each job"));
        sub_->setText(task->idle      ? tr("idle: what no task needs")
                      : only_switches ? tr("running time, %1 stretches on the core, %2 left out")
                                            .arg(words(count_text(task->run.count)), words(count_text(task->left_out)))
                                      : tr("response, %1 jobs, %2 left out; %3")
                                            .arg(words(count_text(task->run.count)), words(count_text(task->left_out)),
                                                 words(job_rule_text(lane.rule))));
        figures_->setText("<table width=\"100%\"><tr>" + cell(tr("least"), length_text(shown.least)) +
                          cell(tr("mean"), length_text(shown.mean)) + cell(tr("99 %"), length_text(shown.p99)) +
                          "</tr><tr>" + cell(tr("greatest"), length_text(shown.greatest), loud) +
                          cell(tr("running, mean"), length_text(task->run.mean)) +
                          cell(tr("share"), words(share_text(task->share))) + "</tr></table>");
        return;
    }
    if (row == nullptr) {
        name_->setText(tr("Measures"));
        sub_->setText(!session_.trail() ? tr("Figures of the selected interrupt or task come here.")
                      : session_.busy() ? tr("Decoding: figures come at the end.")
                                        : tr("Select an interrupt or a task in the lanes."));
        figures_->clear();
        return;
    }
    name_->setText(words(row->name));
    QString sub =
        tr("duration, %1 executions, %2 left out").arg(words(count_text(row->count)), words(count_text(row->left_out)));
    if (row->bounded > 0)
        sub +=
            tr("; %1 known within ≤ %2").arg(words(count_text(row->bounded)), words(duration_text(row->widest_bound)));
    sub_->setText(sub);
    bool loud = false;
    for (const auto& f : session_.findings())
        loud = loud || (f.kind == FindingKind::duration_outlier && f.core_index == s.core && f.lane == s.lane);
    figures_->setText("<table width=\"100%\"><tr>" + cell(tr("least"), length_text(row->least)) +
                      cell(tr("mean"), length_text(row->mean)) + cell(tr("99 %"), length_text(row->p99)) + "</tr><tr>" +
                      cell(tr("greatest"), length_text(row->greatest), loud) +
                      cell(tr("period"), length_text(row->period_mean)) +
                      cell(tr("share"), words(share_text(row->share))) + "</tr></table>");
}

MeasuresPage::MeasuresPage(Session& session, Viewpoint& view, QWidget* parent)
    : QWidget(parent), session_(session), view_(view), model_(new InterruptModel(session, this)) {
    setAccessibleName(tr("Measures of all interrupts"));
    auto* back = new QPushButton(tr("◂ Lanes"));
    back->setObjectName("back_to_lanes");
    back->setToolTip(tr("Back to the lanes (M)"));
    choice_ = new QTabBar;
    choice_->setObjectName("measures_choice");
    choice_->setDrawBase(false);
    choice_->setExpanding(false);
    for (const auto& name : {tr("Interrupts"), tr("Tasks"), tr("Locks"), tr("Queues"), tr("States")})
        choice_->addTab(name);
    filter_ = new QLineEdit;
    filter_->setObjectName("measures_filter");
    filter_->setPlaceholderText(tr("Filter by name"));
    filter_->setClearButtonEnabled(true);
    filter_->setMaximumWidth(220);
    auto* copy = new QPushButton(tr("Copy"));
    copy->setToolTip(tr("Copy the selected rows, or all, as text (Ctrl+C)"));
    auto* save = new QPushButton(tr("Save as CSV…"));
    auto* top = new QHBoxLayout;
    top->addWidget(back);
    top->addWidget(choice_);
    top->addStretch();
    top->addWidget(filter_);
    top->addWidget(copy);
    top->addWidget(save);
    sorted_ = new QSortFilterProxyModel(this);
    sorted_->setSourceModel(model_);
    sorted_->setSortRole(InterruptModel::kSortRole);
    sorted_->setFilterKeyColumn(1);
    sorted_->setFilterCaseSensitivity(Qt::CaseInsensitive);
    table_ = new QTableView;
    table_->setObjectName("interrupts");
    table_->setModel(sorted_);
    table_->setSortingEnabled(true);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setAlternatingRowColors(true);
    table_->setShowGrid(false);
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(26);
    table_->horizontalHeader()->setHighlightSections(false);
    table_->horizontalHeader()->setSectionsMovable(true);
    table_->setHorizontalScrollMode(QAbstractItemView::ScrollPerPixel);
    hint_ = new QLabel(tr(
        "A click leads every view to the longest execution, job, wait or stay; a double click shows it in the lanes."));
    hint_->setFont(text_font(11));
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(12, 8, 12, 6);
    column->addLayout(top);
    tasks_ = new FigureTable(FigureTable::Of::tasks, session, view);
    locks_ = new FigureTable(FigureTable::Of::locks, session, view);
    queues_ = new FigureTable(FigureTable::Of::queues, session, view);
    states_ = new FigureTable(FigureTable::Of::states, session, view);
    tables_ = new QStackedWidget;
    tables_->addWidget(table_);
    for (FigureTable* t : {tasks_, locks_, queues_, states_}) {
        tables_->addWidget(t);
        connect(t, &FigureTable::place_chosen, this, &MeasuresPage::place_chosen);
        connect(filter_, &QLineEdit::textChanged, t, &FigureTable::set_filter);
    }
    connect(choice_, &QTabBar::currentChanged, tables_, &QStackedWidget::setCurrentIndex);
    column->addWidget(tables_, 1);
    column->addWidget(hint_);
    auto* copy_keys = new QShortcut(QKeySequence::Copy, table_);
    copy_keys->setContext(Qt::WidgetWithChildrenShortcut);
    const auto copy_now = [this] { QGuiApplication::clipboard()->setText(copied_text()); };
    connect(copy_keys, &QShortcut::activated, this, copy_now);
    connect(copy, &QPushButton::clicked, this, copy_now);
    connect(save, &QPushButton::clicked, this, &MeasuresPage::save_wanted);
    connect(back, &QPushButton::clicked, this, &MeasuresPage::back_wanted);
    connect(filter_, &QLineEdit::textChanged, sorted_, &QSortFilterProxyModel::setFilterFixedString);
    connect(table_->selectionModel(), &QItemSelectionModel::currentRowChanged, this, &MeasuresPage::row_selected);
    const auto go = [this](const QModelIndex& index, bool leave) {
        const auto& row = session_.rows()[static_cast<std::size_t>(sorted_->mapToSource(index).row())];
        const ExceptionLane& lane = session_.trail()->cores[row.core].lanes[row.lane];
        if (lane.size() > 0) emit instance_chosen(row.core, row.lane, lane.longest(0, lane.size()), leave);
    };
    connect(table_, &QTableView::clicked, this, [go](const QModelIndex& index) { go(index, false); });
    connect(table_, &QTableView::doubleClicked, this, [go](const QModelIndex& index) { go(index, true); });
    const auto renew = [this] {
        model_->renew();
        table_->resizeColumnsToContents();
        for (int c = 0; c < model_->columnCount(); ++c)
            table_->setColumnWidth(c, std::min(260, table_->columnWidth(c) + 14));
    };
    table_->sortByColumn(-1, Qt::AscendingOrder);                           // by priority, until a person sorts
    table_->horizontalHeader()->moveSection(model_->columnCount() - 1, 2);  // the core, behind the name
    connect(&session, &Session::opened, this, renew);
    connect(&session, &Session::finished, this, renew);
    connect(&session, &Session::opened, this, &MeasuresPage::renew_choice);
    connect(&session, &Session::finished, this, &MeasuresPage::renew_choice);
    renew_choice();
    connect(&view, &Viewpoint::selection_changed, this, [this] {
        const Selection s = view_.selection();
        for (int i = 0; i < sorted_->rowCount(); ++i) {
            const auto& row =
                session_.rows()[static_cast<std::size_t>(sorted_->mapToSource(sorted_->index(i, 0)).row())];
            if (row.core != s.core || static_cast<int>(row.lane) != s.lane) continue;
            following_ = true;
            if (table_->currentIndex().row() != i) table_->setCurrentIndex(sorted_->index(i, 1));
            following_ = false;
        }
    });
}

// Only what the recording tells of can be chosen.
void MeasuresPage::renew_choice() {
    const auto trail = session_.trail();
    const bool tasks = trail && !trail->tasks.tasks.empty();
    choice_->setTabVisible(1, tasks);
    choice_->setTabVisible(2, tasks && !trail->tasks.locks.empty());
    choice_->setTabVisible(3, tasks && !trail->tasks.queues.empty());
    choice_->setTabVisible(4, trail && std::any_of(trail->tasks.values.begin(), trail->tasks.values.end(),
                                                   [](const ValueLane& v) { return !v.value_names.empty(); }));
    if (!choice_->isTabVisible(choice_->currentIndex())) choice_->setCurrentIndex(0);
    if (session_.busy()) choice_->setCurrentIndex(tasks ? 1 : 0);
}

void MeasuresPage::row_selected() {
    const QModelIndex index = sorted_->mapToSource(table_->currentIndex());
    if (following_ || !index.isValid()) return;
    const auto& row = session_.rows()[static_cast<std::size_t>(index.row())];
    if (view_.selection().core == row.core && view_.selection().lane == static_cast<int>(row.lane)) return;
    view_.select({row.core, static_cast<int>(row.lane), std::nullopt});
}

QString MeasuresPage::copied_text() const { return table_text(*qobject_cast<QTableView*>(tables_->currentWidget())); }

}  // namespace mt::app
