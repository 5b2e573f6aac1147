// A file of signals, measured elsewhere, is looked at before it is laid beside a recording.
#pragma once

#include <memory>
#include <thread>

#include <QDialog>
#include <QLabel>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QStringList>
#include <QTableWidget>

#include "base/problem.h"
#include "base/progress.h"

namespace mt {
struct SignalFile;
}

namespace mt::app {

/// Shows what the file holds, and asks which signals are wanted. Reads on a thread of its own; closing gives that up.
class SignalsImport : public QDialog {
    Q_OBJECT
  public:
    explicit SignalsImport(const QString& path, QWidget* parent = nullptr);
    ~SignalsImport() override;
    /// Whether a file's name says that it holds signals.
    static bool is_signal_file(const QString& path);
    /// Those that are chosen; empty: all of them.
    QStringList chosen() const;
    bool all_chosen() const;

  signals:
    void looked();  ///< the file was read, or could not be

  private:
    void show_file(const Result<SignalFile>& file);
    void renew();
    QLabel* said_;
    QPlainTextEdit* lines_;
    QTableWidget* table_;
    QPushButton* take_;
    std::shared_ptr<Progress> progress_;
    std::thread reader_;
};

}  // namespace mt::app
