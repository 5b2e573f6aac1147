// The formatter of a trace port or buffer: bytes of several sources in frames of 16. Arm CoreSight Architecture
// Specification 3.0 (IHI 0029), chapter D4.
#pragma once

#include <array>
#include <cstdint>
#include <utility>
#include <vector>

namespace board {

class FrameWriter {
  public:
    void put(std::uint8_t id, std::uint8_t byte) { waiting_.emplace_back(id, byte); }
    /// Whole frames, to the end of `out`; with `flush` the rest too, filled up with bytes of ID 0.
    void frames(std::vector<std::uint8_t>& out, bool flush);
    void clear() {
        waiting_.clear();
        id_ = 0;
        same_ = 0;
    }

  private:
    std::vector<std::pair<std::uint8_t, std::uint8_t>> waiting_;
    std::uint8_t id_ = 0;
    unsigned same_ = 0;  ///< frames since an ID was told
};

}  // namespace board
