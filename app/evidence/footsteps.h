// Footsteps: what was executed around the cursor, folded from the call stack down to single instructions.
#pragma once

#include <optional>

#include <QAbstractScrollArea>

#include <array>
#include <map>
#include <vector>

#include "document/document.h"
#include "document/source_files.h"
#include "document/step_store.h"
#include "evidence/evidence_page.h"
#include "look/long_scroll.h"
#include "navigate/viewpoint.h"

namespace mt::app {

/// A table over the whole recording that decodes only what is shown. Its current row and the cursor follow each other.
/// A row is an instruction, a stay on a source line, a stay in a function, or a level of the stack.
class Footsteps : public QAbstractScrollArea, public EvidencePage {
    Q_OBJECT
  public:
    enum class Fold { stack, functions, lines, instructions };

    Footsteps(Document& document, Viewpoint& view, QWidget* parent = nullptr);

    Fold fold() const { return fold_; }
    void set_fold(Fold fold);
    /// The stack at the current instruction, the innermost first; empty until it is known.
    const std::vector<TraceFrame>& frames() const { return frames_; }

    QWidget* widget() override { return this; }
    QString id() const override { return "instructions"; }
    QString title() const override { return tr("Instructions"); }
    bool has_something() const override { return document_.trail() && !document_.trail()->steps.empty(); }
    std::vector<Stream> streams() const override { return step_streams(document_.trail().get()); }
    void use_stream(std::size_t stream) override;
    bool can_find() const override { return true; }
    /// An execution of what a person typed; see `seek_text`.
    void find_text(const QString& text, bool forwards, std::function<void(const QString& why_not)> done) override;
    std::uint64_t row_count() const;
    std::optional<std::uint64_t> current() const { return current_; }
    /// Makes a row the current one, brings it into view, and takes the cursor there.
    void go_to(std::uint64_t step);
    /// To the next (1) or previous (-1) row that stands on another source line; in another function.
    void step_line(int direction);
    void step_function(int direction);
    void step_instruction(int direction);
    /// To the first execution behind the current one of a source line that had not run before in this recording; says
    /// `no_new_line` if there is none.
    void step_new_line();
    /// Behind the return of the function that runs (1), or to the instruction that called it (-1).
    void step_out(int direction);
    /// To the next or previous execution of one of these instructions; says `missed` if there is none.
    void seek_execution(std::vector<std::uint32_t> wanted, int direction);
    /// The same for what a person typed: a function, an address, or a line as main.c:41. A Problem if the image has
    /// none such.
    Result<void> seek_text(const QString& text, int direction);
    std::size_t stream() const override { return stream_; }
    /// What an instruction's row shows, for tests and for copying; empty while it is not there yet.
    QStringList texts(std::uint64_t step);
    /// The rows on the screen as they are read, for tests: a row's texts joined by tabs.
    QStringList shown();
    /// The selected row as text.
    QString copied_text();
    /// Whether the current row is that of an instruction that raised a fault and did not complete.
    bool at_raised() const { return at_raised_; }

    /// The target is in hand: it can be stopped at places that are shown.
    void set_in_hand(bool on) { in_hand_ = on; }

  signals:
    /// A person wants the core to stop at this address from now on, or no longer; or to run there.
    void stop_wanted(const QString& address);
    void run_wanted(const QString& address);
    /// Another instruction is the current one.
    void current_changed(std::size_t stream, std::uint32_t slot);
    void no_new_line();
    /// A search ended without finding anything.
    void missed(int direction);

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void contextMenuEvent(QContextMenuEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;

  private:
    bool in_hand_ = false;
    /// Steps of a row: [first, end). Rows never reach over the end of a chunk. `raised`: of no step, but of the
    /// instruction that raised a fault before the step `first`.
    struct Row {
        std::uint64_t first = 0, end = 0;
        const StepTrapAt* raised = nullptr;
    };
    Row row_of(std::uint64_t step);
    bool together(const StepLine& before, const StepLine& line) const;
    /// Rows from the top of the screen, as many as there is room for.
    std::vector<Row> rows_on_screen();
    /// The fault that an instruction raised just before this step.
    const StepTrapAt* raised_before(std::uint64_t step) const;
    const StepTrapAt* raised_at(Time time) const;
    bool is_raised(const StepTrapAt& trap) const;
    void go_to_raised(const StepTrapAt& raised);
    void step_row(int direction);
    std::uint32_t slot_of(const StepTrapAt& raised) const;
    QStringList raised_texts(const StepTrapAt& raised);
    void place(std::uint64_t step, bool raised);
    QStringList row_texts(const Row& row);
    QStringList frame_texts(const TraceFrame& frame) const;
    std::array<int, 7> columns() const;
    void paint_rows(QPainter& p);
    void paint_stack(QPainter& p);
    void ask_stack();
    void choose_frame(std::size_t index);
    void move_row(int direction, int rows = 1);
    void renew();
    void set_range();
    void follow_cursor();
    void show_row(std::uint64_t step);
    void tell_current();
    const StepLine* line(std::uint64_t step);
    std::uint64_t top_row() const;
    int rows_shown() const;
    template <class Differs>
    void seek(int direction, Differs differs);

    Document& document_;
    Viewpoint& view_;
    StepStore store_;
    LongScroll scroll_{verticalScrollBar()};
    std::size_t stream_ = 0;
    std::optional<std::uint64_t> current_;
    std::optional<std::uint64_t> wanted_;  ///< becomes current once it is decoded
    bool at_raised_ = false;
    std::uint64_t moves_ = 0;  ///< how often it was placed: what was asked for before another place is out of date
    std::map<std::uint32_t, QStringList> raised_;  ///< address, text, function, place by slot
    bool own_move_ = false;
    bool placing_ = false;  ///< rows around the current one are not all there yet
    Fold fold_ = Fold::instructions;
    std::vector<QWidget*> fold_buttons_;
    QWidget* bar_;
    std::vector<TraceFrame> frames_;
    std::optional<std::uint64_t> frames_at_;  ///< the step they were asked for
    Time frames_time_;                        ///< when that was executed
    std::size_t frame_ = 0;                   ///< the chosen one
    SourceFiles sources_;
};

}  // namespace mt::app
