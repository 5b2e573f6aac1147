#include "evidence/interplay_picture.h"

#include <QContextMenuEvent>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QWheelEvent>

#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "look/shapes.h"
#include "look/theme.h"
#include "look/tip.h"
#include "look/words.h"

namespace mt::app {
namespace {

constexpr double kMargin = 12, kNodeHeight = 38, kLabelLine = 14, kMostScale = 3, kLeastScale = 0.15;
constexpr double kReadable = 0.45;  ///< smaller texts are left out
constexpr double kLeastFit = 0.55;  ///< larger pictures are moved about rather than made illegible

QColor colour_of(InterplayNode::Sort sort) {
    switch (sort) {
        case InterplayNode::task:
        case InterplayNode::thread:
            return theme().land;
        case InterplayNode::interrupt:
            return theme().interrupt;
        case InterplayNode::value:
            return theme().measure;
        case InterplayNode::unknown:
            return theme().contour;
        default:
            return theme().waiting;
    }
}

QString note_of(const InterplayNode& node) { return words(node_sort_text(node.sort)); }

QPainterPath path_of(const std::vector<QPointF>& points) {
    QPainterPath path;
    if (points.empty()) return path;
    path.moveTo(points[0]);
    for (std::size_t i = 1; i + 2 < points.size(); i += 3) path.cubicTo(points[i], points[i + 1], points[i + 2]);
    return path;
}

// Wider for what happens more often.
double width_of(const InterplayEdge& e) {
    return std::clamp(0.8 + 0.45 * std::log10(static_cast<double>(e.count + e.failed) + 1), 1.0, 4.0);
}

}  // namespace

QStringList edge_lines(const Interplay& of, const InterplayEdge& edge) {
    const double rate = of.rate(edge);
    QString first = words(deed_text(edge.deed)) + " · " + words(count_text(edge.count));
    if (edge.failed > 0) first += QObject::tr(", %1 rejected").arg(words(count_text(edge.failed)));
    QStringList lines = {first, QObject::tr("%1/s").arg(rate, 0, 'f', rate < 10 ? 1 : 0)};
    if (edge.waits > 0) lines << QObject::tr("max wait %1").arg(words(duration_text(edge.worst_wait)));
    return lines;
}

InterplayPicture::InterplayPicture(QWidget* parent) : QWidget(parent) {
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setMinimumSize(160, 60);
    setAccessibleName(tr("Who acts on whom"));
}

GraphSizes InterplayPicture::sizes_of(const Interplay& interplay) const {
    GraphSizes sizes;
    const QFontMetrics name(text_font(12, true)), note(text_font(11));
    for (const InterplayNode& n : interplay.nodes)
        sizes.nodes.push_back(
            {std::clamp(std::max(name.horizontalAdvance(words(n.name)), note.horizontalAdvance(note_of(n))) + 26.0,
                        70.0, 240.0),
             kNodeHeight});
    double widest = 60;
    for (const InterplayEdge& e : interplay.edges) {
        sizes.edges.emplace_back(e.from, e.to);
        for (const QString& line : edge_lines(interplay, e))
            widest = std::max(widest, note.horizontalAdvance(line) + 10.0);
    }
    // Figures that grow a little need no other arrangement.
    sizes.label = {std::ceil(widest / 20) * 20, 3 * kLabelLine};
    return sizes;
}

void InterplayPicture::show(Interplay interplay, Arrangements arranged) {
    const auto again = [&](std::optional<std::size_t> before) -> std::optional<std::size_t> {
        if (!before) return std::nullopt;
        for (std::size_t i = 0; i < interplay.nodes.size(); ++i)
            if (interplay.nodes[i].same(interplay_.nodes[*before])) return i;
        return std::nullopt;
    };
    std::optional<std::size_t> edge;
    if (edge_)
        for (std::size_t i = 0; i < interplay.edges.size(); ++i) {
            const InterplayEdge &now = interplay.edges[i], &then = interplay_.edges[*edge_];
            if (now.deed == then.deed && interplay.nodes[now.from].same(interplay_.nodes[then.from]) &&
                interplay.nodes[now.to].same(interplay_.nodes[then.to]))
                edge = i;
        }
    node_ = again(node_);
    edge_ = edge;
    sizes_ = sizes_of(interplay);
    interplay_ = std::move(interplay);
    const bool down = !fits_ && arranged_.nodes == both_.down.nodes;  // what was zoomed stays as it stands
    both_ = std::move(arranged);
    arranged_ = down && both_.down.whole ? both_.down : both_.across;
    if (fits_) fit();
    update();
}

void InterplayPicture::select_node(std::optional<std::size_t> node) {
    if (node_ == node && !edge_) return;
    node_ = node;
    edge_.reset();
    chosen_ = false;
    update();
}

void InterplayPicture::select_edge(std::optional<std::size_t> edge) {
    edge_ = edge;
    node_.reset();
    update();
}

void InterplayPicture::set_empty_text(const QString& text) {
    empty_ = text;
    update();
}

double InterplayPicture::room_for(const Arranged& arranged) const {
    if (arranged.width <= 0 || arranged.height <= 0) return 0;
    return std::min((width() - 2 * kMargin) / arranged.width, (height() - 2 * kMargin) / arranged.height);
}

void InterplayPicture::fit() {
    fits_ = true;
    constexpr double kGain = 1.1;  // as people read, unless the other is clearly larger
    arranged_ = both_.down.whole && room_for(both_.down) > kGain * room_for(both_.across) ? both_.down : both_.across;
    if (arranged_.width <= 0 || arranged_.height <= 0) return;
    scale_ = std::clamp(room_for(arranged_), kLeastFit, 1.2);
    // What has no room begins at the left, with the middle of its height in the middle.
    origin_ = {std::max(kMargin, (width() - arranged_.width * scale_) / 2), (height() - arranged_.height * scale_) / 2};
    update();
}

void InterplayPicture::zoom(double factor, QPointF around) {
    const double scale = std::clamp(scale_ * factor, kLeastScale, kMostScale);
    origin_ = around + (origin_ - around) * (scale / scale_);
    scale_ = scale;
    fits_ = false;
    update();
}

QRectF InterplayPicture::box(std::size_t node) const {
    const QPointF middle = shown(arranged_.nodes[node]);
    const double w = sizes_.nodes[node].width * scale_, h = sizes_.nodes[node].height * scale_;
    return {middle.x() - w / 2, middle.y() - h / 2, w, h};
}

QRectF InterplayPicture::label_box(std::size_t edge) const {
    const QPointF middle = shown(arranged_.edges[edge].label);
    const double w = sizes_.label.width * scale_, h = sizes_.label.height * scale_;
    return {middle.x() - w / 2, middle.y() - h / 2, w, h};
}

std::optional<std::size_t> InterplayPicture::node_at(QPointF at) const {
    for (std::size_t i = 0; i < arranged_.nodes.size(); ++i)
        if (box(i).contains(at)) return i;
    return std::nullopt;
}

// The one that passes nearest, within a few pixels; its text belongs to it.
std::optional<std::size_t> InterplayPicture::edge_at(QPointF at) const {
    std::optional<std::size_t> nearest;
    double least = 7;
    for (std::size_t i = 0; i < arranged_.edges.size(); ++i) {
        if (label_box(i).contains(at)) return i;
        std::vector<QPointF> points;
        for (const Point& p : arranged_.edges[i].points) points.push_back(shown(p));
        const QPainterPath path = path_of(points);
        if (!path.boundingRect().adjusted(-8, -8, 8, 8).contains(at)) continue;
        constexpr int kSamples = 48;
        for (int s = 0; s <= kSamples; ++s) {
            const QPointF d = path.pointAtPercent(static_cast<double>(s) / kSamples) - at;
            if (const double far = std::hypot(d.x(), d.y()); far < least) {
                least = far;
                nearest = i;
            }
        }
    }
    return nearest;
}

void InterplayPicture::draw_edge(QPainter& p, std::size_t index, bool strong) const {
    const Theme& t = theme();
    const InterplayEdge& e = interplay_.edges[index];
    std::vector<QPointF> points;
    for (const Point& point : arranged_.edges[index].points) points.push_back(shown(point));
    if (points.size() < 4) return;
    const bool chosen = edge_ == index;
    const QColor colour = chosen                  ? t.text
                          : e.failed > 0          ? t.finding
                          : !strong               ? mixed(t.second, t.panel, 0.45)
                          : e.deed == Deed::wakes ? t.land
                                                  : mixed(t.second, t.panel, 0.75);
    p.setPen(QPen(colour, width_of(e) * (chosen ? 1.6 : 1) * std::max(0.6, std::min(scale_, 1.0))));
    p.setBrush(Qt::NoBrush);
    p.drawPath(path_of(points));
    // The head, along the last piece.
    const QPointF tip = points.back();
    const QPointF along = tip - points[points.size() - 2];
    const double length = std::hypot(along.x(), along.y());
    if (length > 0) {
        const QPointF u = along / length, n(-u.y(), u.x());
        const double size = std::max(5.0, 9 * std::min(scale_, 1.0));
        QPainterPath head;
        head.moveTo(tip);
        head.lineTo(tip - u * size + n * size * 0.45);
        head.lineTo(tip - u * size - n * size * 0.45);
        head.closeSubpath();
        p.fillPath(head, colour);
    }
    if (scale_ < kReadable) return;
    const QRectF room = label_box(index);
    QFont font = text_font(11);
    font.setPixelSize(std::max(1, static_cast<int>(std::lround(font.pixelSize() * std::min(scale_, 1.3)))));
    p.setFont(font);
    const QStringList lines = edge_lines(interplay_, e);
    double widest = 0;
    for (const QString& line : lines) widest = std::max(widest, p.fontMetrics().horizontalAdvance(line) + 8.0);
    const double high = room.height() * static_cast<double>(lines.size()) / 3;
    const QRectF ground(room.center().x() - widest / 2, room.center().y() - high / 2, widest, high);
    p.fillRect(ground, chosen ? t.selected : t.panel);
    const double line = room.height() / 3;
    for (qsizetype i = 0; i < lines.size(); ++i) {
        p.setPen(!strong ? mixed(t.second, t.panel, 0.7) : i > 0 ? t.second : e.failed > 0 ? t.finding : t.text);
        p.drawText(QRectF(room.left(), ground.top() + line * static_cast<double>(i), room.width(), line),
                   Qt::AlignCenter, lines[i]);
    }
}

void InterplayPicture::draw_node(QPainter& p, std::size_t index, bool strong) const {
    const Theme& t = theme();
    const InterplayNode& n = interplay_.nodes[index];
    const QRectF area = box(index);
    const bool chosen = node_ == index;
    const QColor colour = strong ? colour_of(n.sort) : mixed(colour_of(n.sort), t.panel, 0.5);
    const double ribbon = 6 * scale_;
    QPainterPath outline;
    if (n.sort == InterplayNode::interrupt) {  // as handlers are drawn on lanes: a corner is cut
        const double cut = 8 * scale_;
        outline.moveTo(area.left() + cut, area.top());
        outline.lineTo(area.topRight());
        outline.lineTo(area.bottomRight());
        outline.lineTo(area.bottomLeft());
        outline.lineTo(area.left(), area.top() + cut);
        outline.closeSubpath();
    } else {
        const double round = n.acts() ? 2 * scale_ : area.height() / 2.6;
        outline.addRoundedRect(area, round, round);
    }
    p.fillPath(outline, mixed(colour, t.panel, n.acts() ? 0.14 : 0.22));
    if (n.acts()) {
        p.save();
        p.setClipPath(outline);
        p.fillRect(QRectF(area.left(), area.top(), ribbon, area.height()), colour);
        p.restore();
    }
    p.setPen(QPen(chosen ? t.text : colour, chosen ? 2 : 1));
    p.drawPath(outline);
    if (scale_ < kReadable / 1.4) return;
    QFont name = text_font(12, true), note = text_font(11);
    for (QFont* f : {&name, &note})
        f->setPixelSize(std::max(1, static_cast<int>(std::lround(f->pixelSize() * std::min(scale_, 1.3)))));
    const QRectF inside = area.adjusted(n.acts() ? ribbon : 0, 2 * scale_, 0, -2 * scale_);
    p.setFont(name);
    p.setPen(strong ? t.text : mixed(t.text, t.panel, 0.7));
    p.drawText(
        QRectF(inside.left(), inside.top(), inside.width(), inside.height() / 2), Qt::AlignCenter,
        p.fontMetrics().elidedText(words(n.name), Qt::ElideRight, static_cast<int>(inside.width() - 6 * scale_)));
    p.setFont(note);
    p.setPen(strong ? t.second : mixed(t.second, t.panel, 0.7));
    p.drawText(QRectF(inside.left(), inside.center().y(), inside.width(), inside.height() / 2), Qt::AlignCenter,
               note_of(n));
}

void InterplayPicture::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    p.fillRect(rect(), t.panel);
    if (arranged_.nodes.empty()) {
        p.setPen(t.second);
        p.setFont(text_font(12));
        p.drawText(rect().adjusted(20, 10, -20, -10), Qt::AlignCenter | Qt::TextWordWrap, empty_);
        return;
    }
    p.setRenderHint(QPainter::Antialiasing);
    // What belongs to the selection stands out.
    const auto strong_edge = [this](std::size_t i) {
        if (edge_) return edge_ == i;
        return !node_ || !chosen_ || interplay_.edges[i].from == *node_ || interplay_.edges[i].to == *node_;
    };
    std::vector<bool> strong(interplay_.nodes.size(), !edge_ && !(node_ && chosen_));
    for (std::size_t i = 0; i < interplay_.edges.size(); ++i)
        if (strong_edge(i)) strong[interplay_.edges[i].from] = strong[interplay_.edges[i].to] = true;
    if (node_) strong[*node_] = true;
    for (const bool on_top : {false, true})
        for (std::size_t i = 0; i < arranged_.edges.size(); ++i)
            if (strong_edge(i) == on_top) draw_edge(p, i, on_top);
    for (std::size_t i = 0; i < arranged_.nodes.size(); ++i) draw_node(p, i, strong[i]);
    if (hasFocus()) {
        p.setPen(QPen(t.text, 1, Qt::DotLine));
        p.setBrush(Qt::NoBrush);
        p.drawRect(rect().adjusted(1, 1, -2, -2));
    }
}

void InterplayPicture::resizeEvent(QResizeEvent*) {
    if (fits_) fit();
}

void InterplayPicture::wheelEvent(QWheelEvent* e) {
    zoom(std::pow(1.0015, e->angleDelta().y()), e->position());
    e->accept();
}

void InterplayPicture::press(QPointF at) {
    const auto node = node_at(at);
    const auto edge = node ? std::nullopt : edge_at(at);
    node_ = node;
    edge_ = edge;
    chosen_ = node.has_value();
    update();
    emit selected();
}

void InterplayPicture::mousePressEvent(QMouseEvent* e) {
    if (e->button() != Qt::LeftButton) return;
    grabbed_ = e->position();
    dragged_ = false;
    if (node_at(e->position()) || edge_at(e->position())) press(e->position());
}

void InterplayPicture::mouseMoveEvent(QMouseEvent* e) {
    if (!grabbed_) {
        setCursor(node_at(e->position()) || edge_at(e->position()) ? Qt::PointingHandCursor : Qt::ArrowCursor);
        return;
    }
    const QPointF moved = e->position() - *grabbed_;
    if (!dragged_ && moved.manhattanLength() < 4) return;
    dragged_ = true;
    fits_ = false;
    origin_ += moved;
    grabbed_ = e->position();
    update();
}

void InterplayPicture::mouseReleaseEvent(QMouseEvent* e) {
    if (grabbed_ && !dragged_ && !node_at(e->position()) && !edge_at(e->position())) press(e->position());
    grabbed_.reset();
}

void InterplayPicture::mouseDoubleClickEvent(QMouseEvent* e) {
    if (const auto node = node_at(e->position()))
        emit node_wanted(*node);
    else if (const auto edge = edge_at(e->position()))
        emit worst_wanted(*edge);
    else
        fit();
}

void InterplayPicture::contextMenuEvent(QContextMenuEvent* e) {
    if (e->reason() == QContextMenuEvent::Mouse && (node_at(e->pos()) || edge_at(e->pos()))) press(e->pos());
    emit menu_wanted(e->globalPos());
}

// Over the edges, node by node, as they are listed.
void InterplayPicture::step(int direction) {
    const auto n = static_cast<std::ptrdiff_t>(interplay_.edges.size());
    if (n == 0) return;
    const std::ptrdiff_t at = edge_ ? static_cast<std::ptrdiff_t>(*edge_) : direction > 0 ? -1 : 0;
    select_edge(static_cast<std::size_t>((at + direction + n) % n));
    emit selected();
}

void InterplayPicture::keyPressEvent(QKeyEvent* e) {
    const QPointF middle(width() / 2.0, height() / 2.0);
    switch (e->key()) {
        case Qt::Key_Right:
        case Qt::Key_Down:
            return step(1);
        case Qt::Key_Left:
        case Qt::Key_Up:
            return step(-1);
        case Qt::Key_Plus:
            return zoom(1.25, middle);
        case Qt::Key_Minus:
            return zoom(0.8, middle);
        case Qt::Key_0:
            return fit();
        case Qt::Key_Return:
        case Qt::Key_Enter:
            if (edge_) return emit worst_wanted(*edge_);
            if (node_) return emit node_wanted(*node_);
            break;
        default:
            break;
    }
    QWidget::keyPressEvent(e);
}

QString InterplayPicture::told(QPointF at) const {
    if (const auto n = node_at(at))
        return words(node_sort_text(interplay_.nodes[*n].sort)) + " " + words(interplay_.nodes[*n].name) +
               tr("\nA click lists what it did and what was done to it, a double click goes to its lane.");
    if (const auto i = edge_at(at)) {
        const InterplayEdge& e = interplay_.edges[*i];
        return words(interplay_.nodes[e.from].name) + " " + words(deed_text(e.deed)) + " " +
               words(interplay_.nodes[e.to].name) + "\n" + edge_lines(interplay_, e).join("\n") +
               (e.waits > 0 ? tr("\nA click lists all of them, a double click goes to the longest wait.")
                            : tr("\nA click lists all of them, a double click goes to the first."));
    }
    return {};
}

bool InterplayPicture::event(QEvent* e) {
    if (e->type() == QEvent::ToolTip) {
        const auto* help = static_cast<QHelpEvent*>(e);
        show_tip(*help, told(help->pos()), this);
        return true;
    }
    return QWidget::event(e);
}

}  // namespace mt::app
