#include "evidence/row_table.h"

#include <QContextMenuEvent>
#include <QKeyEvent>
#include <QMenu>
#include <QMouseEvent>

#include <QSettings>

#include <algorithm>
#include <utility>

#include "base/text.h"
#include "look/filter_field.h"
#include "look/words.h"
#include "navigate/moment_actions.h"

namespace mt::app {

namespace {
constexpr std::size_t kMostFiltered = 10'000'000;
constexpr int kFilterWidth = 190;
}  // namespace

RowTable::RowTable(Document& document, Viewpoint& view, QWidget* parent)
    : QAbstractScrollArea(parent), document_(document), view_(view) {
    setFrameShape(QFrame::NoFrame);
    setFocusPolicy(Qt::StrongFocus);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    viewport()->setMouseTracking(true);
    filter_ = filter_field("rows_filter", tr("filter rows"), tr("Filter rows by text"), kFilterWidth);
    filter_->setParent(this);
    filter_->setFont(text_font(11));
    filter_->setStyleSheet("QLineEdit { padding: 0 6px; }");
    filter_->installEventFilter(this);
    count_ = new QLabel(this);
    count_->setObjectName("rows_count");
    count_->setFont(text_font(11));
    count_->setAlignment(Qt::AlignRight | Qt::AlignVCenter);
    count_->hide();
    filter_later_.setSingleShot(true);
    filter_later_.setInterval(250);
    connect(&filter_later_, &QTimer::timeout, this, &RowTable::begin_filter);
    connect(filter_, &QLineEdit::textChanged, &filter_later_, qOverload<>(&QTimer::start));
    connect(filter_, &QLineEdit::returnPressed, this, [this] { setFocus(); });
    connect(&document, &Document::opened, this, [this] { end_filter(); });
    connect(&document, &Document::finished, this, [this] {
        if (!filter_->text().trimmed().isEmpty()) filter_later_.start();
    });
    connect(&view, &Viewpoint::cursor_changed, this, [this] {
        if (own_move_) return;
        wanted_ = view_.cursor();
        follow_cursor();
    });
}

RowTable::~RowTable() {
    if (filter_progress_) filter_progress_->cancel();
}

void RowTable::set_columns(const QStringList& names, std::vector<int> widths) {
    const QSettings settings;
    const QStringList hidden = settings.value("rows/" + id() + "/hidden").toStringList();
    const QVariantMap drawn = settings.value("rows/" + id() + "/widths").toMap();
    for (qsizetype i = 0; i < names.size(); ++i)
        columns_.push_back(
            {names[i], drawn.value(names[i], widths[static_cast<std::size_t>(i)]).toInt(), hidden.contains(names[i])});
}

QStringList RowTable::columns_shown() const {
    QStringList names;
    for (const Column& c : columns_)
        if (!c.hidden) names << c.name;
    return names;
}

void RowTable::set_column_shown(std::size_t column, bool on) {
    if (column >= columns_.size() || (!on && columns_shown().size() < 2)) return;
    columns_[column].hidden = !on;
    keep_columns();
    viewport()->update();
}

void RowTable::keep_columns() const {
    QStringList hidden;
    QVariantMap widths;
    for (const Column& c : columns_) {
        if (c.hidden) hidden << c.name;
        widths[c.name] = c.width;
    }
    QSettings settings;
    settings.setValue("rows/" + id() + "/hidden", hidden);
    settings.setValue("rows/" + id() + "/widths", widths);
}

void RowTable::column_menu(const QPoint& at) {
    QMenu menu(this);
    for (std::size_t i = 0; i < columns_.size(); ++i) {
        auto* a = menu.addAction(columns_[i].name);
        a->setCheckable(true);
        a->setChecked(!columns_[i].hidden);
        connect(a, &QAction::toggled, this, [this, i](bool on) { set_column_shown(i, on); });
    }
    menu.addSeparator();
    menu.addAction(tr("All columns"), this, [this] {
        for (std::size_t i = 0; i < columns_.size(); ++i) set_column_shown(i, true);
    });
    menu.exec(at);
}

bool RowTable::is_shown(const std::shared_ptr<const Rows>& shown, std::uint64_t row) {
    return !shown || std::binary_search(shown->begin(), shown->end(), row);
}
std::uint64_t RowTable::row_at(std::uint64_t line) const {
    return shown_ && line < shown_->size() ? (*shown_)[static_cast<std::size_t>(line)] : line;
}
std::uint64_t RowTable::line_of(std::uint64_t row) const {
    if (!shown_) return row;
    const auto at = std::lower_bound(shown_->begin(), shown_->end(), row);
    return static_cast<std::uint64_t>((at == shown_->end() && at != shown_->begin() ? at - 1 : at) - shown_->begin());
}

void RowTable::place_filter() {
    filter_->setGeometry(viewport()->width() - kFilterWidth - 6, 2, kFilterWidth, kHead - 4);
    count_->setGeometry(filter_->x() - 186, 2, 180, kHead - 4);
    set_style(*count_, QString("background: %1; color: %2").arg(theme().window.name(), theme().second.name()));
}

void RowTable::end_filter() {
    if (filter_progress_) filter_progress_->cancel();
    filter_later_.stop();
    const QSignalBlocker quiet(filter_);
    filter_->clear();
    shown_.reset();
    filtering_ = false;
    count_->hide();
}

// Rows come as they are found; the list is complete when the last has been looked at.
void RowTable::begin_filter() {
    if (filter_progress_) filter_progress_->cancel();
    filter_jobs_.clear();
    const QString text = filter_->text().trimmed();
    const auto at = current_;
    if (text.isEmpty() || row_count() == 0) {
        shown_.reset();
        filtering_ = false;
        count_->hide();
        renew();
        if (at) follow_to(*at);
        return;
    }
    filter_progress_ = std::make_shared<Progress>();
    shown_ = std::make_shared<const Rows>();
    filtering_ = true;
    renew();
    filter_jobs_.add([this, scan = scan_for(text), progress = filter_progress_, at] {
        auto all = std::make_shared<Rows>();
        const auto show = [&](bool last) {
            auto now = std::make_shared<const Rows>(*all);
            QMetaObject::invokeMethod(
                this,
                [this, now, progress, last, at] {
                    if (progress->cancelled()) return;
                    shown_ = now;
                    filtering_ = !last;
                    count_->setText(tr("%1 of %2%3")
                                        .arg(words(count_text(now->size())), words(count_text(row_count())),
                                             last ? QString() : QStringLiteral(" …")));
                    count_->show();
                    renew();
                    if (last && at && !now->empty()) follow_to(*at);
                },
                Qt::QueuedConnection);
        };
        std::size_t told = 0;
        scan([&](Rows found) {
            all->insert(all->end(), found.begin(), found.end());
            // Again and again, but not for each: what is shown is copied.
            if (all->size() > 2 * told + 50) {
                told = all->size();
                show(false);
            }
            return !progress->cancelled() && all->size() < kMostFiltered;
        });
        if (!progress->cancelled()) show(true);
    });
}

void RowTable::paint_head(QPainter& p, const QString& empty) {
    const Theme& t = theme();
    p.fillRect(viewport()->rect(), t.panel);
    p.fillRect(0, 0, viewport()->width(), kHead, t.window);
    p.setPen(t.rule);
    p.drawLine(0, kHead - 1, viewport()->width(), kHead - 1);
    p.setFont(text_font(11));
    p.setPen(t.second);
    int x = 12;
    for (std::size_t c = 0; c < columns_.size(); x += width_of(c), ++c)
        if (width_of(c) > 0) p.drawText(QRect(x, 0, width_of(c) - 8, kHead), Qt::AlignVCenter, columns_[c].name);
    if (shown_count() == 0)
        p.drawText(viewport()->rect().adjusted(12, kHead, 0, 0), Qt::AlignCenter,
                   row_count() == 0 ? empty
                   : filtering_     ? tr("Searching…")
                                    : tr("No matching rows. Press Escape to show all."));
}

int RowTable::rows_shown() const { return std::max(1, (viewport()->height() - kHead) / kRow); }
std::uint64_t RowTable::top_line() const { return scroll_.top(); }

void RowTable::renew() {
    filter_->setVisible(row_count() > 0);
    scroll_.set_range(shown_count(), static_cast<std::uint64_t>(rows_shown()));
    viewport()->update();
}

void RowTable::forget() {
    current_.reset();
    anchor_.reset();
    wanted_.reset();
    place_when_there_.reset();
}

void RowTable::use_stream(std::size_t stream) {
    stream_ = stream;
    forget();
    shown_.reset();
    if (!filter_->text().trimmed().isEmpty()) begin_filter();
    renew();
    wanted_ = view_.cursor();
    follow_cursor();
}

bool RowTable::selected(std::uint64_t row) const {
    return current_ && anchor_ && std::min(*current_, *anchor_) <= row && row <= std::max(*current_, *anchor_);
}

void RowTable::place(std::uint64_t row) {
    const auto t = time_of(row);
    if (!t) {
        place_when_there_ = row;
        return;
    }
    place_when_there_.reset();
    own_move_ = true;
    if (*t < view_.from() || *t > view_.to()) {
        const Time half{(view_.to() - view_.from()).ps / 2};
        view_.go_to(*t - half, *t + half, *t);
    } else {
        view_.set_cursor(*t);
    }
    own_move_ = false;
}

void RowTable::go_to_row(std::int64_t row, bool extend) {
    go_to_line(static_cast<std::int64_t>(line_of(static_cast<std::uint64_t>(std::max<std::int64_t>(0, row)))), extend);
}

void RowTable::go_to_line(std::int64_t line, bool extend) {
    if (shown_count() == 0) return;
    const std::int64_t at = std::clamp<std::int64_t>(line, 0, static_cast<std::int64_t>(shown_count()) - 1);
    current_ = row_at(static_cast<std::uint64_t>(at));
    if (!extend || !anchor_) anchor_ = current_;
    const auto top = static_cast<std::int64_t>(top_line());
    if (at < top)
        scroll_.set_top(static_cast<std::uint64_t>(at));
    else if (at >= top + rows_shown())
        scroll_.set_top(static_cast<std::uint64_t>(at - rows_shown() + 1));
    place(*current_);
    viewport()->update();
}

void RowTable::follow_to(std::uint64_t row) {
    const std::uint64_t line = line_of(row), top = top_line(), shown = static_cast<std::uint64_t>(rows_shown());
    current_ = anchor_ = row_at(line);
    if (line < top + 1 || line + 2 > top + shown) scroll_.set_top(line > shown / 2 ? line - shown / 2 : 0);
    viewport()->update();
}

void RowTable::resizeEvent(QResizeEvent*) {
    place_filter();
    renew();
}

void RowTable::mousePressEvent(QMouseEvent* e) {
    const int y = static_cast<int>(e->position().y());
    if (e->button() != Qt::LeftButton) return;
    if (y < kHead) {
        int right = 12;
        for (std::size_t c = 0; c < columns_.size(); ++c) {
            right += width_of(c);
            if (width_of(c) > 0 && std::abs(right - static_cast<int>(e->position().x()) - 6) < 7)
                resizing_ = static_cast<int>(c);
        }
        return;
    }
    const std::uint64_t line = top_line() + static_cast<std::uint64_t>((y - kHead) / kRow);
    if (line < shown_count()) go_to_line(static_cast<std::int64_t>(line), (e->modifiers() & Qt::ShiftModifier) != 0);
}

void RowTable::mouseMoveEvent(QMouseEvent* e) {
    if (resizing_ < 0) return;
    int left = 12;
    for (int c = 0; c < resizing_; ++c) left += width_of(static_cast<std::size_t>(c));
    columns_[static_cast<std::size_t>(resizing_)].width = std::max(40, static_cast<int>(e->position().x()) - left + 6);
    viewport()->update();
}

void RowTable::mouseReleaseEvent(QMouseEvent*) {
    if (std::exchange(resizing_, -1) >= 0) keep_columns();
}

void RowTable::mouseDoubleClickEvent(QMouseEvent* e) {
    if (!current_ || e->position().y() < kHead) return;
    if (const auto t = time_of(*current_)) view_.go_to(*t - room(), *t + room(), *t);
}

void RowTable::wheelEvent(QWheelEvent* e) {
    scroll_.scroll(-e->angleDelta().y() / 40);
    viewport()->update();
}

void RowTable::keyPressEvent(QKeyEvent* e) {
    const auto at = static_cast<std::int64_t>(current_ ? line_of(*current_) : top_line());
    const bool extend = (e->modifiers() & Qt::ShiftModifier) != 0;
    if (e->matches(QKeySequence::Copy)) return copy_selected();
    switch (e->key()) {
        case Qt::Key_Up:
            return go_to_line(at - 1, extend);
        case Qt::Key_Down:
            return go_to_line(at + 1, extend);
        case Qt::Key_PageUp:
            return go_to_line(at - rows_shown(), extend);
        case Qt::Key_PageDown:
            return go_to_line(at + rows_shown(), extend);
        case Qt::Key_Home:
            return go_to_line(0, extend);
        case Qt::Key_End:
            return go_to_line(static_cast<std::int64_t>(shown_count()) - 1, extend);
        case Qt::Key_Escape:
            if (!filter_->text().isEmpty()) return filter_->clear();
            [[fallthrough]];
        default:
            QAbstractScrollArea::keyPressEvent(e);
    }
}

// Escape shows all rows again, before it means anything else to the window.
bool RowTable::event(QEvent* e) {
    if (e->type() == QEvent::ShortcutOverride && static_cast<QKeyEvent*>(e)->key() == Qt::Key_Escape &&
        !filter_->text().isEmpty()) {
        e->accept();
        return true;
    }
    return QAbstractScrollArea::event(e);
}

bool RowTable::eventFilter(QObject* watched, QEvent* e) {
    if (watched != filter_ || (e->type() != QEvent::ShortcutOverride && e->type() != QEvent::KeyPress) ||
        static_cast<QKeyEvent*>(e)->key() != Qt::Key_Escape)
        return QAbstractScrollArea::eventFilter(watched, e);
    e->accept();
    if (e->type() == QEvent::KeyPress) {
        filter_->clear();
        setFocus();
    }
    return true;
}

void RowTable::showEvent(QShowEvent*) {
    wanted_ = view_.cursor();
    follow_cursor();
}

void RowTable::contextMenuEvent(QContextMenuEvent* e) {
    if (e->reason() == QContextMenuEvent::Mouse && e->y() < kHead) return column_menu(e->globalPos());
    if (shown_count() == 0) return;
    if (e->reason() == QContextMenuEvent::Mouse) {
        const std::uint64_t line = top_line() + static_cast<std::uint64_t>((e->y() - kHead) / kRow);
        if (line < shown_count() && !selected(row_at(line))) go_to_line(static_cast<std::int64_t>(line), false);
    }
    QMenu menu(this);
    menu.setObjectName("row_menu");
    add_to_menu(menu);
    menu.addAction(tr("Columns…"), this, [this, at = e->globalPos()] { column_menu(at); });
    menu.addAction(tr("Copy values"), this, [this] { copy_selected(); })->setEnabled(current_.has_value());
    if (const auto t = current_ ? time_of(*current_) : std::nullopt) {
        menu.addAction(tr("Show it in the lanes"), this, [this, t = *t] { view_.go_to(t - room(), t + room(), t); });
        menu.addSeparator();
        add_moment_actions(menu, document_, view_, *t);
    }
    menu.exec(e->globalPos());
}

}  // namespace mt::app
