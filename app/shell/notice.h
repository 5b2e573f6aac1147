// The line at the top that tells a person what happened, until it is closed.
#pragma once

#include <functional>
#include <vector>

#include <QBoxLayout>
#include <QLabel>
#include <QWidget>

namespace mt::app {

/// Something that can be done about what is told, as a button.
struct Offer {
    QString label;
    std::function<void()> act;
};

class Notice : public QWidget {
    Q_OBJECT
  public:
    explicit Notice(QWidget* parent = nullptr);
    void say(const QString& text, bool bad, const std::vector<Offer>& offers = {});
    QString text() const { return text_->text(); }

  private:
    QLabel* text_;
    QHBoxLayout* offers_;
};

}  // namespace mt::app
