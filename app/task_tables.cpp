#include "task_tables.h"

#include <QClipboard>
#include <QGuiApplication>
#include <QHeaderView>
#include <QShortcut>
#include <QSortFilterProxyModel>

#include <algorithm>

#include "base/text.h"
#include "table_text.h"
#include "theme.h"

namespace mt::app {
namespace {

QString words(const std::string& s) { return QString::fromStdString(s); }

struct Cell {
    QString text;
    double value = 0;
    bool left = false;
};
struct Heading {
    const char *name, *meaning;
};

Cell named(const std::string& s) { return {words(s), 0, true}; }
Cell count(std::uint64_t n) { return {words(count_text(n)), static_cast<double>(n)}; }
Cell length(const std::optional<Time>& t) {
    return {t ? words(duration_text(*t)) : QStringLiteral("–"), t ? static_cast<double>(t->ps) : -1};
}
Cell share(double s) { return {words(share_text(s)), s}; }

const std::vector<Heading> kTasks = {
    {QT_TR_NOOP("name"), QT_TR_NOOP("from the trace")},
    {QT_TR_NOOP("core"), QT_TR_NOOP("where it ran last")},
    {QT_TR_NOOP("priority"), QT_TR_NOOP("base priority; higher is more urgent")},
    {QT_TR_NOOP("jobs"), QT_TR_NOOP("whole jobs, from ready to the end of the job")},
    {QT_TR_NOOP("left out"), QT_TR_NOOP("jobs cut by a gap or by the recording's ends; in no figure")},
    {QT_TR_NOOP("run mean"), QT_TR_NOOP("mean processor time of a job")},
    {QT_TR_NOOP("run most"), QT_TR_NOOP("greatest processor time of a job")},
    {QT_TR_NOOP("response mean"), QT_TR_NOOP("mean time from ready to the end of the job")},
    {QT_TR_NOOP("response 99 %"), QT_TR_NOOP("99 % of the responses are not longer")},
    {QT_TR_NOOP("response most"), QT_TR_NOOP("longest response")},
    {QT_TR_NOOP("start most"), QT_TR_NOOP("longest time from ready to the first run")},
    {QT_TR_NOOP("period mean"), QT_TR_NOOP("mean time from ready to ready")},
    {QT_TR_NOOP("period least"), QT_TR_NOOP("shortest time from ready to ready, never across a gap")},
    {QT_TR_NOOP("period most"), QT_TR_NOOP("longest time from ready to ready, never across a gap")},
    {QT_TR_NOOP("cut into"), QT_TR_NOOP("how often another task took the core within a job")},
    {QT_TR_NOOP("share"), QT_TR_NOOP("processor time by the observed time of its core")},
    {QT_TR_NOOP("first run"), QT_TR_NOOP("when it ran first, from the start of the recording")}};
const std::vector<Heading> kLocks = {
    {QT_TR_NOOP("name"), QT_TR_NOOP("from the trace")},
    {QT_TR_NOOP("held"), QT_TR_NOOP("how often it was taken and given back")},
    {QT_TR_NOOP("left out"), QT_TR_NOOP("holdings cut by a gap or by the recording's end")},
    {QT_TR_NOOP("held mean"), QT_TR_NOOP("mean time from take to give")},
    {QT_TR_NOOP("held most"), QT_TR_NOOP("longest time from take to give")},
    {QT_TR_NOOP("waits"), QT_TR_NOOP("how often somebody had to wait for it")},
    {QT_TR_NOOP("wait mean"), QT_TR_NOOP("mean wait until it was had")},
    {QT_TR_NOOP("wait most"), QT_TR_NOOP("longest wait until it was had")},
    {QT_TR_NOOP("never had"), QT_TR_NOOP("waits that had not ended when the recording did")},
    {QT_TR_NOOP("share"), QT_TR_NOOP("of the time in which it was held")}};
const std::vector<Heading> kQueues = {
    {QT_TR_NOOP("name"), QT_TR_NOOP("from the trace")},
    {QT_TR_NOOP("sent"), QT_TR_NOOP("entries sent")},
    {QT_TR_NOOP("received"), QT_TR_NOOP("entries received")},
    {QT_TR_NOOP("refused"), QT_TR_NOOP("entries lost because it was full")},
    {QT_TR_NOOP("fill most"), QT_TR_NOOP("greatest number of entries")},
    {QT_TR_NOOP("stay mean"), QT_TR_NOOP("mean time from an entry's send to its receive")},
    {QT_TR_NOOP("stay 99 %"), QT_TR_NOOP("99 % of the entries do not stay longer")},
    {QT_TR_NOOP("stay most"), QT_TR_NOOP("longest time from send to receive")}};

const std::vector<Heading> kStates = {
    {QT_TR_NOOP("name"), QT_TR_NOOP("what the value stands for: a state, or a runnable")},
    {QT_TR_NOOP("of"), QT_TR_NOOP("the variable or port")},
    {QT_TR_NOOP("core"), QT_TR_NOOP("which core told it")},
    {QT_TR_NOOP("stays"), QT_TR_NOOP("how often it came and went")},
    {QT_TR_NOOP("left out"), QT_TR_NOOP("stays cut by a gap or by the recording's end; in no figure")},
    {QT_TR_NOOP("stay least"), QT_TR_NOOP("shortest stay")},
    {QT_TR_NOOP("stay mean"), QT_TR_NOOP("mean stay")},
    {QT_TR_NOOP("stay 99 %"), QT_TR_NOOP("99 % of the stays are not longer")},
    {QT_TR_NOOP("stay most"), QT_TR_NOOP("longest stay")},
    {QT_TR_NOOP("period mean"), QT_TR_NOOP("mean time from begin to begin, never across a gap")},
    {QT_TR_NOOP("period most"), QT_TR_NOOP("longest time from begin to begin, never across a gap")},
    {QT_TR_NOOP("share"), QT_TR_NOOP("of all stays of the same variable or port")}};

}  // namespace

class FigureTable::Model : public QAbstractTableModel {
  public:
    Model(Of of, const Session& session, QObject* parent)
        : QAbstractTableModel(parent),
          of_(of),
          session_(session),
          headings_(of == Of::tasks    ? kTasks
                    : of == Of::locks  ? kLocks
                    : of == Of::queues ? kQueues
                                       : kStates) {}

    int rowCount(const QModelIndex& parent = {}) const override {
        return parent.isValid() ? 0 : static_cast<int>(rows_.size());
    }
    int columnCount(const QModelIndex& parent = {}) const override {
        return parent.isValid() ? 0 : static_cast<int>(headings_.size());
    }
    QVariant data(const QModelIndex& index, int role) const override {
        const Cell& c = rows_[static_cast<std::size_t>(index.row())][static_cast<std::size_t>(index.column())];
        if (role == Qt::DisplayRole) return c.text;
        if (role == Qt::UserRole) return c.left ? QVariant(c.text) : QVariant(c.value);
        if (role == Qt::TextAlignmentRole)
            return QVariant(Qt::AlignVCenter | (c.left ? Qt::AlignLeft : Qt::AlignRight));
        if (role == Qt::FontRole) return c.left ? text_font(12, index.column() == 0) : fixed_font(11);
        return {};
    }
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override {
        if (orientation != Qt::Horizontal) return {};
        const Heading& h = headings_[static_cast<std::size_t>(section)];
        if (role == Qt::DisplayRole) return FigureTable::tr(h.name);
        if (role == Qt::ToolTipRole) return FigureTable::tr(h.meaning);
        if (role == Qt::TextAlignmentRole) {
            const bool left = section == 0 || (!rows_.empty() && rows_[0][static_cast<std::size_t>(section)].left);
            return QVariant(Qt::AlignVCenter | (left ? Qt::AlignLeft : Qt::AlignRight));
        }
        return {};
    }
    void renew() {
        beginResetModel();
        rows_.clear();
        if (of_ == Of::tasks)
            for (const TaskRow& r : session_.task_rows()) {
                const TaskLane& lane = session_.trail()->tasks.tasks[r.task];
                rows_.push_back({named(r.name),
                                 {words(r.core_name), 0, true},
                                 r.idle             ? Cell{FigureTable::tr("idle"), -1e9}
                                 : r.priority_known ? Cell{QString::number(r.priority), double(r.priority)}
                                                    : Cell{},
                                 count(r.run.count),
                                 count(r.left_out),
                                 length(r.run.mean),
                                 length(r.run.greatest),
                                 length(r.response.mean),
                                 length(r.response.p99),
                                 length(r.response.greatest),
                                 length(r.latency.greatest),
                                 length(r.period.mean),
                                 length(r.period.least),
                                 length(r.period.greatest),
                                 count(r.preemptions),
                                 share(r.share),
                                 lane.ran ? Cell{words(duration_text(lane.first_run)), double(lane.first_run.ps)}
                                          : Cell{FigureTable::tr("never"), -1}});
            }
        if (of_ == Of::locks)
            for (const LockRow& r : session_.lock_rows())
                rows_.push_back({named(r.name), count(r.hold.count), count(r.left_out), length(r.hold.mean),
                                 length(r.hold.greatest), count(r.contention), length(r.wait.mean),
                                 length(r.wait.greatest), count(r.never_got), share(r.share)});
        if (of_ == Of::queues)
            for (const QueueRow& r : session_.queue_rows())
                rows_.push_back({named(r.name), count(r.sent), count(r.received), count(r.failed), count(r.peak),
                                 length(r.stay.mean), length(r.stay.p99), length(r.stay.greatest)});
        if (of_ == Of::states)
            for (const StateRow& r : session_.state_rows())
                rows_.push_back({named(r.name), named(r.lane_name), named(r.core_name), count(r.stay.count),
                                 count(r.left_out), length(r.stay.least), length(r.stay.mean), length(r.stay.p99),
                                 length(r.stay.greatest), length(r.period.mean), length(r.period.greatest),
                                 share(r.share)});
        endResetModel();
    }

  private:
    Of of_;
    const Session& session_;
    const std::vector<Heading>& headings_;
    std::vector<std::vector<Cell>> rows_;
};

FigureTable::FigureTable(Of of, Session& session, Viewpoint& view, QWidget* parent)
    : QTableView(parent), of_(of), session_(session), view_(view), model_(new Model(of, session, this)) {
    sorted_ = new QSortFilterProxyModel(this);
    sorted_->setSourceModel(model_);
    sorted_->setSortRole(Qt::UserRole);
    sorted_->setFilterKeyColumn(0);
    sorted_->setFilterCaseSensitivity(Qt::CaseInsensitive);
    setModel(sorted_);
    setSortingEnabled(true);
    sortByColumn(-1, Qt::AscendingOrder);
    setSelectionBehavior(QAbstractItemView::SelectRows);
    setAlternatingRowColors(true);
    setShowGrid(false);
    verticalHeader()->hide();
    verticalHeader()->setDefaultSectionSize(26);
    horizontalHeader()->setHighlightSections(false);
    horizontalHeader()->setSectionsMovable(true);
    setHorizontalScrollMode(QAbstractItemView::ScrollPerPixel);
    auto* copy = new QShortcut(QKeySequence::Copy, this);
    copy->setContext(Qt::WidgetWithChildrenShortcut);
    connect(copy, &QShortcut::activated, this, [this] { QGuiApplication::clipboard()->setText(copied_text()); });
    connect(this, &QTableView::clicked, this, [this](const QModelIndex& i) { go(i, false); });
    connect(this, &QTableView::doubleClicked, this, [this](const QModelIndex& i) { go(i, true); });
    connect(&session, &Session::opened, this, &FigureTable::renew);
    connect(&session, &Session::finished, this, &FigureTable::renew);
}

void FigureTable::renew() {
    model_->renew();
    resizeColumnsToContents();
    for (int c = 0; c < model_->columnCount(); ++c) setColumnWidth(c, std::min(260, columnWidth(c) + 14));
}

void FigureTable::set_filter(const QString& text) { sorted_->setFilterFixedString(text); }
QString FigureTable::copied_text() const { return table_text(*this); }
int FigureTable::rows() const { return sorted_->rowCount(); }
QString FigureTable::cell(int row, int column) const { return sorted_->index(row, column).data().toString(); }

// To the longest response, the longest wait, the fullest moment, the longest stay.
void FigureTable::go(const QModelIndex& index, bool leave) {
    const auto row = static_cast<std::size_t>(sorted_->mapToSource(index).row());
    const TaskTrail& tasks = session_.trail()->tasks;
    if (of_ == Of::tasks) {
        const std::size_t task = session_.task_rows()[row].task;
        const TaskLane& lane = tasks.tasks[task];
        if (lane.jobs.empty()) return;
        const std::size_t job = lane.longest_response.argmax(0, lane.jobs.size(), [&](std::size_t i) {
            return lane.jobs[i].whole() ? lane.jobs[i].response() : Time{};
        });
        emit place_chosen({lane.core, -1, job, static_cast<int>(task)}, lane.jobs[job].ready, lane.jobs[job].end,
                          leave);
    } else if (of_ == Of::locks) {
        const LockLane& lane = tasks.locks[session_.lock_rows()[row].lock];
        std::optional<LockWait> longest;
        for (std::size_t i = 0; i < lane.waits.size(); ++i)
            if (!longest || lane.waits[i].end - lane.waits[i].begin > longest->end - longest->begin)
                longest = lane.waits[i];
        if (longest && longest->task < tasks.tasks.size()) {
            const TaskLane& waiter = tasks.tasks[longest->task];
            emit place_chosen({waiter.core, -1, waiter.job_from(longest->end), static_cast<int>(longest->task)},
                              longest->begin, longest->end, leave);
        } else if (lane.holds.size() > 0) {
            std::size_t worst = 0;
            for (std::size_t i = 0; i < lane.holds.size(); ++i)
                if (lane.holds[i].end - lane.holds[i].begin > lane.holds[worst].end - lane.holds[worst].begin)
                    worst = i;
            const LockHold& h = lane.holds[worst];
            if (h.task < tasks.tasks.size())
                emit place_chosen(
                    {tasks.tasks[h.task].core, -1, tasks.tasks[h.task].job_from(h.end), static_cast<int>(h.task)},
                    h.begin, h.end, leave);
        }
    } else if (of_ == Of::states) {
        const StateRow& r = session_.state_rows()[row];
        if (r.stay.count > 0) emit place_chosen(view_.selection(), r.worst_begin, r.worst_end, leave);
    } else {
        const QueueLane& lane = tasks.queues[session_.queue_rows()[row].queue];
        if (lane.ops.empty()) return;
        std::size_t fullest = 0;
        for (std::size_t i = 0; i < lane.ops.size(); ++i)
            if (lane.ops[i].fill > lane.ops[fullest].fill) fullest = i;
        emit place_chosen(view_.selection(), lane.ops[fullest].time, lane.ops[fullest].time, leave);
    }
}

}  // namespace mt::app
