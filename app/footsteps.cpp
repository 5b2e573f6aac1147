#include "footsteps.h"

#include <QClipboard>
#include <QGuiApplication>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QScrollBar>

#include <algorithm>
#include <limits>

#include "base/text.h"
#include "theme.h"

namespace mt::app {
namespace {
constexpr int kRow = 19, kHead = 22;
constexpr std::uint64_t kMostSought = 200'000;
QString words(const std::string& s) { return QString::fromStdString(s); }
}  // namespace

Footsteps::Footsteps(Session& session, Viewpoint& view, QWidget* parent)
    : QAbstractScrollArea(parent), session_(session), view_(view) {
    setFrameShape(QFrame::NoFrame);
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(tr("Footsteps: executed instructions"));
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    connect(&session, &Session::opened, this, [this] {
        stream_ = 0;
        current_.reset();
        wanted_.reset();
        renew();
    });
    connect(&session, &Session::grew, this, &Footsteps::renew);
    connect(&session, &Session::finished, this, [this] {
        renew();
        if (!current_) follow_cursor();
    });
    connect(&store_, &StepStore::arrived, this, [this] {
        if (wanted_) go_to(*wanted_);
        tell_current();
        viewport()->update();
    });
    connect(&view, &Viewpoint::cursor_changed, this, [this] {
        if (!own_move_) follow_cursor();
    });
}

std::uint64_t Footsteps::row_count() const {
    const auto trail = session_.trail();
    return trail && stream_ < trail->steps.size() ? trail->steps[stream_].steps : 0;
}

void Footsteps::use_stream(std::size_t stream) {
    stream_ = stream;
    current_.reset();
    renew();
    follow_cursor();
}

int Footsteps::rows_shown() const { return std::max(1, (viewport()->height() - kHead) / kRow); }
std::uint64_t Footsteps::top_row() const {
    return static_cast<std::uint64_t>(std::max(0, verticalScrollBar()->value()));
}

void Footsteps::renew() {
    store_.use(session_.recording(), session_.trail(), stream_);
    const std::uint64_t rows = row_count(), shown = static_cast<std::uint64_t>(rows_shown());
    const std::uint64_t most = rows > shown ? rows - shown : 0;
    verticalScrollBar()->setRange(0,
                                  static_cast<int>(std::min<std::uint64_t>(most, std::numeric_limits<int>::max() - 1)));
    verticalScrollBar()->setPageStep(rows_shown());
    viewport()->update();
}

const StepLine* Footsteps::line(std::uint64_t step) {
    if (step >= row_count()) return nullptr;
    const auto chunk = store_.get(step / StepStore::kChunk);
    const std::uint64_t at = step % StepStore::kChunk;
    return chunk && at < chunk->size() ? &(*chunk)[at] : nullptr;
}

void Footsteps::follow_cursor() {
    if (row_count() == 0) return;
    store_.find(view_.cursor(), [this](std::uint64_t step) {
        if (step >= row_count()) return;
        current_ = step;
        show_row(step);
        tell_current();
    });
}

void Footsteps::tell_current() {
    if (!current_) return;
    if (const StepLine* l = line(*current_)) emit current_changed(stream_, l->slot);
}

void Footsteps::show_row(std::uint64_t step) {
    const auto shown = static_cast<std::uint64_t>(rows_shown());
    if (step < top_row() || step >= top_row() + shown)
        verticalScrollBar()->setValue(static_cast<int>(step > shown / 2 ? step - shown / 2 : 0));
    viewport()->update();
}

void Footsteps::go_to(std::uint64_t step) {
    if (row_count() == 0) return;
    step = std::min(step, row_count() - 1);
    current_ = step;
    show_row(step);
    const StepLine* l = line(step);
    if (l == nullptr) {
        wanted_ = step;
        return;
    }
    wanted_.reset();
    own_move_ = true;
    view_.set_cursor(l->time);
    own_move_ = false;
    tell_current();
}

void Footsteps::seek_execution(std::vector<std::uint32_t> wanted, int direction) {
    if (row_count() == 0) return;
    store_.search(std::move(wanted), current_.value_or(0), direction,
                  [this, direction](std::optional<std::uint64_t> step) {
                      if (step)
                          go_to(*step);
                      else
                          emit missed(direction);
                  });
}

Result<void> Footsteps::seek_text(const QString& text, int direction) {
    if (row_count() == 0) return failure("there is no instruction trace here", "", "");
    const StepTrail& steps = session_.trail()->steps[stream_];
    const auto address = session_.recording()->images[steps.core_index]->address_of(text.trimmed().toStdString());
    if (!address) return tl::make_unexpected(address.error());
    const std::uint32_t slot = steps.code->slot_of(*address);
    if (slot == Code::kNowhere) return failure("there is no code at " + hex_text(*address), "", "name code, not data");
    if (steps.counters && steps.counters->executions(*steps.code)[slot] == 0)
        return failure(text.trimmed().toStdString() + " was never executed in this recording", "", "");
    seek_execution({slot}, direction);
    return {};
}

void Footsteps::step_out(int direction) {
    const StepLine* l = current_ ? line(*current_) : nullptr;
    if (l == nullptr || l->depth == 0) return;
    const StepTrail& steps = session_.trail()->steps[stream_];
    if (l->depth > steps.levels.size()) return;
    const CallLevel& level = steps.levels[l->depth - 1u];
    const auto call = level.at(l->time);
    if (!call) return;
    if (direction < 0) {
        const std::uint64_t first = level[*call].step;
        if (first > 0) go_to(first - 1);
        return;
    }
    store_.find(level[*call].end(), [this](std::uint64_t step) { go_to(step); });
}

template <class Differs>
void Footsteps::seek(int direction, Differs differs) {
    if (!current_) return;
    const StepLine* from = line(*current_);
    if (from == nullptr) return;
    const StepLine start = *from;
    std::uint64_t step = *current_;
    for (std::uint64_t n = 0; n < kMostSought; ++n) {
        if (direction < 0 ? step == 0 : step + 1 >= row_count()) break;
        step = direction < 0 ? step - 1 : step + 1;
        const StepLine* l = line(step);
        if (l == nullptr || differs(start, *l)) break;
    }
    go_to(step);
}

void Footsteps::step_line(int direction) {
    seek(direction,
         [](const StepLine& a, const StepLine& b) { return a.place != b.place || a.function != b.function; });
}
void Footsteps::step_function(int direction) {
    seek(direction,
         [](const StepLine& a, const StepLine& b) { return a.function != b.function || a.depth != b.depth; });
}

QStringList Footsteps::texts(std::uint64_t step) {
    const StepLine* l = line(step);
    if (l == nullptr) return {};
    const auto trail = session_.trail();
    const bool timed = trail->steps[stream_].clock != StepClock::none;
    return {words(count_text(step)),
            timed ? words(moment_text(l->time)) : QStringLiteral("–"),
            l->address,
            l->text,
            l->function,
            l->place,
            l->before};
}

QString Footsteps::copied_text() { return current_ ? texts(*current_).join('\t') : QString(); }

void Footsteps::paintEvent(QPaintEvent*) {
    QPainter p(viewport());
    const Theme& t = theme();
    p.fillRect(viewport()->rect(), t.panel);
    p.setFont(text_font(11));
    p.setPen(t.second);
    if (row_count() == 0) {
        p.drawText(viewport()->rect(), Qt::AlignCenter,
                   session_.trail() && !session_.busy() ? tr("This recording holds no instruction trace.")
                                                        : tr("Executed instructions come here."));
        return;
    }
    const int widths[] = {100, 140, 96, 230, 0, 150};
    const int width = viewport()->width();
    const int function_width = std::max(120, width - 100 - 140 - 96 - 230 - 150 - 24);
    const QString headings[] = {tr("instruction"), tr("time"),     tr("address"),
                                tr("executed"),    tr("function"), tr("source")};
    const auto column = [&](int c) { return c == 4 ? function_width : widths[c]; };
    int x = 12;
    for (int c = 0; c < 6; ++c) {
        p.drawText(QRect(x, 0, column(c) - 8, kHead), Qt::AlignVCenter | (c == 0 ? Qt::AlignRight : Qt::AlignLeft),
                   headings[c]);
        x += column(c);
    }
    p.setPen(t.rule);
    p.drawLine(0, kHead - 1, width, kHead - 1);
    QString above;
    for (int i = 0; i <= rows_shown(); ++i) {
        const std::uint64_t step = top_row() + static_cast<std::uint64_t>(i);
        if (step >= row_count()) break;
        const QRect row(0, kHead + i * kRow, width, kRow);
        if (current_ == step) p.fillRect(row, t.selected);
        const QStringList all = texts(step);
        if (all.isEmpty()) {
            p.setPen(t.second);
            p.drawText(QRect(12, row.top(), 300, kRow), Qt::AlignVCenter, "…");
            continue;
        }
        const StepLine* l = line(step);
        x = 12;
        for (int c = 0; c < 6; ++c) {
            p.setFont(c == 2 || c == 3 ? fixed_font(11) : text_font(11));
            p.setPen(c == 0 || c == 1 || c == 5 ? t.second : t.text);
            QRect cell(x, row.top(), column(c) - 8, kRow);
            QString text = all[c];
            if (c == 4) {
                // The function stands where it begins to run; the depth of the stack shows as indentation.
                cell.setLeft(cell.left() + std::min<int>(l->depth, 12) * 8);
                if (text == above && i > 0 && l->before.isEmpty()) text = "·";
                if (!l->before.isEmpty()) {
                    p.setPen(t.interrupt);
                    text = l->before + "  ▸ " + text;
                }
            }
            p.drawText(cell, Qt::AlignVCenter | (c == 0 ? Qt::AlignRight : Qt::AlignLeft),
                       p.fontMetrics().elidedText(text, Qt::ElideRight, cell.width()));
            x += column(c);
        }
        if (above != l->function && i > 0) {
            p.setPen(t.rule);
            p.drawLine(0, row.top(), width, row.top());
        }
        above = l->function;
    }
}

void Footsteps::resizeEvent(QResizeEvent*) { renew(); }

void Footsteps::mousePressEvent(QMouseEvent* e) {
    const int row = (e->pos().y() - kHead) / kRow;
    if (e->button() == Qt::LeftButton && e->pos().y() >= kHead) go_to(top_row() + static_cast<std::uint64_t>(row));
}

void Footsteps::wheelEvent(QWheelEvent* e) {
    verticalScrollBar()->setValue(verticalScrollBar()->value() - e->angleDelta().y() / 40);
    e->accept();
}

void Footsteps::keyPressEvent(QKeyEvent* e) {
    const bool line_wise = (e->modifiers() & Qt::ShiftModifier) != 0,
               by_function = (e->modifiers() & Qt::AltModifier) != 0;
    const std::uint64_t now = current_.value_or(top_row()), page = static_cast<std::uint64_t>(rows_shown());
    if (e->matches(QKeySequence::Copy)) {
        QGuiApplication::clipboard()->setText(copied_text());
        return;
    }
    switch (e->key()) {
        case Qt::Key_Down:
        case Qt::Key_Up: {
            const int direction = e->key() == Qt::Key_Down ? 1 : -1;
            if ((e->modifiers() & Qt::ControlModifier) != 0)
                step_out(direction);
            else if (by_function)
                step_function(direction);
            else if (line_wise)
                step_line(direction);
            else
                go_to(direction > 0 ? now + 1 : now == 0 ? 0 : now - 1);
            break;
        }
        case Qt::Key_PageDown:
            go_to(now + page);
            break;
        case Qt::Key_PageUp:
            go_to(now > page ? now - page : 0);
            break;
        case Qt::Key_Home:
            go_to(0);
            break;
        case Qt::Key_End:
            go_to(row_count());
            break;
        default:
            QAbstractScrollArea::keyPressEvent(e);
    }
}

}  // namespace mt::app
