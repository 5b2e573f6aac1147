// The lanes: everything that happens over time, a row for each, whatever it is.
#pragma once

#include <optional>
#include <set>
#include <vector>

#include <QWidget>

#include "document/block_store.h"
#include "document/document.h"
#include "document/inlined_stays.h"
#include "document/job_queue.h"
#include "document/judgement.h"
#include "lanes/painters.h"
#include "look/line_texts.h"
#include "look/paced_update.h"
#include "navigate/navigator.h"

class QMenu;

namespace mt::app {

class Lanes : public QWidget {
    Q_OBJECT
  public:
    Lanes(Document& document, Viewpoint& view, Navigator& navigator, BlockStore& store, Judgement& judgement,
          QWidget* parent = nullptr);
    QSize minimumSizeHint() const override { return {420, 160}; }

    /// While set, a drag in the lanes sets A and B (both snap to edges) instead of panning.
    void set_measuring(bool on);
    bool measuring() const { return measuring_; }
    void set_key_shown(bool on);
    bool key_shown() const { return key_shown_; }
    /// Lanes of all cores in one nest, by what they are, instead of core by core.
    void set_merged(bool on);
    bool merged() const { return merged_; }
    /// Whether the way of each task from the recording's start to its first run is drawn.
    void set_start_shown(bool on);
    bool start_shown() const { return start_shown_; }
    /// Kinds, by their id, whose lanes are not drawn.
    void set_hidden_kinds(std::set<std::string> ids);
    const std::set<std::string>& hidden_kinds() const { return hidden_; }

    /// Whether lanes of numbers are scaled to what is in view, or to all that was told. Remembered.
    void set_to_visible(bool on);
    bool to_visible() const { return to_visible_; }

    /// The edge (a begin or end in any lane) nearest to `t` within `reach`, else `t`.
    Time snapped(Time t, Time reach) const;
    /// To an edge of the lane under the mouse, where it has one within `reach`; else as above.
    Time snapped(const QPointF& at, Time reach) const;
    /// To the lane above (-1) or below (1); in a stack to the caller or the first callee.
    void select_neighbour(int direction);
    /// To the next call of its function, at the same depth, that went another way; looked for on a worker.
    void go_to_next_difference();

    /// Where a lane is drawn, for tests and for the accessible description; empty if it is not shown.
    QRectF row_rect(const LaneId& lane) const;
    /// Where a span is drawn; empty if its lane is not shown.
    QRectF span_rect(const SpanRef& span) const;
    double x_of(Time t) const;
    Time time_at(double x) const;
    /// Where the lanes begin, behind their headings.
    double plot_left_edge() const { return plot_left(); }
    /// The lanes from top to bottom as their headings read, for tests.
    QStringList headings() const;
    /// The same one by one, for assistive technology: which lane, what happened in it within what is visible, where it
    /// is drawn, and whether it is selected. REQUIRES: row < rows().
    int rows() const { return static_cast<int>(rows_.size()); }
    QString row_name(int row) const;
    QString row_told(int row) const;
    QRectF row_area(int row) const;
    bool row_selected(int row) const;
    /// What is said of a place when the mouse rests there.
    QString told_at(const QPointF& at) const;

  signals:
    void measuring_changed(bool on);
    void call_selected(std::size_t core, unsigned function);
    /// Something that a person asked for was not found.
    void missed(const QString& text);
    /// A person drew the lanes of a device (by its name) so far to the right, that its clock is corrected.
    void clock_moved(const QString& device, mt::Time by);
    /// A person wants a rule for an activity.
    void limit_wanted(const mt::LaneId& lane, quint64 activity, const QString& name);
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
        LaneId id;
        const Lane* lane;
        double top, height;
        bool folded;
        StackRows stack{};
        std::vector<std::pair<LaneId, const Lane*>> guests{};  ///< other lanes of numbers that are drawn in it
    };
    enum class Drag { none, waiting, pan, zoom, ruler, ruler_a, ruler_b, height, clock };

    // How they are used: lanes.cpp
    void lay_out();
    void reveal();
    const Row* row_at(double y) const;
    const Row* row_of(const LaneId& id) const;
    std::optional<SpanRef> span_at(const Row& row, const QPointF& at) const;
    /// Where a job of its task ends: shown, and changeable.
    void add_job_rules(QMenu& menu, const Row& row);
    bool step_depth(int direction);
    /// The row whose lower edge, in the headings, is there; null if none is. Of stacks the height follows the depth.
    const Row* edge_at(const QPointF& at) const;
    static std::string key_of(const Row& row) { return key_of(row.id, *row.lane); }
    static std::string key_of(const LaneId& id, const Lane& lane);
    void take_guests();
    void set_look(const std::string& key, const LineLook& look);
    /// How it is drawn, how it is scaled, in whose row.
    void add_line_looks(QMenu& menu, const Row& row);
    /// In a row of several: the one whose name in the headings is there, else the first.
    LaneId lane_at(const Row& row, const QPointF& at) const;
    void paint_lines(QPainter& p, const Row& row);
    /// The device that measured a lane, if that has a clock of its own; empty for others.
    std::string device_of(const LaneId& id) const;
    void paint_moved_clock(QPainter& p);
    void set_tall(const std::string& key, double height);
    Time snapped_to(Time t, const Span& s) const;
    double plot_left() const;
    double scroll_limit() const;
    void tell_call();

    // Limits of rules: limits.cpp
    void paint_limits(QPainter& p, const Row& row);
    /// `right`: where its words end at the latest; then where they begin.
    void paint_level(QPainter& p, const Row& row, const LimitLine& limit, double& right);
    void paint_beyond(QPainter& p, const Row& row, const LimitLine& limit);
    QString rules_at(const SpanRef& span) const;
    void add_limit(QMenu& menu, const Row& row, const std::optional<SpanRef>& span);

    // How they are drawn: drawing.cpp
    Pane pane_of(QPainter& p, const Row& row) const;
    std::pair<QString, QString> heading(const Row& row) const;
    void paint_axis(QPainter& p);
    void paint_row(QPainter& p, const Row& row);
    void paint_heading(QPainter& p, const Row& row);
    void paint_gaps(QPainter& p);
    void paint_gap(QPainter& p, const Gap& g, double top, double bottom);
    void paint_finding(QPainter& p);
    void paint_due(QPainter& p, const Finding& f);
    void paint_cursor(QPainter& p);
    void paint_ruler(QPainter& p);
    void paint_key(QPainter& p);

    // What lies across lanes, or in them for one kind only: links.cpp, calls.cpp
    void paint_tail_chains(QPainter& p, const Row& row);
    void paint_samples(QPainter& p, const Row& row);
    void paint_inlined(QPainter& p, const Row& row);
    void paint_message_links(QPainter& p, std::size_t task, const TaskJob& job);
    void paint_start(QPainter& p);
    void paint_lock_links(QPainter& p);
    void paint_job_links(QPainter& p);
    QRectF actor_rect(std::size_t core, std::uint32_t who) const;
    QString inlined_at(const SpanRef& call, Time t) const;

    Document& document_;
    Viewpoint& view_;
    Navigator& navigator_;
    BlockStore& store_;
    Judgement& judgement_;
    PacedUpdate growth_;
    LineTexts texts_;
    std::shared_ptr<const LaneBook> book_;  ///< that the rows are of
    std::vector<Row> rows_;
    std::vector<LaneId> order_;
    std::set<std::string> hidden_;
    bool merged_ = false;
    bool to_visible_ = false;             ///< lines are scaled to what is in view
    LineLooks looks_;
    std::map<std::string, double> tall_;  ///< heights that a person chose, by kind and name
    std::string dragged_;                 ///< the row whose height is being changed
    double dragged_from_ = 0;
    std::string moved_device_;  ///< its lanes are being drawn along …
    Time grabbed_, moved_by_;   ///< … by this edge, so far
    bool start_shown_ = false;
    bool reveal_ = false;  ///< what is selected is kept in sight until a person scrolls
    bool measuring_ = false, key_shown_ = false;
    Drag drag_ = Drag::none;
    QPointF pressed_, mouse_;
    Time pressed_from_{}, pressed_to_{};
    double panned_ = 0;  ///< pixels of this drag that were followed
    double scroll_ = 0, content_ = 0;
    std::optional<SpanRef> told_call_;
    std::optional<SpanRef> clicked_;  ///< what the last click met
    std::shared_ptr<Progress> comparing_;
    mutable InlinedStays inlined_;
    JobQueue jobs_;  ///< last: its end waits for what uses the rest
};

}  // namespace mt::app
