// What stands in the lanes' place while nothing is open: what can be opened, and where to begin.
#pragma once

#include <QBoxLayout>
#include <QLabel>
#include <QWidget>

#include "shell/recent.h"

namespace mt::app {

class StartPage : public QWidget {
    Q_OBJECT
  public:
    explicit StartPage(QWidget* parent = nullptr);
    void set_recent(const Recent& recent);

  signals:
    void open_wanted();
    void new_target_wanted();
    void record_wanted();
    void guide_wanted();
    /// A recording that was opened before, or one of the demonstration.
    void chosen(const QString& path);
    /// Raw bytes, to find out what they are.
    void bytes_chosen(const QString& path);

  private:
    void add_demonstration();
    QWidget* recent_box_;
    QVBoxLayout *recent_, *demonstration_;
};

}  // namespace mt::app
