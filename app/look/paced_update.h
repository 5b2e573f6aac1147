// Repaints for data that grows, at a pace that eyes can follow.
#pragma once

#include <functional>

#include <QElapsedTimer>
#include <QTimer>

namespace mt::app {

/// Asked to renew a picture each time new data comes, renews it at most every kEachMs; whatever painted it meanwhile
/// counts. The window's thread only.
class PacedUpdate {
  public:
    static constexpr int kEachMs = 95;

    explicit PacedUpdate(std::function<void()> renew) : renew_(std::move(renew)) {
        timer_.setSingleShot(true);
        QObject::connect(&timer_, &QTimer::timeout, &timer_, [this] {
            if (wanted_) ask();
        });
    }
    /// New data is there.
    void ask() {
        const qint64 since = painted_.isValid() ? painted_.elapsed() : kEachMs;
        wanted_ = since < kEachMs;
        if (!wanted_)
            renew_();
        else if (!timer_.isActive())
            timer_.start(kEachMs - static_cast<int>(since));
    }
    /// The picture shows the newest data.
    void painted() {
        painted_.start();
        wanted_ = false;
    }

  private:
    std::function<void()> renew_;
    QElapsedTimer painted_;
    QTimer timer_;
    bool wanted_ = false;
};

}  // namespace mt::app
