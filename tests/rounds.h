// How often what is sampled is sampled.
#pragma once

#include <cstdlib>

namespace mt::test {

/// MT_ROUNDS of the environment, each round with other samples; else 1.
inline unsigned rounds() {
    const char* wanted = std::getenv("MT_ROUNDS");
    const unsigned long n = wanted != nullptr ? std::strtoul(wanted, nullptr, 10) : 1;
    return n < 1 ? 1U : static_cast<unsigned>(n > 10'000 ? 10'000 : n);
}

}  // namespace mt::test
