#include "troubles.h"

#include <algorithm>

namespace board {

void Troubles::spoil(std::vector<std::uint8_t>& bytes, std::mt19937_64& random, std::uint64_t& passed) const {
    std::uniform_real_distribution<double> chance(0, 1);
    const double wrong = phase_error();
    if (drop == 0 && flip == 0 && wrong == 0 && lose_each == 0) {
        passed += bytes.size();
        return;
    }
    std::vector<std::uint8_t> out;
    out.reserve(bytes.size());
    for (std::uint8_t b : bytes) {
        ++passed;
        if (lose_each > 64 && passed % lose_each >= lose_each - 64) continue;
        if (drop > 0 && chance(random) < drop) continue;
        if (flip > 0 && chance(random) < flip) b = static_cast<std::uint8_t>(b ^ 1u << random() % 8);
        if (wrong > 0)
            for (unsigned bit = 0; bit < 8; ++bit)
                if (chance(random) < wrong) b = static_cast<std::uint8_t>(b ^ 1u << bit);
        out.push_back(b);
    }
    bytes = std::move(out);
}

}  // namespace board
