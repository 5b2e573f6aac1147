// N-Trace messages written field by field (RISC-V N-Trace Specification 1.0, chapter 4).
#pragma once

#include <cstdint>
#include <vector>

namespace mt::test {

/// A message: slices of six bits, the last of a variable field marked 01, the last of all 11.
class NtraceBytes {
  public:
    NtraceBytes& fixed(std::uint64_t v, unsigned width) {
        for (unsigned i = 0; i < width; ++i) open_.push_back((v >> i & 1) != 0);
        return *this;
    }
    NtraceBytes& variable(std::uint64_t v) {
        do {
            open_.push_back((v & 1) != 0);
            v >>= 1;
        } while (v != 0);
        while (open_.size() % 6 != 0) open_.push_back(false);
        flush(1);
        return *this;
    }
    std::vector<std::uint8_t> end() {
        slices_.back() |= 3;
        return slices_;
    }

  private:
    void flush(unsigned mark) {
        for (std::size_t i = 0; i < open_.size(); i += 6) {
            unsigned b = 0;
            for (unsigned k = 0; k < 6; ++k) b |= (open_[i + k] ? 1u : 0u) << (2 + k);
            slices_.push_back(static_cast<std::uint8_t>(b | (i + 6 == open_.size() ? mark : 0)));
        }
        open_.clear();
    }

    std::vector<std::uint8_t> slices_;
    std::vector<bool> open_;
};

}  // namespace mt::test
