// "Is it sane?": the doubts that matter while a recording is being made.
#pragma once

#include <QScrollArea>
#include <QWidget>

#include "document/live_session.h"

namespace mt::app {

class SanePanel : public QScrollArea {
    Q_OBJECT
  public:
    explicit SanePanel(LiveSession& live, QWidget* parent = nullptr);
    /// All lines as text, for tests and for copying.
    QString text() const;

  signals:
    /// A line was clicked: what to do about it.
    void advice_wanted(const QString& text);

  private:
    class Sheet;
    LiveSession& live_;
    Sheet* sheet_;
};

}  // namespace mt::app
