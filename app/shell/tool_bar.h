// The tools at the top: back and forward, search, measuring, progress, and the health of the recording.
#pragma once

#include <QProgressBar>
#include <QPushButton>
#include <QToolBar>
#include <QToolButton>

#include "shell/desk.h"
#include "shell/health.h"
#include "shell/search.h"

namespace mt::app {

class ToolBar : public QToolBar {
    Q_OBJECT
  public:
    explicit ToolBar(QWidget* parent = nullptr);
    /// What is pressed and typed concerns this desk from now on; shows what is true of it.
    void show_of(Desk& desk);
    Search& search() const { return *search_; }
    QString health_text() const { return health_->text(); }

  private:
    QToolButton* button(const QString& text, const QString& tip, const QString& name);
    void show_progress();
    Desk* desk_ = nullptr;
    QToolButton *back_, *forward_, *ruler_;
    Search* search_;
    QWidget* busy_;
    QProgressBar* progress_;
    QPushButton* stop_;
    QAction *busy_shown_, *health_shown_;
    Health* health_;
};

}  // namespace mt::app
