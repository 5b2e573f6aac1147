// The foot of the record page: what goes on in words, and the buttons.
#pragma once

#include <vector>

#include <QLabel>
#include <QPushButton>
#include <QWidget>

#include "document/live_session.h"
#include "navigate/viewpoint.h"

class QHBoxLayout;

namespace mt::app {

class RecordStrip : public QWidget {
    Q_OBJECT
  public:
    RecordStrip(LiveSession& live, Viewpoint& view, QWidget* parent = nullptr);
    QString text() const { return what_->text(); }
    QPushButton* start() const { return start_; }
    QPushButton* keep() const { return keep_; }
    QPushButton* discard() const { return discard_; }
    QPushButton* mark() const { return mark_; }
    QPushButton* hold() const { return hold_; }

  signals:
    void start_wanted();
    void discard_wanted();
    void mark_wanted();
    void line_check_wanted();
    void close_wanted();

  private:
    void renew();
    void renew_cores();
    LiveSession& live_;
    Viewpoint& view_;
    QLabel *clock_, *what_, *cores_;
    QWidget* bar_;
    QPushButton *start_, *keep_, *discard_, *mark_, *hold_, *follow_, *line_, *close_;
    QHBoxLayout* buttons_;
    std::vector<std::pair<std::string, QPushButton*>> core_buttons_;
};

}  // namespace mt::app
