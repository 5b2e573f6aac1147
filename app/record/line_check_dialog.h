// The line check: error rate over sampling phase as a picture, the best phase, and storing it.
#pragma once

#include <memory>
#include <thread>

#include <QDialog>
#include <QLabel>
#include <QPushButton>

#include "capture/line_check.h"
#include "capture/recipe.h"
#include "target/target_file.h"

namespace mt::app {

/// Errors over phase, on a logarithmic scale; the clean window is marked.
class PhasePlot : public QWidget {
    Q_OBJECT
  public:
    explicit PhasePlot(QWidget* parent = nullptr);
    void show_phases(std::vector<LinePhase> measured, std::size_t total, const LineCheck* result);
    QSize sizeHint() const override { return {620, 240}; }

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    std::vector<LinePhase> measured_;
    std::size_t total_ = 0;
    LineCheck result_;
    bool have_result_ = false;
};

class LineCheckDialog : public QDialog {
    Q_OBJECT
  public:
    /// Uses the first connection of the recipe that has both a debug server and a trace line.
    LineCheckDialog(const Recipe& recipe, QWidget* parent = nullptr);
    ~LineCheckDialog() override;
    QString text() const { return text_->text(); }
    QPushButton* store() const { return store_; }

  signals:
    /// The phase is in the target file now.
    void stored(const QString& sentence);

  private:
    void start();
    void finish(const Result<LineCheck>& outcome);
    void store_result();

    Recipe recipe_;
    PhasePlot* plot_;
    QLabel* text_;
    QPushButton *start_, *store_, *close_;
    std::thread worker_;
    std::shared_ptr<Progress> progress_;
    std::vector<LinePhase> measured_;
    std::size_t total_ = 0;
    LineCheck check_;
    unsigned stream_line_ = 0;
};

}  // namespace mt::app
