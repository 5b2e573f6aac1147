// Fields as a bit string, least significant first.
#pragma once

#include <cstdint>
#include <vector>

namespace mt::test {

/// A payload of E-Trace (Efficient Trace for RISC-V 2.0, chapter 7).
class PayloadBits {
  public:
    PayloadBits& add(std::uint64_t value, unsigned width) {
        for (unsigned i = 0; i < width; ++i) bits_.push_back((value >> i & 1) != 0);
        return *this;
    }
    bool last() const { return bits_.back(); }
    /// Behind its length byte; cut off as sign extension allows (7.1), if `cut`.
    std::vector<std::uint8_t> bytes(bool cut = true) const {
        std::vector<bool> all = bits_;
        while (all.size() % 8 != 0) all.push_back(bits_.back());
        std::vector<std::uint8_t> out;
        for (std::size_t i = 0; i < all.size(); i += 8) {
            unsigned b = 0;
            for (unsigned k = 0; k < 8; ++k) b |= (all[i + k] ? 1u : 0u) << k;
            out.push_back(static_cast<std::uint8_t>(b));
        }
        const auto repeats_the_sign = [&out] {
            return out.size() > 1 && ((out.back() == 0 && out[out.size() - 2] < 0x80) ||
                                      (out.back() == 0xFF && out[out.size() - 2] >= 0x80));
        };
        while (cut && repeats_the_sign()) out.pop_back();
        out.insert(out.begin(), static_cast<std::uint8_t>(out.size()));
        return out;
    }

  private:
    std::vector<bool> bits_;
};

}  // namespace mt::test
