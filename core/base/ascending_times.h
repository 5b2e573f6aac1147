// Moments in ascending order, append-only, in about half the memory of a plain column of them.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>

#include "base/column.h"
#include "base/search.h"
#include "base/time.h"

namespace mt {

/// Copies are snapshots like those of Column. Blocks of kBlock moments share their first one; the others stand in 32
/// bits as picoseconds behind it where the block spans no more than that (4.29 ms), else in 64.
class AscendingTimes {
  public:
    static constexpr std::size_t kBlock = 64;

    /// REQUIRES: t is not before the last one.
    void push_back(Time t) {
        last_[size_ % kBlock] = t.ps;
        if (++size_ % kBlock == 0) [[unlikely]]
            pack();
    }
    /// How many push_small takes.
    std::size_t room() const { return kBlock - 1 - size_ % kBlock; }
    /// Several moments at once. REQUIRES: ascending, N <= room().
    template <std::size_t N>
    void push_small(const std::array<Time, N>& t) {
        std::int64_t* to = &last_[size_ % kBlock];
        for (std::size_t k = 0; k < N; ++k) to[k] = t[k].ps;
        size_ += N;
    }
    std::size_t size() const { return size_; }
    bool empty() const { return size_ == 0; }
    /// REQUIRES: i < size().
    Time operator[](std::size_t i) const {
        const std::size_t b = i / kBlock, k = i % kBlock;
        if (b == blocks_.size()) return {last_[k]};
        const Block& block = blocks_[b];
        const std::uint32_t* words = &words_[block.at];
        std::uint64_t behind = words[k];
        if (block.wide) behind |= std::uint64_t{words[kBlock + k]} << 32;
        return {block.first + static_cast<std::int64_t>(behind)};
    }
    /// The moments [from, from + kBlock), as far as there are any. REQUIRES: kBlock divides from, from < size().
    void block(std::size_t from, std::array<Time, kBlock>& out) const {
        const std::size_t b = from / kBlock;
        if (b == blocks_.size()) {
            for (std::size_t k = 0; k < size_ - from; ++k) out[k] = {last_[k]};
            return;
        }
        const Block& block = blocks_[b];
        const std::uint32_t* words = &words_[block.at];
        for (std::size_t k = 0; k < kBlock; ++k)
            out[k] = {block.first +
                      static_cast<std::int64_t>(words[k] | (block.wide ? std::uint64_t{words[kBlock + k]} << 32 : 0))};
    }
    /// REQUIRES: not empty.
    Time back() const { return (*this)[size_ - 1]; }
    /// The first index whose moment is not before `t`.
    std::size_t lower_bound(Time t) const {
        return first_without([t](Time x) { return x < t; });
    }
    /// The first index whose moment is after `t`.
    std::size_t upper_bound(Time t) const {
        return first_without([t](Time x) { return !(t < x); });
    }

  private:
    struct Block {
        std::int64_t first = 0;
        std::size_t at = 0;  ///< of its first word
        bool wide = false;
    };

    __attribute__((noinline)) void pack() {
        std::array<std::uint32_t, kBlock> low, high;
        for (std::size_t k = 0; k < kBlock; ++k) {
            const auto behind = static_cast<std::uint64_t>(last_[k] - last_[0]);
            low[k] = static_cast<std::uint32_t>(behind);
            high[k] = static_cast<std::uint32_t>(behind >> 32);
        }
        Block b;
        b.first = last_[0];
        b.at = words_.size();
        b.wide = high[kBlock - 1] != 0;
        // A block never lies in two chunks of the column: both lengths divide a chunk's, but a wide one must not begin
        // in its last half.
        if (b.wide && words_.size() % Column<std::uint32_t>::kChunk == Column<std::uint32_t>::kChunk - kBlock) {
            words_.push_run<kBlock>(low.data());
            b.at = words_.size();
        }
        words_.push_run<kBlock>(low.data());
        if (b.wide) words_.push_run<kBlock>(high.data());
        blocks_.push_back(b);
    }
    template <class Before>
    std::size_t first_without(Before before) const {
        const std::size_t b = blocks_.partition_point([&](const Block& x) { return before({x.first}); });
        // In the block before the one found, or behind all blocks.
        return first_false(b == 0 ? 0 : (b - 1) * kBlock, b == blocks_.size() ? size_ : b * kBlock,
                           [&](std::size_t i) { return before((*this)[i]); });
    }

    Column<Block> blocks_;
    Column<std::uint32_t> words_;
    std::array<std::int64_t, kBlock> last_{};  ///< those that fill no block yet
    std::size_t size_ = 0;
};

}  // namespace mt
