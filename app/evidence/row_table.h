// What the tables of packets, of system events and of text have in common: rows of equal height, only those on the
// screen drawn.
#pragma once

#include <optional>
#include <span>

#include <QAbstractScrollArea>
#include <QPainter>
#include <QStringList>

#include "base/time.h"
#include "document/document.h"
#include "evidence/evidence_page.h"
#include "look/long_scroll.h"
#include "look/theme.h"
#include "navigate/viewpoint.h"

namespace mt::app {

/// A heading, rows below it, one current row and a selection that reaches from the anchor to it.
class RowTable : public QAbstractScrollArea, public EvidencePage {
    Q_OBJECT
  public:
    RowTable(Document& document, Viewpoint& view, QWidget* parent = nullptr);
    QWidget* widget() override { return this; }
    std::size_t stream() const override { return stream_; }
    /// Nothing is selected in it; the row of the cursor comes into view.
    void use_stream(std::size_t stream) override;
    bool can_find() const override { return true; }
    virtual std::uint64_t row_count() const = 0;
    std::optional<std::uint64_t> current_row() const { return current_; }
    virtual void copy_selected() = 0;

  protected:
    static constexpr int kRow = 21, kHead = 24;

    /// The time of a row; nothing while it is still being decoded.
    virtual std::optional<Time> time_of(std::uint64_t row) = 0;
    /// The row of the cursor's time becomes the current one, as soon as it is decoded.
    virtual void follow_cursor() = 0;
    /// Room that is shown around a row that is double clicked.
    virtual Time room() const = 0;

    /// The ground, the headings at the widths of the columns, and, where there are no rows, `empty` in their place.
    void paint_head(QPainter& p, const QStringList& headings, std::span<const int> widths, const QString& empty);
    /// Calls `paint` with each row on the screen and where it is; what is selected has its ground.
    template <class Paint>
    void each_row_shown(QPainter& p, Paint paint) {
        const std::uint64_t top = top_row(), n = row_count();
        for (int i = 0; i <= rows_shown() && top + static_cast<std::uint64_t>(i) < n; ++i) {
            const std::uint64_t row = top + static_cast<std::uint64_t>(i);
            const QRect area(0, kHead + i * kRow, viewport()->width(), kRow);
            if (selected(row)) p.fillRect(area, theme().selected);
            paint(row, area.top());
        }
    }
    void renew();
    int rows_shown() const;
    std::uint64_t top_row() const;
    void go_to_row(std::int64_t row, bool extend);
    /// The cursor goes to the row's time; waits for the row if it is not decoded yet.
    void place(std::uint64_t row);
    /// Makes a row the current one and scrolls to it, without moving the cursor.
    void follow_to(std::uint64_t row);
    void forget();
    bool selected(std::uint64_t row) const;

    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void showEvent(QShowEvent*) override;
    void contextMenuEvent(QContextMenuEvent*) override;

    Document& document_;
    Viewpoint& view_;
    std::size_t stream_ = 0;
    std::optional<std::uint64_t> current_, anchor_;
    std::optional<Time> wanted_;  ///< the cursor's time, to be scrolled to when its block has come
    std::optional<std::uint64_t> place_when_there_;

  private:
    LongScroll scroll_{verticalScrollBar()};
    bool own_move_ = false;
};

}  // namespace mt::app
