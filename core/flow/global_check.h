// Compares global timestamps with the sum of the local ones between them. Both count the core's clock (Armv7-M ARM
// D4.2.4, D4.2.5), so where they tell different lengths bytes were lost or changed, though every packet reads well.
#pragma once

#include <cstdint>
#include <optional>

#include "base/time.h"

namespace mt {

/// One stream's. Says nothing until two steps in a row agree how fast global time counts, and nothing where the steps
/// vary anyhow. One thread at a time.
class GlobalCheck {
  public:
    /// Between these moments `missing` more passed than local timestamps tell; less if it is negative.
    struct Stray {
        Time from, to, missing;
    };

    explicit GlobalCheck(Clock clock) : clock_(clock) {}

    /// A global timestamp: its low bits that changed, in `size` bytes (1 to 4), at `when` by the local ones.
    std::optional<Stray> take(std::uint32_t value, unsigned size, Time when);
    /// Time was lost and that is told, or the clock changed: begins anew with the second timestamp that has all its
    /// bits. The first may be dated by local timestamps from before the loss.
    void begin_anew() {
        anchored_ = false;
        unsure_ = true;
    }

  private:
    Clock clock_;
    bool anchored_ = false, unsure_ = false;
    std::uint64_t last_ = 0;  ///< the low 26 bits
    Time last_at_;
    double rate_ = 0;    ///< global counts per cycle, as the step before says
    bool sure_ = false;  ///< … and another bore it out
    double usual_ = 0;   ///< cycles by which steps are off on average
};

}  // namespace mt
