// The lanes: interrupts by priority and thread mode over time, one row each.
#pragma once

#include <optional>
#include <vector>

#include <QWidget>

#include "block_store.h"
#include "inlined_stays.h"
#include "job_queue.h"
#include "line_texts.h"
#include "paced_update.h"
#include "session.h"
#include "viewpoint.h"

namespace mt::app {

class Lanes : public QWidget {
    Q_OBJECT
  public:
    Lanes(Session& session, Viewpoint& view, BlockStore& store, QWidget* parent = nullptr);
    QSize minimumSizeHint() const override { return {420, 160}; }

    /// While set, a drag in the lanes sets A and B (both snap to edges) instead of panning.
    void set_measuring(bool on);
    bool measuring() const { return measuring_; }
    void set_key_shown(bool on);
    bool key_shown() const { return key_shown_; }

    /// The edge (an entry or exit in any lane) nearest to `t` within `reach`, else `t`.
    Time snapped(Time t, Time reach) const;
    /// Goes to an instance: selects it, and shows it with some room around it.
    void go_to_instance(std::size_t core, std::size_t lane, std::size_t instance);
    /// Goes to what a selection names: an execution of an interrupt or a job of a task.
    void go_to(const Selection& place);
    /// Goes to a job of a task: selects it, and shows it with those that compete with it.
    void go_to_job(std::size_t task, std::size_t job);
    /// Where a task's row is drawn; empty if it is not shown.
    QRectF task_rect(std::size_t task) const;
    /// The instance after (or before) the cursor in the selected lane.
    void step_instance(int direction);
    void go_to_longest();
    void select_neighbour(int direction);
    /// Where a row is drawn, for tests and for the accessible description; empty if it is not shown.
    QRectF row_rect(std::size_t core, int lane) const;
    double x_of(Time t) const;
    Time time_at(double x) const;

    /// One call in the call stack of a core: its depth, and which of that depth.
    struct Call {
        std::size_t core = 0, level = 0, index = 0;
        bool operator==(const Call&) const = default;
    };
    /// Rows that are no interrupt; tasks, values and queues stand at and below their base.
    static constexpr int kThread = -1, kCalls = -2, kTasks = -1000, kValues = -2'000'000, kQueues = -3'000'000,
                         kMarks = -4'000'000;
    static int row_of_task(std::size_t task) { return kTasks - static_cast<int>(task); }
    static int row_of_value(std::size_t value) { return kValues - static_cast<int>(value); }
    static int row_of_queue(std::size_t queue) { return kQueues - static_cast<int>(queue); }
    static int row_of_mark(std::size_t mark) { return kMarks - static_cast<int>(mark); }
    const std::optional<Call>& call() const { return call_; }
    /// Whether the way of each task from the recording's start to its first run is drawn.
    /// Where the lanes begin, behind their headings.
    double plot_left_edge() const { return plot_left(); }
    /// Lanes of all cores in one nest, by what they are, instead of core by core.
    void set_merged(bool on);
    bool merged() const { return merged_; }
    /// The lanes from top to bottom as their headings read, for tests.
    QStringList headings() const;
    void set_start_shown(bool on);
    /// Selects a call and shows it with some room around it.
    void go_to_call(const Call& call);
    /// Where a call is drawn; empty if its row is not shown.
    QRectF call_rect(const Call& call) const;
    /// To the next (1) or previous (-1) call of the selected call's function, to its caller (-1) or callee (1), to the
    /// longest call of its function. False if no call is selected.
    bool step_call(int direction);
    bool step_depth(int direction);
    bool go_to_longest_call();
    /// To the next call of its function, at the same depth, that went another way; looked for on a worker.
    void go_to_next_difference();

  signals:
    void measuring_changed(bool on);
    void call_selected(std::size_t core, unsigned function);
    /// Something that a person asked for was not found.
    void missed(const QString& text);
    /// A person says where the jobs of a task begin and end.
    void job_rule_wanted(std::size_t task, const mt::JobRule& rule);

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void contextMenuEvent(QContextMenuEvent*) override;
    void leaveEvent(QEvent*) override;
    bool event(QEvent*) override;

  private:
    struct Row {
        std::size_t core;
        int lane;  ///< of an interrupt; kThread or kCalls
        double top, height;
        bool folded;
    };
    enum class Drag { none, waiting, pan, zoom, ruler, ruler_a, ruler_b };

    void lay_out();
    const Row* row_at(double y) const;
    std::optional<std::size_t> instance_at(const Row& row, double x) const;
    void paint_axis(QPainter& p);
    std::pair<QString, QString> heading(const Row& row) const;
    void paint_row(QPainter& p, const Row& row);
    void paint_interrupts(QPainter& p, const Row& row);
    void paint_instance(QPainter& p, const CoreTrail& core, const ExceptionLane& lane, std::size_t i,
                        const QRectF& band);
    void paint_thread(QPainter& p, const Row& row);
    void paint_samples(QPainter& p, const Row& row);
    void paint_tail_chains(QPainter& p, const Row& row);
    void paint_gaps(QPainter& p);
    void paint_gap(QPainter& p, const Gap& g, double top, double bottom);
    void paint_finding(QPainter& p);
    void paint_ruler(QPainter& p);
    void paint_key(QPainter& p);
    const StepTrail* steps_of(std::size_t core) const;
    std::size_t depth_in_view(std::size_t core) const;
    std::optional<Call> call_at(const Row& row, const QPointF& at) const;
    bool too_short(const StepTrail& steps) const;
    void paint_calls(QPainter& p, const Row& row);
    void paint_inlined(QPainter& p, const Row& row, const StepTrail& steps);
    static std::optional<std::size_t> task_of(const Row& row);
    static std::optional<std::size_t> value_of(const Row& row);
    static std::optional<std::size_t> queue_of(const Row& row);
    static std::optional<std::size_t> mark_of(const Row& row);
    std::optional<std::size_t> job_at(std::size_t task, double x) const;
    void paint_task(QPainter& p, const Row& row, const TaskLane& lane);
    void paint_task_running(QPainter& p, std::size_t core, Time from, Time to, const QRectF& bar);
    void paint_value(QPainter& p, const Row& row, const ValueLane& lane);
    void paint_queue(QPainter& p, const Row& row, const QueueLane& lane);
    void paint_marks(QPainter& p, const Row& row, const MarkLane& lane);
    void paint_named_value(QPainter& p, const Row& row, const ValueLane& lane);
    QRectF interrupt_rect(std::size_t core, std::uint32_t who) const;
    void paint_message_links(QPainter& p, std::size_t task, const TaskJob& job);
    void paint_start(QPainter& p);
    void paint_lock_links(QPainter& p);
    void paint_job_links(QPainter& p);
    QString describe_task(std::size_t task, double x) const;
    bool step_job(int direction);
    bool go_to_longest_job();
    QString describe_call(const Call& call);
    void select_call(std::optional<Call> call);
    Time snapped_to(Time t, const CallSpan& s) const;
    QString describe(const Row& row, double x) const;
    double plot_left() const;
    double scroll_limit() const;

    Session& session_;
    Viewpoint& view_;
    BlockStore& store_;
    PacedUpdate growth_;
    LineTexts texts_;
    std::vector<Row> rows_;
    bool merged_ = false;
    bool start_shown_ = false;
    bool reveal_call_ = false;        ///< the selected call is to be scrolled into view
    bool reveal_ = false;             ///< the selected row is kept in sight until a person scrolls
    std::vector<std::size_t> order_;  ///< of tasks, the most urgent first
    std::weak_ptr<const Trail> ordered_;
    std::optional<Call> call_;
    bool measuring_ = false, key_shown_ = false;
    Drag drag_ = Drag::none;
    QPointF pressed_, mouse_;
    Time pressed_from_{}, pressed_to_{};
    double panned_ = 0;  ///< pixels of this drag that were followed
    double scroll_ = 0, content_ = 0;
    std::shared_ptr<Progress> comparing_;
    InlinedStays inlined_;
    JobQueue jobs_;  ///< last: its end waits for what uses the rest
};

}  // namespace mt::app
