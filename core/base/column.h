// Append-only columns whose copies are cheap snapshots, and range maxima over one.
#pragma once

#include <algorithm>
#include <array>
#include <cstddef>
#include <memory>
#include <new>
#include <type_traits>
#include <utility>
#include <vector>

#include "base/chunk_space.h"
#include "base/search.h"

namespace mt {

/// A growing array in chunks. One thread appends; a copy is a snapshot of the present length that
/// other threads may read while the original goes on growing: elements never move and a snapshot
/// never reads past its own length. Copying costs the same whatever the length. Hand snapshots over
/// through a mutex or an atomic pointer. Elements in the past must not be changed once a snapshot
/// holds them. Appending to a copy gives it elements of its own.
template <class T>
class Column {
  public:
    static constexpr std::size_t kShift = 13, kChunk = std::size_t{1} << kShift;

    Column() = default;
    Column(const Column& other) : store_(other.store_), directory_(other.directory_), size_(other.size_) {}
    Column(Column&& other) noexcept { swap(other); }
    Column& operator=(Column other) noexcept {
        swap(other);
        return *this;
    }

    void push_back(const T& value) {
        if (next_ == chunk_end_) make_room();
        ::new (static_cast<void*>(next_++)) T(value);
        ++size_;
        if constexpr (!std::is_trivially_destructible_v<T>) store_->constructed = size_;
    }
    /// One more element, to be filled at once.
    T& add() {
        static_assert(std::is_trivially_copyable_v<T>);
        if (next_ == chunk_end_) make_room();
        ++size_;
        return *next_++;
    }
    /// How many push_small takes.
    std::size_t room() const { return static_cast<std::size_t>(chunk_end_ - next_); }
    /// Appends several elements at once. REQUIRES: N <= room().
    template <std::size_t N>
    void push_small(const std::array<T, N>& values) {
        static_assert(std::is_trivially_copyable_v<T>);
        std::copy_n(values.data(), N, next_);
        next_ += N;
        size_ += N;
    }
    /// Appends the N elements at `values`, side by side in memory. REQUIRES: N divides kChunk and size().
    template <std::size_t N>
    void push_run(const T* values) {
        static_assert(kChunk % N == 0 && std::is_trivially_copyable_v<T>);
        if (next_ == chunk_end_) make_room();
        std::copy_n(values, N, next_);
        next_ += N;
        size_ += N;
    }
    /// REQUIRES: i < size().
    const T& operator[](std::size_t i) const { return directory_[i >> kShift][i & (kChunk - 1)]; }
    const T& back() const { return (*this)[size_ - 1]; }
    std::size_t size() const { return size_; }
    bool empty() const { return size_ == 0; }

    /// The first index whose element is not less than `value`; REQUIRES: ascending elements.
    template <class V>
    std::size_t lower_bound(const V& value) const {
        return partition_point([&](const T& e) { return e < value; });
    }
    /// The first index whose element is greater than `value`; REQUIRES: ascending elements.
    template <class V>
    std::size_t upper_bound(const V& value) const {
        return partition_point([&](const T& e) { return !(value < e); });
    }
    /// The first index for which `before` is false; REQUIRES: true for all before it, false from there on.
    template <class Before>
    std::size_t partition_point(Before before) const {
        return first_false(0, size_, [&](std::size_t i) { return before((*this)[i]); });
    }

  private:
    // The first chunk begins small and is laid anew as it grows: many columns hold hardly anything.
    static constexpr std::size_t kFirst = 64, kGrowth = 8;

    // All chunks, and every directory and first chunk that a snapshot may still read.
    struct Store {
        std::vector<std::unique_ptr<T*[]>> directories;
        std::size_t chunks = 0, capacity = 0, constructed = 0,
                    first = 0;                          ///< first: elements that the first chunk holds
        std::vector<std::pair<T*, std::size_t>> small;  ///< first chunks of old, and how full they are

        T** renew_directory(std::size_t more) {
            auto next = std::make_unique<T*[]>(more);
            for (std::size_t i = 0; i < chunks; ++i) next[i] = directories.back()[i];
            directories.push_back(std::move(next));
            capacity = more;
            return directories.back().get();
        }
        T** add_chunk() {
            if (chunks == capacity) renew_directory(capacity == 0 ? 1 : std::max<std::size_t>(4, capacity * 2));
            T** directory = directories.back().get();
            if (chunks == 0) first = std::min(kFirst, kChunk);
            directory[chunks] = static_cast<T*>(allocate_chunk((chunks == 0 ? first : kChunk) * sizeof(T)));
            ++chunks;
            return directory;
        }
        /// REQUIRES: one chunk, full, and not as large as chunks are.
        T** grow_first() {
            T* old = directories.back()[0];
            const std::size_t wider = std::min(first * kGrowth, kChunk);
            T* fresh = static_cast<T*>(allocate_chunk(wider * sizeof(T)));
            std::uninitialized_copy_n(old, first, fresh);
            small.emplace_back(old, first);
            first = wider;
            T** directory = renew_directory(capacity);
            directory[0] = fresh;
            return directory;
        }
        static void destroy(T* chunk, std::size_t count, std::size_t room) {
            if constexpr (!std::is_trivially_destructible_v<T>)
                for (std::size_t i = 0; i < count; ++i) chunk[i].~T();
            free_chunk(chunk, room * sizeof(T));
        }
        Store() = default;
        Store(const Store&) = delete;
        Store& operator=(const Store&) = delete;
        ~Store() {
            for (const auto& [chunk, count] : small) destroy(chunk, count, count);
            for (std::size_t c = 0; c < chunks; ++c) {
                const std::size_t room = c == 0 ? first : kChunk, before = c << kShift;
                destroy(directories.back()[c], constructed > before ? std::min(constructed - before, room) : 0, room);
            }
        }
    };

    // Only the one that appends knows where the next element goes; a snapshot that is appended to gets
    // elements of its own.
    __attribute__((noinline)) void make_room() {
        if (size_ > 0 && next_ == nullptr) {
            const Column before = *this;
            *this = Column();
            for (std::size_t i = 0; i < before.size_; ++i) push_back(before[i]);
            if (next_ != chunk_end_) return;
        }
        if (store_ == nullptr || size_ == 0) store_ = std::make_shared<Store>();
        if (size_ > 0 && size_ < kChunk) {
            directory_ = store_->grow_first();
            next_ = directory_[0] + size_;
            chunk_end_ = directory_[0] + store_->first;
            return;
        }
        directory_ = store_->add_chunk();
        next_ = directory_[size_ >> kShift];
        chunk_end_ = next_ + (size_ == 0 ? store_->first : kChunk);
    }
    void swap(Column& other) noexcept {
        std::swap(store_, other.store_);
        std::swap(directory_, other.directory_);
        std::swap(size_, other.size_);
        std::swap(next_, other.next_);
        std::swap(chunk_end_, other.chunk_end_);
    }

    std::shared_ptr<Store> store_;
    T** directory_ = nullptr;
    std::size_t size_ = 0;
    T *next_ = nullptr, *chunk_end_ = nullptr;
};

/// Greatest element of any index range of values kept elsewhere, in O(log n), built while they are appended:
/// level k holds the maximum of each 16 * 2^k values. Copies are snapshots like those of Column.
template <class T>
class RangeMax {
  public:
    static constexpr std::size_t kBase = 16;

    /// The next value in order.
    void push_back(const T& value) {
        top_ = size_ % kBase == 0 || top_ < value ? value : top_;
        if (++size_ % kBase != 0) return;
        T top = top_;
        for (std::size_t level = 0;; ++level) {
            if (level == levels_.size()) levels_.emplace_back();
            levels_[level].push_back(top);
            const std::size_t n = levels_[level].size();
            if (n % 2 != 0) return;
            top = levels_[level][n - 2] < levels_[level][n - 1] ? levels_[level][n - 1] : levels_[level][n - 2];
        }
    }

    /// Index of a greatest value in [from, to); `value(i)` gives value i. REQUIRES: from < to <= those pushed.
    template <class Value>
    std::size_t argmax(std::size_t from, std::size_t to, Value value) const {
        std::size_t best = from;
        const auto consider = [&](std::size_t i) {
            if (value(best) < value(i)) best = i;
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
            if (value(best) < levels_[level][i / span]) best = descend(level, i / span, value);
            i += span;
        }
        return best;
    }

  private:
    template <class Value>
    std::size_t descend(std::size_t level, std::size_t block, Value value) const {
        const T top = levels_[level][block];
        while (level > 0) {
            --level;
            block *= 2;
            if (levels_[level][block] < top) ++block;
        }
        std::size_t i = block * kBase;
        while (value(i) < top) ++i;
        return i;
    }

    std::vector<Column<T>> levels_;
    std::size_t size_ = 0;
    T top_{};
};

}  // namespace mt
