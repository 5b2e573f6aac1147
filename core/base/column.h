// Append-only columns whose copies are cheap snapshots, and a range-maximum pyramid over one.
#pragma once

#include <array>
#include <cstddef>
#include <memory>
#include <vector>

namespace mt {

/// A growing array in chunks. One thread appends; a copy is a snapshot of the present length that
/// other threads may read while the original goes on growing: elements never move and a snapshot
/// never reads past its own length. Hand snapshots over through a mutex or an atomic pointer.
/// Elements in the past must not be changed once a snapshot holds them.
template <class T>
class Column {
  public:
    static constexpr std::size_t kShift = 13, kChunk = std::size_t{1} << kShift;

    void push_back(const T& value) {
        if ((size_ & (kChunk - 1)) == 0) chunks_.push_back(std::make_shared<std::array<T, kChunk>>());
        (*chunks_.back())[size_ & (kChunk - 1)] = value;
        ++size_;
    }
    /// REQUIRES: i < size().
    const T& operator[](std::size_t i) const { return (*chunks_[i >> kShift])[i & (kChunk - 1)]; }
    const T& back() const { return (*this)[size_ - 1]; }
    std::size_t size() const { return size_; }
    bool empty() const { return size_ == 0; }

    /// The first index whose element is not less than `value`; REQUIRES: ascending elements.
    template <class V>
    std::size_t lower_bound(const V& value) const {
        return partition([&](const T& e) { return e < value; });
    }
    /// The first index whose element is greater than `value`; REQUIRES: ascending elements.
    template <class V>
    std::size_t upper_bound(const V& value) const {
        return partition([&](const T& e) { return !(value < e); });
    }

  private:
    template <class Before>
    std::size_t partition(Before before) const {
        std::size_t low = 0, high = size_;
        while (low < high) {
            const std::size_t mid = low + (high - low) / 2;
            if (before((*this)[mid]))
                low = mid + 1;
            else
                high = mid;
        }
        return low;
    }

    std::vector<std::shared_ptr<std::array<T, kChunk>>> chunks_;
    std::size_t size_ = 0;
};

/// Greatest element of any index range in O(log n), built while appending: level k holds the
/// maximum of each 16 * 2^k elements. Copies are snapshots like those of Column.
template <class T>
class RangeMax {
  public:
    static constexpr std::size_t kBase = 16;

    void push_back(const T& value) {
        values_.push_back(value);
        std::size_t filled = values_.size();
        if (filled % kBase != 0) return;
        T top = values_[filled - kBase];
        for (std::size_t i = filled - kBase + 1; i < filled; ++i) top = top < values_[i] ? values_[i] : top;
        for (std::size_t level = 0;; ++level) {
            if (level == levels_.size()) levels_.emplace_back();
            levels_[level].push_back(top);
            const std::size_t n = levels_[level].size();
            if (n % 2 != 0) return;
            top = levels_[level][n - 2] < levels_[level][n - 1] ? levels_[level][n - 1] : levels_[level][n - 2];
        }
    }
    std::size_t size() const { return values_.size(); }
    const T& operator[](std::size_t i) const { return values_[i]; }

    /// Index of a greatest element in [from, to). REQUIRES: from < to <= size().
    std::size_t argmax(std::size_t from, std::size_t to) const {
        std::size_t best = from;
        const auto consider = [&](std::size_t i) {
            if (values_[best] < values_[i]) best = i;
        };
        std::size_t i = from;
        while (i < to) {
            if (i % kBase != 0 || i + kBase > to) {
                consider(i++);
                continue;
            }
            // Take the largest aligned block that fits; look into it only if it can beat the best.
            std::size_t level = 0, span = kBase;
            while (level + 1 < levels_.size() && i % (span * 2) == 0 && i + span * 2 <= to &&
                   i / (span * 2) < levels_[level + 1].size()) {
                ++level;
                span *= 2;
            }
            if (values_[best] < levels_[level][i / span]) best = descend(level, i / span);
            i += span;
        }
        return best;
    }

  private:
    std::size_t descend(std::size_t level, std::size_t block) const {
        const T top = levels_[level][block];
        while (level > 0) {
            --level;
            block *= 2;
            if (levels_[level][block] < top) ++block;
        }
        std::size_t i = block * kBase;
        while (values_[i] < top) ++i;
        return i;
    }

    Column<T> values_;
    std::vector<Column<T>> levels_;
};

}  // namespace mt
