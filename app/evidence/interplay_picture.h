// The picture of who acts on whom: nodes from left to right, an edge for each way in which one acts on another.
#pragma once

#include <optional>
#include <vector>

#include <QWidget>

#include "interplay/arrange.h"
#include "interplay/interplay.h"

namespace mt::app {

/// Fits into its place until a person zooms (wheel) or moves it (drag). The window's thread only.
class InterplayPicture : public QWidget {
    Q_OBJECT
  public:
    explicit InterplayPicture(QWidget* parent = nullptr);

    /// How much room nodes and texts need, to be arranged elsewhere.
    GraphSizes sizes_of(const Interplay& interplay) const;
    /// Two ways to lay the same out, of which the one is drawn that is larger where there is room: from left to right, and
    /// from above down.
    struct Arrangements {
        Arranged across, down;
    };
    /// What is selected stays so if it is still there. `arranged` belongs to `interplay`.
    void show(Interplay interplay, Arrangements arranged);
    const Interplay& interplay() const { return interplay_; }

    std::optional<std::size_t> node() const { return node_; }
    std::optional<std::size_t> edge() const { return edge_; }
    /// Marks a node that is selected elsewhere.
    void select_node(std::optional<std::size_t> node);
    void select_edge(std::optional<std::size_t> edge);
    /// Where they are drawn; for pointers, and for tests that click.
    QPointF middle_of_node(std::size_t node) const { return shown(arranged_.nodes[node]); }
    QPointF label_of_edge(std::size_t edge) const { return shown(arranged_.edges[edge].label); }
    void fit();
    void zoom(double factor, QPointF around);
    /// What is said where nothing is drawn.
    void set_empty_text(const QString& text);

  signals:
    /// A person chose something else; both are empty if nothing.
    void selected();
    /// … and wants to be where it was worst.
    void worst_wanted(std::size_t edge);
    void node_wanted(std::size_t node);
    void menu_wanted(const QPoint& at);

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void contextMenuEvent(QContextMenuEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    bool event(QEvent*) override;

  private:
    QPointF shown(const Point& p) const { return {origin_.x() + p.x * scale_, origin_.y() + p.y * scale_}; }
    QRectF box(std::size_t node) const;
    QRectF label_box(std::size_t edge) const;
    std::optional<std::size_t> node_at(QPointF at) const;
    std::optional<std::size_t> edge_at(QPointF at) const;
    void press(QPointF at);
    void step(int direction);
    QString told(QPointF at) const;
    void draw_edge(QPainter& p, std::size_t edge, bool strong) const;
    void draw_node(QPainter& p, std::size_t node, bool strong) const;

    Interplay interplay_;
    /// How much larger than it is `arranged` could be drawn.
    double room_for(const Arranged& arranged) const;
    Arrangements both_;
    Arranged arranged_;  ///< one of them
    GraphSizes sizes_;
    std::optional<std::size_t> node_, edge_;
    bool chosen_ = false;  ///< the node was clicked: all that does not belong to it is faint
    double scale_ = 1;
    QPointF origin_;
    bool fits_ = true;
    std::optional<QPointF> grabbed_;
    bool dragged_ = false;
    QString empty_;
};

/// "sends to · 1 024" and "100/s · max wait 1.2 ms".
QStringList edge_lines(const Interplay& of, const InterplayEdge& edge);

}  // namespace mt::app
