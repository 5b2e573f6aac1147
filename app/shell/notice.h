// The line at the top that tells a person what happened, until it is closed.
#pragma once

#include <QLabel>
#include <QWidget>

namespace mt::app {

class Notice : public QWidget {
    Q_OBJECT
  public:
    explicit Notice(QWidget* parent = nullptr);
    void say(const QString& text, bool bad);
    QString text() const { return text_->text(); }

  private:
    QLabel* text_;
};

}  // namespace mt::app
