#include "evidence/source_view.h"

#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QShortcut>
#include <QScrollBar>
#include <QTextBlock>
#include <QToolTip>
#include <QVBoxLayout>

#include <algorithm>
#include <cmath>
#include <memory>

#include "base/text.h"
#include "document/source_files.h"
#include "look/layout.h"
#include "look/theme.h"
#include "look/words.h"
#include "target/disassembly.h"

namespace mt::app {
namespace {

constexpr int kLineWidth = 44, kWaysWidth = 26, kCountWidth = 104, kGap = 8;
constexpr int kRenewMs = 700;

// Which ways branches went: an arrow that turns off for "taken", one straight down for "not taken"; faint where none did.
void paint_ways(QPainter& p, const QRectF& at, const SourceRow& r) {
    const Theme& t = theme();
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    const double y = at.center().y();
    const auto ink = [&](bool went) { return QPen(went ? t.text : t.finding, went ? 1.4 : 1.0, went ? Qt::SolidLine : Qt::DotLine); };
    const auto head = [&](const QPointF& tip, const QPointF& a, const QPointF& b) {
        p.drawLine(tip, tip + a);
        p.drawLine(tip, tip + b);
    };
    p.setPen(ink(r.taken > 0));
    const double left = at.left() + 2;
    p.drawLine(QPointF(left, y - 4), QPointF(left, y + 1));
    p.drawLine(QPointF(left, y + 1), QPointF(left + 8, y + 1));
    head({left + 8, y + 1}, {-3, -3}, {-3, 3});
    p.setPen(ink(r.not_taken > 0));
    const double right = at.left() + 17;
    p.drawLine(QPointF(right, y - 4), QPointF(right, y + 5));
    head({right, y + 5}, {-3, -3}, {3, -3});
    p.restore();
}

}  // namespace

class SourceMargin : public QWidget {
  public:
    explicit SourceMargin(SourceText* text) : QWidget(text), text_(text) {}
    QSize sizeHint() const override { return {text_->margin_width(), 0}; }

  protected:
    void paintEvent(QPaintEvent* e) override { text_->paint_margin(e); }
    void mouseDoubleClickEvent(QMouseEvent* e) override {
        emit text_->row_chosen(text_->row_at({0, static_cast<int>(e->position().y())}));
    }
    bool event(QEvent* e) override {
        if (e->type() != QEvent::ToolTip) return QWidget::event(e);
        const auto* help = static_cast<QHelpEvent*>(e);
        QToolTip::showText(help->globalPos(), text_->told_of(text_->row_at({0, help->pos().y()})), this);
        return true;
    }

  private:
    SourceText* text_;
};

SourceText::SourceText(QWidget* parent) : QPlainTextEdit(parent), margin_(new SourceMargin(this)) {
    setReadOnly(true);
    setLineWrapMode(QPlainTextEdit::NoWrap);
    setFrameShape(QFrame::NoFrame);
    setObjectName("source_text");
    setAccessibleName(tr("Source"));
    connect(this, &QPlainTextEdit::updateRequest, margin_, [this](const QRect& area, int dy) {
        if (dy != 0)
            margin_->scroll(0, dy);
        else
            margin_->update(0, area.y(), margin_->width(), area.height());
    });
    setViewportMargins(margin_width(), 0, 0, 0);
}

int SourceText::margin_width() const { return kLineWidth + kWaysWidth + kCountWidth + kGap; }

QString SourceText::told_of(int row) const {
    if (!counted_ || row < 0 || static_cast<std::size_t>(row) >= rows_.size()) return {};
    const SourceRow& r = rows_[static_cast<std::size_t>(row)];
    if (!r.has_code) return {};
    QString text = r.count == 0 ? tr("not run") : tr("ran %1").arg(words(plural(r.count, "time", "times")));
    if (r.decides && r.count > 0)
        text += "\n" + tr("its branches: taken %1, not taken %2").arg(words(count_text(r.taken)), words(count_text(r.not_taken)));
    if (r.merged) text += "\n" + tr("≈ the compiler merged this line with another, or moved it: no instruction is its alone");
    if (r.partly) text += "\n" + tr("not all of it ran, or a branch went one way only");
    return text;
}

void SourceText::set_rows(std::vector<SourceRow> rows, bool counted) {
    rows_ = std::move(rows);
    counted_ = counted;
    most_ = 0;
    QStringList lines;
    for (const SourceRow& r : rows_) {
        most_ = std::max(most_, r.count);
        lines << (r.slot == Code::kNowhere ? r.text : "        " + r.text);
    }
    marked_.reset();
    setFont(fixed_font(11));
    setPlainText(lines.join('\n'));
    setExtraSelections({});
    // Instructions stand back behind the source.
    QTextCharFormat second;
    second.setForeground(theme().second);
    QTextCursor c(document());
    for (int i = 0; i < static_cast<int>(rows_.size()); ++i) {
        if (rows_[static_cast<std::size_t>(i)].slot == Code::kNowhere) continue;
        c.setPosition(document()->findBlockByNumber(i).position());
        c.movePosition(QTextCursor::EndOfBlock, QTextCursor::KeepAnchor);
        c.setCharFormat(second);
    }
    margin_->update();
}

void SourceText::mark(std::optional<int> row) {
    marked_ = row;
    QList<QTextEdit::ExtraSelection> all;
    if (row) {
        QTextEdit::ExtraSelection s;
        s.format.setBackground(theme().selected);
        s.format.setProperty(QTextFormat::FullWidthSelection, true);
        s.cursor = QTextCursor(document()->findBlockByNumber(*row));
        all << s;
        setTextCursor(s.cursor);
        centerCursor();
    }
    setExtraSelections(all);
    margin_->update();
}

void SourceText::resizeEvent(QResizeEvent* e) {
    QPlainTextEdit::resizeEvent(e);
    const QRect r = contentsRect();
    margin_->setGeometry(r.left(), r.top(), margin_width(), r.height());
}

void SourceText::mouseDoubleClickEvent(QMouseEvent* e) { emit row_chosen(row_at(e->pos())); }

void SourceText::paint_margin(QPaintEvent* e) {
    const Theme& t = theme();
    QPainter p(margin_);
    p.fillRect(e->rect(), t.panel);
    QTextBlock block = firstVisibleBlock();
    qreal y = blockBoundingGeometry(block).translated(contentOffset()).top();
    const qreal height = blockBoundingRect(block).height();
    for (; block.isValid() && y <= e->rect().bottom(); block = block.next(), y += height) {
        const auto i = static_cast<std::size_t>(block.blockNumber());
        if (i >= rows_.size()) break;
        const SourceRow& r = rows_[i];
        const QRectF row(0, y, margin_width() - kGap, height);
        if (marked_ == block.blockNumber()) p.fillRect(row.adjusted(0, 0, kGap, 0), t.selected);
        p.setFont(fixed_font(11));
        p.setPen(t.second);
        const bool source = r.slot == Code::kNowhere;
        if (source)
            p.drawText(QRectF(0, y, kLineWidth - 6, height), Qt::AlignRight | Qt::AlignVCenter,
                       QString::number(r.line));
        if (!r.has_code || !counted_) continue;
        const QRectF cell(kLineWidth + kWaysWidth, y, kCountWidth, height);
        if (r.decides && r.count > 0) paint_ways(p, QRectF(kLineWidth, y, kWaysWidth, height), r);
        // At the left edge: a full stroke where nothing ran, a broken one where something of it did not.
        if (r.count == 0)
            p.fillRect(QRectF(cell.left() - 4, y, 3, height), t.finding);
        else if (r.partly)
            for (int piece = 0; piece < 2; ++piece)
                p.fillRect(QRectF(cell.left() - 4, y + 2 + piece * height / 2, 3, height / 2 - 4), t.waiting);
        if (r.count > 0 && most_ > 0) {
            // The bar's length says which lines are hot: a decade is a fifth of it.
            const double share = std::clamp(1 + std::log10(double(r.count) / double(most_)) / 5, 0.04, 1.0);
            QColor bar = t.measure;
            bar.setAlpha(source ? 70 : 35);
            p.fillRect(QRectF(cell.right() - cell.width() * share, y + 2, cell.width() * share, height - 4), bar);
        }
        p.setPen(r.count == 0 ? t.second : t.text);
        p.drawText(cell.adjusted(0, 0, -4, 0), Qt::AlignRight | Qt::AlignVCenter,
                   (r.merged ? QStringLiteral("≈ ") : QString()) + (r.count == 0 ? tr("not run") : words(count_text(r.count))));
    }
    p.setPen(t.rule);
    p.drawLine(margin_width() - kGap / 2, e->rect().top(), margin_width() - kGap / 2, e->rect().bottom());
}

SourceView::SourceView(Document& document, QWidget* parent) : QWidget(parent), document_(document) {
    setAccessibleName(tr("Source"));
    const auto button = [](const QString& text, const QString& tip, const char* name) {
        auto* b = new QToolButton;
        b->setText(text);
        b->setToolTip(tip);
        b->setAccessibleName(tip);
        b->setObjectName(name);
        return b;
    };
    files_ = new QComboBox;
    files_->setObjectName("source_files");
    files_->setAccessibleName(tr("Source file"));
    files_->setMinimumWidth(180);
    place_ = new QLabel;
    place_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    place_->setFont(text_font(11));
    mixed_ = button(tr("Disassembly"), tr("Show each line's instructions below it"), "source_mixed");
    mixed_->setCheckable(true);
    previous_ = button("‹", tr("To the previous execution of this line (Ctrl+Up)"), "source_previous");
    next_ = button("›", tr("To the next execution of this line (Ctrl+Down)"), "source_next");
    previous_->setShortcut(Qt::CTRL | Qt::Key_Up);
    next_->setShortcut(Qt::CTRL | Qt::Key_Down);
    never_ = button(tr("Not run"), tr("To the next line that never ran (Ctrl+Shift+Down; Ctrl+Shift+Up: to the one before)"), "source_never");
    find_ = button(tr("Find…"), tr("Show where this file lies; others named alike are found with it"), "source_find");
    message_ = new QLabel;
    message_->setObjectName("source_message");
    message_->setWordWrap(true);
    message_->setFont(text_font(11));
    text_ = new SourceText;
    text_->setMinimumHeight(24);
    auto* top = new QHBoxLayout;
    top->addWidget(files_);
    top->addWidget(place_, 1);
    top->addWidget(find_);
    top->addWidget(mixed_);
    top->addWidget(never_);
    top->addWidget(previous_);
    top->addWidget(next_);
    auto* column = column_in(this, {12, 4, 12, 4}, 3);
    column->addLayout(top);
    column->addWidget(message_);
    column->addWidget(text_, 1);
    connect(files_, &QComboBox::activated, this, [this](int i) { show_file(files_->itemData(i).toUInt()); });
    connect(mixed_, &QToolButton::toggled, this, &SourceView::fill);
    connect(find_, &QToolButton::clicked, this, &SourceView::ask_source);
    connect(never_, &QToolButton::clicked, this, [this] { go_to_never_run(1); });
    for (const int direction : {1, -1})
        connect(new QShortcut(Qt::CTRL | Qt::SHIFT | (direction > 0 ? Qt::Key_Down : Qt::Key_Up), this,
                              nullptr, nullptr, Qt::WidgetWithChildrenShortcut),
                &QShortcut::activated, this, [this, direction] { go_to_never_run(direction); });
    connect(previous_, &QToolButton::clicked, this, [this] { step(-1); });
    connect(next_, &QToolButton::clicked, this, [this] { step(1); });
    connect(text_, &SourceText::row_chosen, this, [this](int row) {
        if (auto list = slots_of(row); !list.empty()) emit execution_wanted(std::move(list), 1);
    });
    connect(&document, &Document::opened, this, [this] {
        stream_ = 0;
        slot_ = Code::kNowhere;
        file_ = SourceMap::kNone;
        program_.reset();
        prepared_for_.reset();
        prepare();
    });
    connect(&document, &Document::finished, this, &SourceView::prepare);
    text_->setContextMenuPolicy(Qt::CustomContextMenu);
    connect(text_, &QWidget::customContextMenuRequested, this, &SourceView::show_menu);
    growth_.setSingleShot(true);
    growth_.setInterval(kRenewMs);
    connect(&growth_, &QTimer::timeout, this, &SourceView::prepare);
    connect(&document, &Document::grew, this, [this] {
        if (document_.live() && isVisible() && !growth_.isActive()) growth_.start();
    });
    fill();
}

void SourceView::showEvent(QShowEvent*) { prepare(); }

// Map and counts come from a job: an image may be large.
void SourceView::prepare() {
    const auto trail = document_.trail();
    if (!isVisible() || !trail || stream_ >= trail->steps.size()) return;
    const bool same = prepared_for_ != nullptr && program_ != nullptr && prepared_stream_ == stream_ &&
                      prepared_for_->steps[stream_].code == trail->steps[stream_].code;
    if (same && (trail->steps[stream_].counters == nullptr || program_->counters == trail->steps[stream_].counters)) return;
    prepared_for_ = trail;
    prepared_stream_ = stream_;
    const quint64 turn = ++turn_;
    jobs_.clear();
    jobs_.add([this, turn, trail, recording = document_.recording(), stream = stream_,
               known = same ? program_ : std::shared_ptr<const Program>()] {
        const StepTrail& steps = trail->steps[stream];
        auto program = std::make_shared<Program>();
        program->map = known ? known->map : recording->source_map(steps.core_index, *steps.code);
        if (steps.counters) program->executions = steps.counters->executions(*steps.code);
        program->counters = steps.counters;
        QMetaObject::invokeMethod(
            this,
            [this, turn, program, known = known != nullptr] {
                if (turn != turn_) return;
                program_ = program;
                if (known && file_ != SourceMap::kNone) {  // other counts: everything else stays where it is
                    const int at = text_->verticalScrollBar()->value();
                    fill();
                    text_->verticalScrollBar()->setValue(at);
                    return;
                }
                files_->clear();
                const auto& names = program_->map->files();
                for (std::uint32_t i = 0; i < names.size(); ++i) {
                    files_->addItem(QFileInfo(words(names[i])).fileName(), i);
                    files_->setItemData(static_cast<int>(i), words(names[i]), Qt::ToolTipRole);
                }
                file_ = SourceMap::kNone;
                show_slot(stream_, slot_);
            },
            Qt::QueuedConnection);
    });
}

void SourceView::show_slot(std::size_t stream, std::uint32_t slot) {
    if (stream != stream_) {
        stream_ = stream;
        program_.reset();
        file_ = SourceMap::kNone;
    }
    slot_ = slot;
    if (!program_) {
        prepare();
        return;
    }
    const auto place = program_->map->at(slot);
    if (place.file != SourceMap::kNone && place.file != file_) show_file(place.file);
    if (file_ == SourceMap::kNone) fill();
    mark();
}

void SourceView::show_file(std::uint32_t file) {
    file_ = file;
    files_->setCurrentIndex(files_->findData(file));
    fill();
}

SourcePaths SourceView::paths() const {
    const auto trail = document_.trail();
    return source_paths(document_.recording().get(),
                        trail && stream_ < trail->steps.size() ? trail->steps[stream_].core_index : ~std::size_t{0});
}

void SourceView::fill() {
    std::vector<SourceRow> rows;
    QString message;
    const auto trail = document_.trail();
    const bool any = trail && stream_ < trail->steps.size();
    bool found = true;
    if (!any) {
        message = tr("Source lines and their counts need instruction trace and an image with debug information.");
    } else if (program_ && program_->map->files().empty()) {
        message = tr("The image of core %1 has no line information (DWARF). Build it with -g to see its source.")
                      .arg(words(trail->steps[stream_].core));
    } else if (program_ && file_ != SourceMap::kNone) {
        const std::string& name = program_->map->files()[file_];
        const std::string path = find_source(name, paths());
        const std::vector<QString> lines = path.empty() ? std::vector<QString>() : read_source(words(path));
        found = !lines.empty();
        if (!found)
            message = tr("The image names %1, which is not here. Press “Find…” to show where it lies; until "
                         "then its lines stand without their text.")
                          .arg(words(name));
        const StepTrail& steps = trail->steps[stream_];
        const Disassembler disassembler(*steps.code);
        const auto entries = program_->map->in_file(file_);
        std::size_t next = 0;
        const auto count_of = [&](std::uint32_t slot) {
            return slot < program_->executions.size() ? program_->executions[slot] : 0;
        };
        const auto decides_at = [&](std::uint32_t slot) {
            return program_->counters != nullptr && decides((*steps.code)[slot].flow, (*steps.code)[slot].flags);
        };
        const auto one_way = [&](std::uint32_t slot) {
            if (!decides_at(slot) || count_of(slot) == 0) return false;
            const std::uint64_t taken = program_->counters->taken(slot), open = program_->counters->left_open(slot);
            return taken == 0 || taken + open >= count_of(slot);
        };
        const auto ways_of = [&](std::uint32_t slot) {
            if (!decides_at(slot) || count_of(slot) == 0) return QString();
            const std::uint64_t taken = program_->counters->taken(slot), open = program_->counters->left_open(slot);
            return tr("    taken %1, not %2")
                .arg(words(count_text(taken)), words(count_text(count_of(slot) - std::min(count_of(slot), taken + open))));
        };
        const auto add_ways = [&](SourceRow& row, std::uint32_t slot) {
            if (!decides_at(slot)) return;
            row.decides = true;
            const std::uint64_t taken = program_->counters->taken(slot), open = program_->counters->left_open(slot);
            row.taken += taken;
            row.not_taken += count_of(slot) - std::min(count_of(slot), taken + open);
        };
        const auto most = static_cast<std::uint32_t>(lines.size());
        const std::uint32_t last = found ? most : entries.empty() ? 0 : entries.back().line;
        for (std::uint32_t line = 1; line <= last; ++line) {
            SourceRow row;
            row.line = static_cast<int>(line);
            row.slot = Code::kNowhere;
            if (found) row.text = lines[line - 1];
            std::size_t end = next;
            while (end < entries.size() && entries[end].line == line) ++end;
            row.has_code = row.merged = end > next;
            for (std::size_t i = next; i < end; ++i) {
                const std::uint32_t slot = entries[i].slot;
                row.count = std::max(row.count, count_of(slot));
                row.partly = row.partly || count_of(slot) == 0 || one_way(slot);
                row.merged = row.merged && program_->map->at(slot) != SourceMap::Place{file_, line};
                add_ways(row, slot);
            }
            if (found || row.has_code) rows.push_back(row);
            if (mixed_->isChecked() || !found)
                for (std::size_t i = next; i < end; ++i) {
                    SourceRow insn;
                    insn.line = row.line;
                    insn.slot = entries[i].slot;
                    insn.has_code = true;
                    insn.count = count_of(insn.slot);
                    insn.partly = one_way(insn.slot);
                    add_ways(insn, insn.slot);
                    insn.text =
                        words(hex_text(steps.code->address(insn.slot), 8) + "  " + disassembler.text(insn.slot)) + ways_of(insn.slot);
                    rows.push_back(insn);
                }
            next = end;
        }
        if (found && next < entries.size() && entries[next].line > most)
            message = tr("The file is shorter than the image says: is it another version?");
        if (program_->executions.empty() && !document_.live())
            message += (message.isEmpty() ? "" : " ") + tr("Counts come when decoding has ended.");
    }
    message_->setText(message);
    message_->setVisible(!message.isEmpty());
    find_->setVisible(any && !found);
    text_->set_rows(std::move(rows), program_ && !program_->executions.empty());
    mark();
}

// Marks the row of the instruction that runs.
void SourceView::mark() {
    const auto trail = document_.trail();
    QString place;
    std::optional<int> row;
    if (program_ && trail && slot_ != Code::kNowhere) {
        const auto at = program_->map->at(slot_);
        const StepTrail& steps = trail->steps[stream_];
        place = tr("in %1").arg(words((*steps.functions)[steps.functions->at(slot_)].name));
        if (at.file == SourceMap::kNone)
            place += tr(", for which the image has no line");
        else if (at.file == file_)
            for (std::size_t i = 0; i < text_->rows().size(); ++i) {
                const SourceRow& r = text_->rows()[i];
                if (r.slot == slot_ || (!row && r.line == static_cast<int>(at.line))) row = static_cast<int>(i);
                if (r.slot == slot_) break;
            }
    }
    place_->setText(place);
    text_->mark(row);
}

std::vector<std::uint32_t> SourceView::slots_of(int row) const {
    std::vector<std::uint32_t> list;
    if (row < 0 || static_cast<std::size_t>(row) >= text_->rows().size() || !program_) return list;
    const SourceRow& r = text_->rows()[static_cast<std::size_t>(row)];
    if (r.slot != Code::kNowhere) {
        list.push_back(r.slot);
    } else if (const auto on = program_->map->on_line(file_, static_cast<std::uint32_t>(r.line)); !on.empty()) {
        // A line begins at its lowest instruction, and at those that others jump to: the lowest stands for it.
        list.push_back(on.front().slot);
    }
    return list;
}

// What the text can do, and why a line or a branch need not run.
void SourceView::show_menu(const QPoint& at) {
    const std::unique_ptr<QMenu> menu(text_->createStandardContextMenu());
    menu->setObjectName("source_menu");
    const int row = text_->row_at(at);
    const auto trail = document_.trail();
    if (row >= 0 && static_cast<std::size_t>(row) < text_->rows().size() && program_ && trail && file_ != SourceMap::kNone) {
        const SourceRow& r = text_->rows()[static_cast<std::size_t>(row)];
        const bool branch = r.slot != Code::kNowhere && r.decides;
        const QString line = QString("%1:%2").arg(QFileInfo(words(program_->map->files()[file_])).fileName()).arg(r.line);
        const QString place = branch ? words(hex_text(trail->steps[stream_].code->address(r.slot), 8)) : line;
        menu->addSeparator();
        if (in_hand_) {
            const QString stop = r.slot != Code::kNowhere ? words(hex_text(trail->steps[stream_].code->address(r.slot), 8)) : line;
            menu->addAction(tr("Stop at %1, or no longer").arg(stop), this, [this, stop] { emit stop_wanted(stop); })->setEnabled(r.has_code || r.slot != Code::kNowhere);
            menu->addAction(tr("Run to %1").arg(stop), this, [this, stop] { emit run_wanted(stop); })->setEnabled(r.has_code || r.slot != Code::kNowhere);
        }
        menu->addAction(branch ? tr("Say why the branch at %1 need not go both ways…").arg(place) : tr("Say why %1 need not run…").arg(place),
                        this, [this, place] { emit reason_wanted(place); })
            ->setEnabled(r.has_code);
    }
    menu->exec(text_->viewport()->mapToGlobal(at));
}

void SourceView::step(int direction) {
    if (auto list = slots_of(text_->textCursor().blockNumber()); !list.empty())
        emit execution_wanted(std::move(list), direction);
}

bool SourceView::go_to_never_run(int direction) {
    const auto& rows = text_->rows();
    if (!program_ || program_->executions.empty()) return false;
    const auto n = static_cast<int>(rows.size());
    for (int i = text_->textCursor().blockNumber() + direction; i >= 0 && i < n; i += direction) {
        const SourceRow& r = rows[static_cast<std::size_t>(i)];
        if (r.slot != Code::kNowhere || !r.has_code || r.count > 0) continue;
        text_->setTextCursor(QTextCursor(text_->document()->findBlockByNumber(i)));
        text_->centerCursor();
        return true;
    }
    message_->setText(direction > 0 ? tr("No line below here that never ran.") : tr("No line above here that never ran."));
    message_->show();
    return false;
}

void SourceView::set_mixed(bool on) { mixed_->setChecked(on); }

void SourceView::ask_source() {
    if (!program_ || file_ == SourceMap::kNone) return;
    const QString name = QFileInfo(words(program_->map->files()[file_])).fileName();
    const QString path = QFileDialog::getOpenFileName(this, tr("Where is %1?").arg(name), {}, name);
    if (path.isEmpty() || find_like(path)) return;
    message_->setText(tr("%1 is not called %2.").arg(path, name));
    message_->show();
}

bool SourceView::find_like(const QString& path) {
    if (!program_ || file_ == SourceMap::kNone) return false;
    QString from = words(program_->map->files()[file_]), to = path;
    if (QFileInfo(from).fileName() != QFileInfo(to).fileName()) return false;
    // What both end with is the same; what stands before it is replaced.
    while (!from.isEmpty() && !to.isEmpty() && from.back() == to.back()) {
        from.chop(1);
        to.chop(1);
    }
    // Whole directories only.
    const QString rest_from = words(program_->map->files()[file_]).mid(from.size());
    const qsizetype slash = rest_from.indexOf('/');
    if (!rest_from.startsWith('/') && !from.isEmpty() && !from.endsWith('/') && slash >= 0) {
        from += rest_from.left(slash);
        to += rest_from.left(slash);
    }
    if (from.isEmpty()) {  // a bare or relative name: its folder stands for the beginning
        from = words(program_->map->files()[file_]).section('/', 0, -2);
        to = QFileInfo(path).path();
        if (from.isEmpty()) {
            from = words(program_->map->files()[file_]);
            to = path;
        }
    }
    const bool kept = keep_source_place(document_.recording().get(), from, to).has_value();
    fill();
    return kept;
}

}  // namespace mt::app
