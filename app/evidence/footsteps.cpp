#include "evidence/footsteps.h"

#include <QClipboard>
#include <QContextMenuEvent>
#include <QFileInfo>
#include <QGuiApplication>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QScrollBar>
#include <QToolButton>

#include <algorithm>
#include <cmath>
#include <limits>

#include "base/text.h"
#include "look/theme.h"
#include "look/words.h"
#include "navigate/moment_actions.h"
#include "target/disassembly.h"

namespace mt::app {
namespace {
constexpr int kRow = 19, kHead = 22, kBar = 26;
constexpr std::uint64_t kMostSought = 200'000;
}  // namespace

Footsteps::Footsteps(Document& document, Viewpoint& view, QWidget* parent)
    : QAbstractScrollArea(parent), document_(document), view_(view) {
    setFrameShape(QFrame::NoFrame);
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(tr("Executed instructions"));
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setViewportMargins(0, kBar, 0, 0);
    bar_ = new QWidget(this);
    auto* row = new QHBoxLayout(bar_);
    row->setContentsMargins(12, 2, 12, 2);
    row->setSpacing(2);
    auto* label = new QLabel(tr("A row for each"));
    label->setFont(text_font(11));
    row->addWidget(label);
    row->addSpacing(6);
    label->setObjectName("fold_label");
    const std::pair<QString, QString> folds[] = {
        {tr("call"), tr("A row for each level of the stack: who called whom, down to the current instruction")},
        {tr("function"), tr("A row for each stay in a function")},
        {tr("line"), tr("A row for each stay on a source line")},
        {tr("instruction"), tr("A row for each executed instruction")}};
    for (int i = 0; i < 4; ++i) {
        auto* button = new QToolButton;
        button->setObjectName(QString("fold_%1").arg(i));
        button->setText(folds[i].first);
        button->setToolTip(folds[i].second + tr("\nLeft folds, Right unfolds"));
        button->setFont(text_font(11));
        button->setStyleSheet("QToolButton { padding: 2px 9px; }");
        button->setCheckable(true);
        button->setAutoExclusive(true);
        button->setAutoRaise(true);
        button->setFocusPolicy(Qt::NoFocus);
        button->setChecked(i == 3);
        connect(button, &QToolButton::clicked, this, [this, i] { set_fold(static_cast<Fold>(i)); });
        row->addWidget(button);
        fold_buttons_.push_back(button);
    }
    row->addStretch(1);
    connect(&document, &Document::opened, this, [this] {
        stream_ = 0;
        current_.reset();
        at_raised_ = false;
        raised_.clear();
        wanted_.reset();
        frames_.clear();
        frames_at_.reset();
        renew();
    });
    connect(&document, &Document::grew, this, &Footsteps::renew);
    connect(&document, &Document::finished, this, [this] {
        renew();
        if (!current_) follow_cursor();
    });
    connect(&store_, &StepStore::arrived, this, [this] {
        if (wanted_)
            go_to(*wanted_);
        else if (placing_ && current_)
            show_row(*current_);
        tell_current();
        viewport()->update();
    });
    connect(&view, &Viewpoint::cursor_changed, this, [this] {
        if (!own_move_) follow_cursor();
    });
}

std::uint64_t Footsteps::row_count() const {
    const auto trail = document_.trail();
    return trail && stream_ < trail->steps.size() ? trail->steps[stream_].steps : 0;
}

void Footsteps::find_text(const QString& text, bool forwards, std::function<void(const QString&)> done) {
    const auto sought = seek_text(text, forwards ? 1 : -1);
    done(sought ? QString() : words(sought.error().text()));
}

void Footsteps::use_stream(std::size_t stream) {
    stream_ = stream;
    current_.reset();
    at_raised_ = false;
    raised_.clear();
    frames_.clear();
    frames_at_.reset();
    renew();
    follow_cursor();
}

int Footsteps::rows_shown() const { return std::max(1, (viewport()->height() - kHead) / kRow); }
std::uint64_t Footsteps::top_row() const { return scroll_.top(); }

void Footsteps::renew() {
    store_.use(document_.recording(), document_.trail(), stream_);
    const auto trail = document_.trail();
    sources_.use(document_.recording().get(),
                 trail && stream_ < trail->steps.size() ? trail->steps[stream_].core_index : 0);
    set_range();
}

// How far the bar at the side goes.
void Footsteps::set_range() {
    scroll_.set_range(row_count(), static_cast<std::uint64_t>(rows_shown()));
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
    // At the moment of a fault one wants to see what raised it.
    if (const StepTrapAt* raised = raised_at(view_.cursor()); raised != nullptr && raised->step < row_count()) {
        place(raised->step, true);
        tell_current();
        return;
    }
    // Where many instructions have one time, the cursor alone does not say that somebody went on meanwhile.
    store_.find(view_.cursor(), [this, asked = view_.cursor(), stream = stream_, moves = moves_](std::uint64_t step) {
        if (step >= row_count() || asked != view_.cursor() || stream != stream_ || moves != moves_) return;
        place(step, false);
        tell_current();
    });
}

void Footsteps::place(std::uint64_t step, bool raised) {
    ++moves_;
    current_ = step;
    at_raised_ = raised;
    show_row(step);
}

bool Footsteps::is_raised(const StepTrapAt& t) const {
    const Code& code = *document_.trail()->steps[stream_].code;
    const auto id = exception_of(t.trap, code);
    return id && id->is_fault() && t.trap.slot(code) != Code::kNowhere;
}

const StepTrapAt* Footsteps::raised_before(std::uint64_t step) const {
    const auto& traps = document_.trail()->steps[stream_].traps;
    for (std::size_t i = traps.partition_point([step](const StepTrapAt& t) { return t.step < step; });
         i < traps.size() && traps[i].step == step; ++i)
        if (is_raised(traps[i])) return &traps[i];
    return nullptr;
}

const StepTrapAt* Footsteps::raised_at(Time time) const {
    const auto& traps = document_.trail()->steps[stream_].traps;
    for (std::size_t i = traps.partition_point([time](const StepTrapAt& t) { return t.time < time; });
         i < traps.size() && traps[i].time == time; ++i)
        if (is_raised(traps[i])) return &traps[i];
    return nullptr;
}

std::uint32_t Footsteps::slot_of(const StepTrapAt& raised) const {
    return raised.trap.slot(*document_.trail()->steps[stream_].code);
}

// As row_texts.
QStringList Footsteps::raised_texts(const StepTrapAt& raised) {
    const StepTrail& steps = document_.trail()->steps[stream_];
    const std::uint32_t slot = slot_of(raised);
    auto found = raised_.find(slot);
    if (found == raised_.end()) {
        const auto place = document_.recording()->line_of(steps.core_index, slot);
        found = raised_
                    .emplace(slot,
                             QStringList{
                                 words(hex_text(raised.trap.epc, 8)), words(Disassembler(*steps.code).text(slot)),
                                 words((*steps.functions)[steps.functions->at(slot)].name),
                                 place ? QFileInfo(words(place->file)).fileName() + ":" + QString::number(place->line)
                                       : QStringLiteral("–")})
                    .first;
    }
    const auto id = exception_of(raised.trap, *steps.code);
    const QString what =
        tr("raised %1").arg(words(document_.recording()->exception_name(steps.core_index, id->code())));
    const QStringList& t = found->second;
    return {what,      steps.clock != StepClock::none ? words(moment_text(raised.time)) : QStringLiteral("–"),
            QString(), t[0],
            t[1],      t[2],
            t[3]};
}

std::vector<Footsteps::Row> Footsteps::rows_on_screen() {
    std::vector<Row> rows;
    std::uint64_t at = row_of(top_row()).first;
    while (static_cast<int>(rows.size()) <= rows_shown() && at < row_count()) {
        const Row row = row_of(at);
        if (const StepTrapAt* raised = raised_before(row.first)) rows.push_back({row.first, row.first, raised});
        rows.push_back(row);
        at = row.end;
    }
    return rows;
}

void Footsteps::tell_current() {
    if (!current_) return;
    ask_stack();
    if (const StepTrapAt* raised = at_raised_ ? raised_before(*current_) : nullptr)
        emit current_changed(stream_, slot_of(*raised));
    else if (const StepLine* l = line(*current_))
        emit current_changed(stream_, l->slot);
}

void Footsteps::show_row(std::uint64_t step) {
    std::uint64_t shown = static_cast<std::uint64_t>(rows_shown());
    bool there = step >= top_row();
    if (there && (fold_ == Fold::lines || fold_ == Fold::functions)) {
        // As many rows as fit, however many steps they hold.
        std::uint64_t at = top_row();
        for (std::uint64_t i = 0; i < shown && at <= step && at < row_count(); ++i) at = row_of(at).end;
        there = step < at;
    } else {
        there = there && step < top_row() + shown;
    }
    if (!there) {
        std::uint64_t top = step;
        if (fold_ == Fold::lines || fold_ == Fold::functions) {
            for (std::uint64_t i = 0; i < shown / 2 && top > 0 && line(top - 1) != nullptr; ++i)
                top = row_of(top - 1).first;
        } else {
            top = step > shown / 2 ? step - shown / 2 : 0;
        }
        scroll_.set_top(top);
        placing_ = line(step) == nullptr || (top > 0 && line(top - 1) == nullptr);
    }
    viewport()->update();
}

void Footsteps::set_fold(Fold fold) {
    fold_ = fold;
    static_cast<QToolButton*>(fold_buttons_[static_cast<std::size_t>(fold)])->setChecked(true);
    verticalScrollBar()->setVisible(fold != Fold::stack);
    frames_at_.reset();
    ask_stack();
    if (current_) show_row(*current_);
    viewport()->update();
}

// The stack is looked up where somebody looks at it.
void Footsteps::ask_stack() {
    if (fold_ != Fold::stack || !current_ || frames_at_ == *current_) return;
    if (frames_at_ && frame_ < frames_.size() && frames_[frame_].step == *current_)
        return;  // a level of the stack that is shown was chosen
    frames_at_ = *current_;
    frames_time_ = view_.cursor();
    store_.stack(*current_, [this](std::vector<TraceFrame> frames) {
        frames_ = std::move(frames);
        frame_ = 0;
        viewport()->update();
    });
}

void Footsteps::choose_frame(std::size_t index) {
    if (index >= frames_.size() || frames_[index].slot == Code::kNowhere) return;
    frame_ = index;
    go_to(frames_[index].step);
}

bool Footsteps::together(const StepLine& before, const StepLine& line) const {
    if (!line.before.isEmpty() || before.function != line.function || before.depth != line.depth) return false;
    return fold_ == Fold::functions || before.place == line.place;
}

Footsteps::Row Footsteps::row_of(std::uint64_t step) {
    if (fold_ == Fold::instructions || fold_ == Fold::stack) return {step, step + 1};
    const auto chunk = store_.get(step / StepStore::kChunk);
    const std::uint64_t base = step - step % StepStore::kChunk;
    if (!chunk || step - base >= chunk->size())
        return {base, std::min(base + StepStore::kChunk, std::max(row_count(), base + 1))};
    const auto& lines = *chunk;
    std::uint64_t first = step - base, end = first + 1;
    while (first > 0 && together(lines[first - 1], lines[first])) --first;
    while (end < lines.size() && together(lines[end - 1], lines[end])) ++end;
    return {base + first, base + end};
}

void Footsteps::go_to(std::uint64_t step) {
    if (row_count() == 0) return;
    step = std::min(step, row_count() - 1);
    place(step, false);
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
    const StepTrail& steps = document_.trail()->steps[stream_];
    auto there = document_.recording()->slots_of(steps.core_index, text.trimmed().toStdString());
    if (!there) return tl::make_unexpected(there.error());
    if (steps.counters) {
        const auto executions = steps.counters->executions(*steps.code);
        if (std::all_of(there->begin(), there->end(), [&](std::uint32_t slot) { return executions[slot] == 0; }))
            return failure(text.trimmed().toStdString() + " was never executed in this recording", "", "");
    }
    seek_execution(std::move(*there), direction);
    return {};
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

void Footsteps::step_out(int direction) {
    const StepLine* l = current_ ? line(*current_) : nullptr;
    if (l == nullptr || l->calls == 0) return;
    if (!l->within.isEmpty()) {  // out of what is inlined: to what holds it, whichever way
        seek(direction, [](const StepLine& a, const StepLine& b) { return b.depth < a.depth; });
        return;
    }
    const StepTrail& steps = document_.trail()->steps[stream_];
    if (l->calls > steps.levels.size()) return;
    const CallLevel& level = steps.levels[l->calls - 1u];
    const auto call = level.at(l->time);
    if (!call) return;
    if (direction < 0) {
        const std::uint64_t first = level[*call].step;
        if (first > 0) go_to(first - 1);
        return;
    }
    store_.find(level[*call].end(), [this](std::uint64_t step) { go_to(step); });
}

void Footsteps::step_line(int direction) {
    seek(direction,
         [](const StepLine& a, const StepLine& b) { return a.place != b.place || a.function != b.function; });
}
void Footsteps::step_instruction(int direction) {
    if (!current_) return;
    if (direction < 0 && *current_ == 0) return;
    go_to(direction < 0 ? *current_ - 1 : *current_ + 1);
}
void Footsteps::step_new_line() {
    if (row_count() == 0) return;
    store_.search_new_line(current_.value_or(0), [this](std::optional<std::uint64_t> step) {
        if (step)
            go_to(*step);
        else
            emit no_new_line();
    });
}
void Footsteps::step_function(int direction) {
    seek(direction,
         [](const StepLine& a, const StepLine& b) { return a.function != b.function || a.depth != b.depth; });
}

namespace {

// So long a time in cycles of a clock: whole ones, or with one digit behind the point.
QString cycles_text(const Clock& clock, Time t) {
    const double cycles = t.seconds() * static_cast<double>(clock.hz);
    return QString::number(cycles, 'f', std::fabs(cycles - std::round(cycles)) < 0.05 ? 0 : 1);
}

}  // namespace

QStringList Footsteps::texts(std::uint64_t step) {
    const StepLine* l = line(step);
    if (l == nullptr) return {};
    const auto trail = document_.trail();
    const StepTrail& steps = trail->steps[stream_];
    const bool timed = steps.clock != StepClock::none;
    return {words(count_text(step)),
            timed ? (l->told ? QString() : QStringLiteral("≈ ")) + words(moment_text(l->time)) : QStringLiteral("–"),
            l->address,
            l->text,
            l->function,
            l->place,
            l->before,
            timed ? cycles_text(trail->cores[steps.core_index].clock, l->took) : QStringLiteral("–"),
            l->within};
}

// instruction, time, cycles, address or how many, what, function, source
QStringList Footsteps::row_texts(const Row& row) {
    if (row.raised != nullptr) return raised_texts(*row.raised);
    QStringList all = texts(row.first);
    if (all.isEmpty()) return all;
    QStringList cells = {all[0], all[1], all[7], all[2], all[3], all[4], all[5]};
    if (fold_ == Fold::instructions) return cells;
    const StepLine *first = line(row.first), *last = line(row.end - 1);
    const auto trail = document_.trail();
    const StepTrail& steps = trail->steps[stream_];
    if (steps.clock != StepClock::none && last != nullptr)
        cells[2] = cycles_text(trail->cores[steps.core_index].clock, last->time + last->took - first->time);
    const auto count = row.end - row.first;
    cells[3] = count == 1 ? tr("1 instr.") : tr("%1 instr.").arg(words(count_text(count)));
    cells[4] = fold_ != Fold::lines || first->file.isEmpty() ? QString() : sources_.line(first->file, first->line);
    if (fold_ == Fold::lines && cells[4].isNull()) cells[4] = QStringLiteral("–");
    if (fold_ == Fold::functions && last != nullptr && last->place != first->place)
        cells[6] = first->place + QStringLiteral(" … ") + QString::number(last->line);
    if (fold_ == Fold::functions && !first->within.isEmpty()) cells[4] = tr("inlined in %1").arg(first->within);
    return cells;
}

// level, entered, –, –, how, function, source
QStringList Footsteps::frame_texts(const TraceFrame& f) const {
    const auto trail = document_.trail();
    const bool timed = trail->steps[stream_].clock != StepClock::none;
    const QString how = f.inlined      ? tr("inlined: no call of its own")
                        : !f.seen      ? tr("its entry was not seen")
                        : f.handler    ? tr("entered by an exception")
                        : f.level == 0 ? tr("the outermost")
                                       : tr("called");
    return {QString::number(f.level + 1),
            f.inlined || !timed ? QStringLiteral("–") : words(moment_text(f.entered)),
            f.inlined || !timed ? QStringLiteral("–")
                                : cycles_text(trail->cores[trail->steps[stream_].core_index].clock,
                                              std::max(Time{}, frames_time_ - f.entered)),
            f.slot == Code::kNowhere ? QStringLiteral("–")
                                     : words(hex_text(trail->steps[stream_].code->address(f.slot), 8)),
            how,
            words(f.name),
            f.file.empty() ? QStringLiteral("–") : words(f.file).section('/', -1) + ":" + QString::number(f.line)};
}

QStringList Footsteps::shown() {
    QStringList all;
    if (fold_ == Fold::stack) {
        for (const TraceFrame& f : frames_) all << frame_texts(f).join('\t');
        return all;
    }
    for (const Row& row : rows_on_screen())
        if (all.size() < rows_shown()) all << row_texts(row).join('\t');
    return all;
}

QString Footsteps::copied_text() {
    if (fold_ == Fold::stack) return shown().join('\n');
    if (!current_) return {};
    const StepTrapAt* raised = at_raised_ ? raised_before(*current_) : nullptr;
    return (raised != nullptr ? raised_texts(*raised) : row_texts(row_of(*current_))).join('\t');
}

std::array<int, 7> Footsteps::columns() const {
    std::array<int, 7> widths = {100, 140, 66, 96, 230, 0, 150};
    if (fold_ == Fold::lines) widths[4] = 330;
    if (fold_ == Fold::stack) widths[0] = 60;
    const auto trail = document_.trail();
    const bool wide = trail && stream_ < trail->steps.size() && trail->steps[stream_].code && address_bits(trail->steps[stream_].code->isa()) == 64;
    if (wide && fold_ == Fold::instructions) widths[3] = 150;
    int rest = viewport()->width() - 24;
    // Where there is little room, what was executed and where counts; times and lines stand beside it elsewhere.
    if (rest < 840) widths[6] = widths[2] = 0;
    if (rest < 600) widths = {74, 0, 0, widths[3] == 150 ? 136 : 88, fold_ == Fold::lines ? 210 : 150, 0, 0};
    for (const int w : widths) rest -= w;
    const int least = widths[1] == 0 ? 70 : 140;
    if (rest < least) widths[4] = std::max(120, widths[4] + rest - least), rest = least;
    widths[5] = rest;
    return widths;
}

void Footsteps::paintEvent(QPaintEvent*) {
    QPainter p(viewport());
    const Theme& t = theme();
    p.fillRect(viewport()->rect(), t.panel);
    p.setFont(text_font(11));
    p.setPen(t.second);
    bar_->setVisible(row_count() > 0);
    if (row_count() == 0) {
        p.drawText(viewport()->rect(), Qt::AlignCenter,
                   document_.trail() && !document_.busy() ? tr("This recording holds no instruction trace.")
                                                          : tr("Executed instructions come here."));
        return;
    }
    const auto widths = columns();
    const bool stack = fold_ == Fold::stack;
    const QString headings[] = {stack ? tr("level") : tr("instruction"),
                                stack ? tr("entered") : tr("time"),
                                stack ? tr("for cycles") : tr("≈ cycles"),
                                fold_ == Fold::lines || fold_ == Fold::functions ? tr("executed") : tr("address"),
                                stack                      ? tr("how")
                                : fold_ == Fold::lines     ? tr("source text")
                                : fold_ == Fold::functions ? QString()
                                                           : tr("executed"),
                                tr("function"),
                                tr("source")};
    int x = 12;
    for (std::size_t c = 0; c < widths.size(); ++c) {
        if (widths[c] == 0) continue;
        p.drawText(QRect(x, 0, widths[c] - 8, kHead),
                   Qt::AlignVCenter | (c == 0 || c == 2 ? Qt::AlignRight : Qt::AlignLeft), headings[c]);
        x += widths[c];
    }
    p.setPen(t.rule);
    p.drawLine(0, kHead - 1, viewport()->width(), kHead - 1);
    if (stack)
        paint_stack(p);
    else
        paint_rows(p);
}

void Footsteps::paint_stack(QPainter& p) {
    const Theme& t = theme();
    const auto widths = columns();
    if (frames_.empty()) {
        p.setPen(t.second);
        p.drawText(QRect(12, kHead, 400, kRow), Qt::AlignVCenter,
                   current_ ? tr("…") : tr("Choose an instruction, or put the cursor somewhere."));
        return;
    }
    for (std::size_t i = 0; i < frames_.size(); ++i) {
        const int y = kHead + static_cast<int>(i) * kRow;
        if (y > viewport()->height()) break;
        if (i == frame_) p.fillRect(0, y, viewport()->width(), kRow, t.selected);
        const QStringList cells = frame_texts(frames_[i]);
        int x = 12;
        for (std::size_t c = 0; c < widths.size(); ++c) {
            if (widths[c] == 0) continue;
            p.setFont(c == 3 ? fixed_font(11) : text_font(c == 5 ? 12 : 11, c == 5 && !frames_[i].inlined));
            p.setPen(c == 5 ? frames_[i].handler ? t.interrupt : t.text : t.second);
            const QRect cell(x, y, widths[c] - 8, kRow);
            p.drawText(cell, Qt::AlignVCenter | (c == 0 || c == 2 ? Qt::AlignRight : Qt::AlignLeft),
                       p.fontMetrics().elidedText(cells[static_cast<int>(c)], Qt::ElideRight, cell.width()));
            x += widths[c];
        }
    }
}

void Footsteps::paint_rows(QPainter& p) {
    const Theme& t = theme();
    const auto widths = columns();
    const int width = viewport()->width();
    QString above;
    const auto rows = rows_on_screen();
    for (int i = 0; i < static_cast<int>(rows.size()); ++i) {
        const Row& row = rows[static_cast<std::size_t>(i)];
        const QRect area(0, kHead + i * kRow, width, kRow);
        const bool is_current =
            current_ && (row.raised != nullptr ? at_raised_ && *current_ == row.first
                                               : !at_raised_ && *current_ >= row.first && *current_ < row.end);
        if (is_current) p.fillRect(area, t.selected);
        const QStringList cells = row_texts(row);
        if (cells.isEmpty()) {
            p.setPen(t.second);
            p.drawText(QRect(12, area.top(), 300, kRow), Qt::AlignVCenter, "…");
            continue;
        }
        const StepLine* l = line(row.first);
        int x = 12;
        if (row.raised != nullptr) {  // it did not complete
            p.setPen(t.finding);
            for (std::size_t c = 0; c < widths.size(); ++c) {
                if (widths[c] == 0) continue;
                p.setFont(c == 3 || c == 4 ? fixed_font(11) : text_font(11));
                p.drawText(QRect(x, area.top(), widths[c] - 8, kRow), Qt::AlignVCenter | Qt::AlignLeft,
                           p.fontMetrics().elidedText(cells[static_cast<int>(c)], Qt::ElideRight, widths[c] - 8));
                x += widths[c];
            }
            above.clear();
            continue;
        }
        for (std::size_t c = 0; c < widths.size(); ++c) {
            if (widths[c] == 0) continue;
            const bool fixed = (c == 3 && fold_ == Fold::instructions) || (c == 4 && fold_ != Fold::functions);
            p.setFont(fixed ? fixed_font(11) : text_font(11));
            p.setPen(c <= 2 || c == 6 || (c == 3 && fold_ != Fold::instructions) ? t.second : t.text);
            QRect cell(x, area.top(), widths[c] - 8, kRow);
            QString text = cells[static_cast<int>(c)];
            if (c == 5) {
                // The function stands where it begins to run; the depth of the stack shows as indentation.
                cell.setLeft(cell.left() + std::min<int>(l->depth, 12) * (widths[1] == 0 ? 2 : 8));
                if (text == above && i > 0 && l->before.isEmpty() && fold_ != Fold::functions)
                    text = "·";
                else if (!l->within.isEmpty())
                    text += tr(", in %1").arg(l->within);
                if (!l->before.isEmpty()) {
                    p.setPen(t.interrupt);
                    text = l->before + "  ▸ " + text;
                }
            }
            p.drawText(cell, Qt::AlignVCenter | (c == 0 || c == 2 ? Qt::AlignRight : Qt::AlignLeft),
                       p.fontMetrics().elidedText(text, Qt::ElideRight, cell.width()));
            x += widths[c];
        }
        if (above != l->function && i > 0) {
            p.setPen(t.rule);
            p.drawLine(0, area.top(), width, area.top());
        }
        above = l->function;
    }
}

void Footsteps::resizeEvent(QResizeEvent*) {
    bar_->setGeometry(0, 0, width(), kBar);
    bar_->findChild<QLabel*>("fold_label")->setVisible(width() >= 560);
    set_range();
    if (current_) show_row(*current_);
}

void Footsteps::mousePressEvent(QMouseEvent* e) {
    const int row = (e->pos().y() - kHead) / kRow;
    if (e->button() != Qt::LeftButton || e->pos().y() < kHead || row_count() == 0) return;
    if (fold_ == Fold::stack) {
        choose_frame(static_cast<std::size_t>(row));
        return;
    }
    const auto rows = rows_on_screen();
    if (row < 0 || static_cast<std::size_t>(row) >= rows.size()) return;
    if (const Row& chosen = rows[static_cast<std::size_t>(row)]; chosen.raised != nullptr) {
        go_to_raised(*chosen.raised);
    } else {
        go_to(chosen.first);
    }
}

// What a row stands for, in more detail.
void Footsteps::mouseDoubleClickEvent(QMouseEvent* e) {
    mousePressEvent(e);
    if (e->button() == Qt::LeftButton && e->pos().y() >= kHead && fold_ != Fold::instructions)
        set_fold(fold_ == Fold::stack ? Fold::lines : static_cast<Fold>(static_cast<int>(fold_) + 1));
}

void Footsteps::wheelEvent(QWheelEvent* e) {
    const int rows = -e->angleDelta().y() / 40;
    placing_ = false;
    if (fold_ == Fold::lines || fold_ == Fold::functions) {
        std::uint64_t at = row_of(top_row()).first;
        for (int i = 0; i < rows && at < row_count(); ++i) at = row_of(at).end;
        for (int i = 0; i < -rows && at > 0; ++i) at = row_of(at - 1).first;
        scroll_.set_top(at);
    } else {
        scroll_.scroll(rows);
    }
    e->accept();
}

void Footsteps::go_to_raised(const StepTrapAt& raised) {
    place(raised.step, true);
    own_move_ = true;
    view_.set_cursor(raised.time);
    own_move_ = false;
    tell_current();
}

// To the next instruction; what raised a fault lies between two that were executed.
void Footsteps::step_row(int direction) {
    const std::uint64_t now = current_.value_or(top_row());
    const std::uint64_t to = direction > 0 ? now + (at_raised_ ? 0 : 1) : now;
    if (const StepTrapAt* raised = at_raised_ ? nullptr : raised_before(to))
        go_to_raised(*raised);
    else
        go_to(direction > 0 || now == 0 ? to : now - 1);
}

// To another row of those that are folded.
void Footsteps::move_row(int direction, int rows) {
    if (fold_ == Fold::stack) {
        if (direction > 0 || frame_ > 0) choose_frame(frame_ + static_cast<std::size_t>(direction));
        return;
    }
    Row row = row_of(current_.value_or(top_row()));
    for (int i = 0; i < rows; ++i) {
        if (direction > 0 ? row.end >= row_count() : row.first == 0) break;
        row = row_of(direction > 0 ? row.end : row.first - 1);
    }
    go_to(row.first);
}

void Footsteps::keyPressEvent(QKeyEvent* e) {
    const bool line_wise = (e->modifiers() & Qt::ShiftModifier) != 0,
               by_function = (e->modifiers() & Qt::AltModifier) != 0;
    const bool folded = fold_ != Fold::instructions;
    const std::uint64_t now = current_.value_or(top_row()), page = static_cast<std::uint64_t>(rows_shown());
    if (e->matches(QKeySequence::Copy)) {
        QGuiApplication::clipboard()->setText(copied_text());
        return;
    }
    switch (e->key()) {
        case Qt::Key_Left:
            if (fold_ != Fold::stack) set_fold(static_cast<Fold>(static_cast<int>(fold_) - 1));
            break;
        case Qt::Key_Right:
            if (folded) set_fold(static_cast<Fold>(static_cast<int>(fold_) + 1));
            break;
        case Qt::Key_Down:
        case Qt::Key_Up: {
            const int direction = e->key() == Qt::Key_Down ? 1 : -1;
            if ((e->modifiers() & Qt::ControlModifier) != 0)
                step_out(direction);
            else if (by_function)
                step_function(direction);
            else if (line_wise)
                step_line(direction);
            else if (folded)
                move_row(direction);
            else
                step_row(direction);
            break;
        }
        case Qt::Key_PageDown:
            if (folded)
                move_row(1, rows_shown());
            else
                go_to(now + page);
            break;
        case Qt::Key_PageUp:
            if (folded)
                move_row(-1, rows_shown());
            else
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

void Footsteps::contextMenuEvent(QContextMenuEvent* e) {
    if (row_count() == 0) return;
    if (e->reason() == QContextMenuEvent::Mouse) {
        QMouseEvent press(QEvent::MouseButtonPress, e->pos(), e->globalPos(), Qt::LeftButton, Qt::LeftButton, {});
        mousePressEvent(&press);
    }
    QMenu menu(this);
    menu.addAction(tr("Copy the row"), this, [this] { QGuiApplication::clipboard()->setText(copied_text()); })
        ->setEnabled(current_.has_value());
    menu.addSeparator();
    if (const StepLine* l = current_ && !at_raised_ ? line(*current_) : nullptr) {
        menu.addAction(tr("Next execution of this instruction"), this,
                       [this, slot = l->slot] { seek_execution({slot}, 1); });
        menu.addAction(tr("Previous execution of this instruction"), this,
                       [this, slot = l->slot] { seek_execution({slot}, -1); });
        menu.addAction(tr("To the instruction that called this function"), this, [this] { step_out(-1); });
        menu.addAction(tr("Behind the return of this function"), this, [this] { step_out(1); });
        menu.addSeparator();
        if (in_hand_) {
            menu.addAction(tr("Stop at %1, or no longer").arg(l->address), this, [this, at = l->address] { emit stop_wanted(at); });
            menu.addAction(tr("Run to %1").arg(l->address), this, [this, at = l->address] { emit run_wanted(at); });
            menu.addSeparator();
        }
        if (document_.trail()->steps[stream_].clock != StepClock::none)
            add_moment_actions(menu, document_, view_, l->time);
    }
    menu.exec(e->globalPos());
}

}  // namespace mt::app
