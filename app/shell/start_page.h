// What stands in the lanes' place while nothing is open: what to do.
#pragma once

#include <QLabel>
#include <QVBoxLayout>
#include <QWidget>

namespace mt::app {

class StartPage : public QWidget {
    Q_OBJECT
  public:
    explicit StartPage(QWidget* parent = nullptr);
    void set_recent(const QStringList& paths);

  signals:
    void open_wanted();
    void record_wanted();
    void recent_chosen(const QString& path);

  private:
    QLabel* recent_;
};

}  // namespace mt::app
