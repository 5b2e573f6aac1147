// A scroll bar over more rows than its whole numbers can count.
#pragma once

#include <algorithm>
#include <cstdint>
#include <limits>

#include <QScrollBar>

namespace mt::app {

/// Keeps the first row that is shown exactly, however many there are; the bar counts in units of several rows where it
/// must. Only the window's thread may use it. `bar` must outlive it.
class LongScroll {
  public:
    explicit LongScroll(QScrollBar* bar) : bar_(bar) {}

    void set_range(std::uint64_t rows, std::uint64_t shown) {
        most_ = rows > shown ? rows - shown : 0;
        const std::uint64_t kept = std::min(top(), most_);
        unit_ = most_ / kMostSteps + 1;
        bar_->setRange(0, static_cast<int>(most_ / unit_));
        bar_->setPageStep(static_cast<int>(std::max<std::uint64_t>(1, shown / unit_)));
        set_top(kept);
    }
    /// The first row; what a person did to the bar counts.
    std::uint64_t top() const {
        const auto stands = static_cast<std::uint64_t>(std::max(0, bar_->value()));
        return stands == top_ / unit_ ? top_ : std::min(most_, stands * unit_);
    }
    void set_top(std::uint64_t row) {
        top_ = std::min(row, most_);
        bar_->setValue(static_cast<int>(top_ / unit_));
    }
    void scroll(std::int64_t rows) {
        const std::uint64_t now = top();
        const auto back = static_cast<std::uint64_t>(rows < 0 ? -rows : 0);
        set_top(rows < 0 ? now - std::min(now, back) : now + static_cast<std::uint64_t>(rows));
    }

  private:
    static constexpr std::uint64_t kMostSteps = std::numeric_limits<int>::max() / 2;
    QScrollBar* bar_;
    std::uint64_t most_ = 0, unit_ = 1, top_ = 0;
};

}  // namespace mt::app
