// Is the recording whole? A button that says so, and leads to every gap and warning.
#pragma once

#include <QMenu>
#include <QToolButton>

#include "shell/desk.h"

namespace mt::app {

class Health : public QToolButton {
    Q_OBJECT
  public:
    explicit Health(QWidget* parent = nullptr);
    /// Tells of this desk from now on.
    void show_of(Desk& desk);

  private:
    void add_gaps(Desk& desk);
    void add_notes_and_doubts(Desk& desk);
};

}  // namespace mt::app
