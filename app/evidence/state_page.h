// How it was: registers and variables before the instruction that is looked at.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <vector>

#include <QBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QSplitter>
#include <QStandardItemModel>
#include <QTableView>
#include <QTimer>
#include <QToolButton>
#include <QTreeWidget>

#include "document/document.h"
#include "document/job_queue.h"
#include "evidence/evidence_page.h"
#include "share/put_there.h"
#include "share/state_tables.h"

namespace mt::app {

/// Follows the instruction that is current. What differs from what was shown before is marked; a double click goes to the
/// instruction that wrote it.
class StatePage : public QWidget, public EvidencePage {
    Q_OBJECT
  public:
    explicit StatePage(Document& document, QWidget* parent = nullptr);
    ~StatePage() override;
    QWidget* widget() override { return this; }
    QString id() const override { return "state"; }
    QString title() const override { return tr("State"); }
    bool has_something() const override { return document_.trail() && !document_.trail()->steps.empty(); }
    /// Shows the state before a step of a stream.
    void look_at(std::size_t stream, std::uint64_t step);
    QTableView* registers() const { return registers_; }
    QTableView* variables() const { return variables_; }
    /// Functions on the stack with their arguments and local variables, and what these hold or lead to.
    QTreeWidget* locals() const { return locals_; }
    /// What was kept beside, with what differs from it now; hidden if there is none.
    QTableView* kept() const { return kept_view_; }
    /// Keeps what is shown, to be compared with what is shown later; or lets go of it.
    void keep_picture(bool on);
    /// To the instruction that changes the register or variable in the current row of this table next.
    void seek_change(const QTableView* table);
    QString hint() const { return hint_->text(); }
    /// Variables that are shown, as the person typed them.
    QStringList watched() const { return watched_; }
    void watch(const QString& expression);
    /// As a click on its button: the target is to be as what is shown.
    void want_put();
    /// The target is in hand, so that what is shown can be put into it.
    void set_in_hand(bool on) { put_->setVisible(on); }

  signals:
    /// A person wants the target to be as it was then.
    void put_wanted(const QString& core, std::shared_ptr<const mt::HandState> state);
    void filled();
    void step_wanted(std::size_t stream, std::uint64_t step);

  protected:
    void showEvent(QShowEvent*) override { ask(); }
    void resizeEvent(QResizeEvent*) override;

  private:
    /// A variable with its parts, a few levels deep.
    struct Part {
        LocalValue value;
        std::vector<Part> parts;
    };
    struct Frame {
        std::string function;
        std::uint64_t pc = 0;
        std::vector<Part> parts;
    };
    struct Found {
        PastState state;
        std::vector<Result<StateVariable>> variables;
        std::vector<Frame> frames;
        bool whole = true;  ///< all that can be known; else what the last instructions tell
    };
    struct Kept;  ///< the states of a stream; the job's alone
    void ask();
    void compute();
    void fill(const Found& found);
    /// Registers side by side, as many as there is room for; how many of them are known.
    int fill_registers(const Found& found, std::map<QString, QString>& now);
    struct Cells {
        QStandardItem *called, *shown;
    };
    Cells cells(const QString& name, const QString& value, const QString& plain, bool is_known, std::uint64_t set_at,
                std::map<QString, QString>& now);
    void fill_locals(const std::vector<Frame>& frames, std::map<QString, QString>& now);
    static Part with_parts(LocalValue value, const Locals& locals, const FrameState& state, int depth, std::size_t& room);
    void keep_watched() const;
    void fill_picture();
    QString place() const;

    Document& document_;
    QLabel* hint_;
    QLineEdit* add_;
    QToolButton *put_, *keep_;
    QStandardItemModel* kept_model_;
    QTableView* kept_view_;
    std::vector<std::pair<QString, QString>> picture_, live_;  ///< names and values: kept, and shown now
    std::shared_ptr<const HandState> shown_;  ///< what is known of what is shown
    QStandardItemModel *register_model_, *variable_model_;
    QTableView *registers_, *variables_;
    QTreeWidget* locals_;
    QBoxLayout* line_;       ///< what stands above
    QSplitter* across_;
    std::shared_ptr<const Found> found_;
    int blocks_ = 4;         ///< of registers beside each other
    std::map<QString, bool> open_locals_;  ///< by path: what a person opened or closed
    bool filling_ = false;
    QStringList watched_;
    std::map<QString, QString> before_;  ///< what was shown last, by name
    std::optional<std::size_t> stream_;
    std::uint64_t step_ = 0;
    QTimer soon_;
    std::shared_ptr<Progress> progress_;
    std::shared_ptr<Kept> kept_;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
