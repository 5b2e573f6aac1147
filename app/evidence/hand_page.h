// The target in hand while it is recorded: it runs, stops and steps; registers, variables, memory and points.
#pragma once

#include <map>
#include <memory>
#include <vector>

#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QToolButton>
#include <QTreeWidget>

#include "document/document.h"
#include "document/job_queue.h"
#include "document/live_session.h"
#include "evidence/evidence_page.h"
#include "evidence/memory_view.h"
#include "target/svd_registers.h"

namespace mt::app {

/// Shows one core at a time. What differs from where it stood before is marked. Nothing in the target is changed unless
/// writing is switched on; what was changed can be taken back.
class HandPage : public QWidget, public EvidencePage {
    Q_OBJECT
  public:
    HandPage(Document& document, LiveSession& live, QWidget* parent = nullptr);
    QWidget* widget() override { return this; }
    QString id() const override { return "hand"; }
    QString title() const override { return tr("In hand"); }
    bool has_something() const override;

    void go_or_halt();
    /// "step", "step line", "step over", "step out", "reset", "undo", "run guide.c:41": of the core that is shown.
    void command(const QString& what);
    /// Sets a breakpoint there, or takes the one away that is there.
    void toggle_stop(const QString& place);
    /// A variable, a register of the SVD file, an element, to be shown from now on.
    void watch(const QString& expression);
    /// Asks, and writes what is known of a state of the past into the core.
    void put_there(const QString& core, std::shared_ptr<const HandState> state);
    bool at_hand() const { return has_something(); }
    /// Where the core in hand stands, in words; empty while it runs.
    QString stands() const;

    QTreeWidget* registers() const { return registers_; }
    QTreeWidget* variables() const { return variables_; }
    QTreeWidget* memory() const { return memory_->tree(); }
    QTreeWidget* points() const { return points_; }
    QString where() const { return where_->text(); }

  signals:
    /// A core came to stand: index into the target file's cores.
    void stood(std::size_t core);
    void told(const QString& text, bool bad);

  protected:
    void showEvent(QShowEvent*) override { renew(); }

  private:
    QString core() const { return cores_->currentText(); }
    QString core_isa() const;
    const RunState::Core* core_state() const;
    void began();
    void renew();
    /// Asks for all that is shown.
    void read();
    void read_peripheral(QTreeWidgetItem* peripheral);
    void fill_registers(const std::vector<HandAnswer::Value>& values);
    void fill_locals(const std::vector<HandAnswer::Value>& locals);
    void fill_peripherals();
    void fill_points();
    void edited(QTreeWidgetItem* item, bool is_register);
    /// Puts a value beside its name; marked if it is another than before.
    void put(QTreeWidgetItem* item, const QString& value, bool known);
    void keep_points();
    QString points_path() const;
    void add_point();
    QString place() const;

    Document& document_;
    LiveSession& live_;
    QComboBox* cores_;
    QToolButton *go_, *undo_;
    std::vector<QToolButton*> steps_;
    QCheckBox *together_, *writing_;
    QLabel* where_;
    QLineEdit *add_variable_, *add_point_;
    MemoryView* memory_;
    QTreeWidget *registers_, *variables_, *points_;
    std::map<QString, std::uint64_t> stands_;  ///< by core: how often it stood when it was read last
    QStringList watched_;
    std::map<QString, QString> local_values_;  ///< as they were shown last, by function and name
    std::map<QString, bool> open_locals_;      ///< what a person opened or closed
    std::shared_ptr<const std::vector<SvdPeripheral>> peripherals_;
    unsigned rows_ = 0;  ///< another number once rows are gone that an answer may still be for
    bool filling_ = false, was_at_hand_ = false, points_sent_ = false;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
