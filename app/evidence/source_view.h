// Source: the file that runs at the cursor, how often each line was executed, and its instructions on demand.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include <QComboBox>
#include <QLabel>
#include <QPlainTextEdit>
#include <QTimer>
#include <QToolButton>
#include <QWidget>

#include "document/document.h"
#include "document/job_queue.h"
#include "evidence/evidence_page.h"
#include "target/source_map.h"

namespace mt::app {

/// A line of the view: of the source, or an instruction that belongs to the line above it.
struct SourceRow {
    int line = 0;            ///< of the source
    std::uint32_t slot = 0;  ///< instructions only; otherwise Code::kNowhere
    bool has_code = false;
    std::uint64_t count = 0;  ///< executions; of a line: of its most often executed instruction
    bool partly = false;      ///< it ran, but not all of its instructions, or a branch of it went one way only
    bool merged = false;      ///< no instruction is its alone: the compiler merged it with another line, or moved it
    bool decides = false;     ///< conditional branches are in it …
    std::uint64_t taken = 0, not_taken = 0;  ///< … that were, and were not, taken so often, all together
    QString text;
};

class SourceMargin;

/// The text itself, with line numbers and counts in its margin.
class SourceText : public QPlainTextEdit {
    Q_OBJECT
  public:
    explicit SourceText(QWidget* parent = nullptr);
    /// `counted`: counts are known.
    void set_rows(std::vector<SourceRow> rows, bool counted);
    /// What the margin says of a row when the mouse rests there; empty: nothing.
    QString told_of(int row) const;
    const std::vector<SourceRow>& rows() const { return rows_; }
    /// Marks a row as the one that runs and brings it into view.
    void mark(std::optional<int> row);
    std::optional<int> marked() const { return marked_; }
    int row_at(const QPoint& p) const { return cursorForPosition(p).blockNumber(); }

  signals:
    /// A person wants to see the next execution of a row.
    void row_chosen(int row);

  protected:
    void resizeEvent(QResizeEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;

  private:
    friend class SourceMargin;
    int margin_width() const;
    void paint_margin(QPaintEvent*);
    SourceMargin* margin_;
    std::vector<SourceRow> rows_;
    bool counted_ = false;
    std::uint64_t most_ = 0;
    std::optional<int> marked_;
};

class SourceView : public QWidget, public EvidencePage {
    Q_OBJECT
  public:
    SourceView(Document& document, QWidget* parent = nullptr);

    QWidget* widget() override { return this; }
    QString id() const override { return "source"; }
    QString title() const override { return tr("Source"); }
    bool has_something() const override { return document_.trail() && !document_.trail()->steps.empty(); }
    std::vector<Stream> streams() const override { return step_streams(document_.trail().get()); }
    std::size_t stream() const override { return stream_; }
    /// The instructions lead, the source follows: `stream_wanted` asks them.
    void use_stream(std::size_t stream) override { emit stream_wanted(stream); }

    /// Shows the line of an instruction of step stream `stream`, as the one that runs.
    void show_slot(std::size_t stream, std::uint32_t slot);
    SourceText* text() const { return text_; }
    QComboBox* files() const { return files_; }
    QString message() const { return message_->text(); }
    /// With instructions between the lines, or not.
    void set_mixed(bool on);
    bool mixed() const { return mixed_->isChecked(); }
    /// To the next (1) or previous (-1) line of the file that never ran; false if there is none.
    bool go_to_never_run(int direction);
    /// Instructions that a row stands for.
    std::vector<std::uint32_t> slots_of(int row) const;
    /// Sources that the image names like the one shown are found where `path` lies. False if the names do not match.
    bool find_like(const QString& path);

    /// The target is in hand: it can be stopped at places that are shown.
    void set_in_hand(bool on) { in_hand_ = on; }

  signals:
    /// A person wants the core to stop there from now on, or no longer; or to run there: a line, or an address.
    void stop_wanted(const QString& place);
    void run_wanted(const QString& place);
    void stream_wanted(std::size_t stream);
    /// A person wants to say why a place need not run: "guide.c:41", or the address of a branch.
    void reason_wanted(const QString& place);
    /// A person wants to see the next (1) or previous (-1) execution of these instructions.
    void execution_wanted(std::vector<std::uint32_t> slot_list, int direction);

  protected:
    void showEvent(QShowEvent*) override;

  private:
    bool in_hand_ = false;
    struct Program {  ///< what a job finds out about one core's image
        std::shared_ptr<const SourceMap> map;
        std::vector<std::uint64_t> executions;  ///< per slot; empty while not known
        std::shared_ptr<const StepCounters> counters;
    };
    void prepare();
    void show_file(std::uint32_t file);
    void fill();
    void mark();
    void ask_source();
    void show_menu(const QPoint& at);
    void step(int direction);
    SourcePaths paths() const;

    Document& document_;
    QComboBox* files_;
    QLabel *message_, *place_;
    QToolButton *mixed_, *previous_, *next_, *never_, *find_;
    SourceText* text_;
    std::size_t stream_ = 0;
    std::uint32_t slot_ = 0, file_ = SourceMap::kNone;
    std::shared_ptr<const Program> program_;
    std::shared_ptr<const Trail> prepared_for_;
    std::size_t prepared_stream_ = 0;
    QTimer growth_;  ///< counts of a recording that is being made are looked at again
    quint64 turn_ = 0;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
