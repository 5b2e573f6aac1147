// What the tables of packets, of system events and of text have in common: rows of equal height, only those on the
// screen drawn.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <vector>

#include <QAbstractScrollArea>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QPainter>
#include <QStringList>
#include <QTimer>

#include "base/progress.h"
#include "base/time.h"
#include "document/document.h"
#include "document/job_queue.h"
#include "evidence/evidence_page.h"
#include "look/long_scroll.h"
#include "look/theme.h"
#include "navigate/viewpoint.h"

namespace mt::app {

/// A heading, rows below it, one current row and a selection that reaches from the anchor to it. A field leaves only
/// the rows that have a text; columns can be hidden and drawn wider. Rows keep their numbers whether others are shown
/// or not.
class RowTable : public QAbstractScrollArea, public EvidencePage {
    Q_OBJECT
  public:
    static constexpr std::uint64_t kMostCopied = 100'000;  ///< rows at a time

    RowTable(Document& document, Viewpoint& view, QWidget* parent = nullptr);
    ~RowTable() override;
    QWidget* widget() override { return this; }
    std::size_t stream() const override { return stream_; }
    /// Nothing is selected in it; the row of the cursor comes into view.
    void use_stream(std::size_t stream) override;
    bool can_find() const override { return true; }
    virtual std::uint64_t row_count() const = 0;
    std::optional<std::uint64_t> current_row() const { return current_; }
    virtual void copy_selected() = 0;
    QLineEdit* filter() const { return filter_; }
    /// How many rows there are to be seen: those that have the filter's text.
    std::uint64_t shown_count() const { return shown_ ? shown_->size() : row_count(); }
    /// Whether rows are still being looked through.
    bool filtering() const { return filtering_; }
    QStringList columns_shown() const;
    void set_column_shown(std::size_t column, bool on);

  protected:
    using Rows = std::vector<std::uint64_t>;
    /// Tells of rows that have the text, ascending, in batches; stops when that returns false.
    using Scan = std::function<void(const std::function<bool(Rows)>& found)>;

    /// Looks through all rows; what comes back runs on another thread and must hold all that it needs.
    virtual Scan scan_for(const QString& text) = 0;
    /// Once, in the constructor: the columns, and what a person made of them before.
    void set_columns(const QStringList& names, std::vector<int> widths);
    /// The width of a column, 0 if it is hidden.
    int width_of(std::size_t column) const { return columns_[column].hidden ? 0 : columns_[column].width; }
    std::size_t column_count() const { return columns_.size(); }
    /// The rows that are shown; null: all.
    std::shared_ptr<const Rows> shown() const { return shown_; }
    /// Whether a row is among those of a filter; `shown` null: all are.
    static bool is_shown(const std::shared_ptr<const Rows>& shown, std::uint64_t row);
    static constexpr int kRow = 21, kHead = 24;

    /// The time of a row; nothing while it is still being decoded.
    virtual std::optional<Time> time_of(std::uint64_t row) = 0;
    /// The row of the cursor's time becomes the current one, as soon as it is decoded.
    virtual void follow_cursor() = 0;
    /// Room that is shown around a row that is double clicked.
    virtual Time room() const = 0;

    /// What else can be done with the current row.
    virtual void add_to_menu(QMenu&) {}
    /// The ground, the headings, and, where there are no rows, `empty` in their place.
    void paint_head(QPainter& p, const QString& empty);
    /// Calls `paint` with each row on the screen and where it is; what is selected has its ground.
    template <class Paint>
    void each_row_shown(QPainter& p, Paint paint) {
        const std::uint64_t top = top_line(), n = shown_count();
        for (int i = 0; i <= rows_shown() && top + static_cast<std::uint64_t>(i) < n; ++i) {
            const std::uint64_t row = row_at(top + static_cast<std::uint64_t>(i));
            const QRect area(0, kHead + i * kRow, viewport()->width(), kRow);
            if (selected(row)) p.fillRect(area, theme().selected);
            paint(row, area.top());
        }
    }
    void renew();
    int rows_shown() const;
    std::uint64_t top_row() const { return shown_count() == 0 ? 0 : row_at(top_line()); }
    void go_to_row(std::int64_t row, bool extend);
    /// The cursor goes to the row's time; waits for the row if it is not decoded yet.
    void place(std::uint64_t row);
    /// Makes a row the current one and scrolls to it, without moving the cursor.
    void follow_to(std::uint64_t row);
    void forget();
    bool selected(std::uint64_t row) const;

    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void showEvent(QShowEvent*) override;
    bool event(QEvent*) override;
    bool eventFilter(QObject* watched, QEvent* e) override;
    void contextMenuEvent(QContextMenuEvent*) override;

    Document& document_;
    Viewpoint& view_;
    std::size_t stream_ = 0;
    std::optional<std::uint64_t> current_, anchor_;
    std::optional<Time> wanted_;  ///< the cursor's time, to be scrolled to when its block has come
    std::optional<std::uint64_t> place_when_there_;

  private:
    struct Column {
        QString name;
        int width = 0;
        bool hidden = false;
    };
    std::uint64_t top_line() const;
    std::uint64_t row_at(std::uint64_t line) const;
    /// The line of a row, or of the next one that is shown.
    std::uint64_t line_of(std::uint64_t row) const;
    void go_to_line(std::int64_t line, bool extend);
    void place_filter();
    void begin_filter();
    void end_filter();
    void keep_columns() const;
    void column_menu(const QPoint& at);

    std::vector<Column> columns_;
    int resizing_ = -1;
    QLineEdit* filter_;
    QLabel* count_;
    QTimer filter_later_;
    std::shared_ptr<const Rows> shown_;
    std::shared_ptr<Progress> filter_progress_;
    bool filtering_ = false;
    LongScroll scroll_{verticalScrollBar()};
    bool own_move_ = false;
    JobQueue filter_jobs_;  ///< last: its end waits for what uses the rest
};

}  // namespace mt::app
