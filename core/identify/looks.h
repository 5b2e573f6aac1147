// Looks at bytes as each protocol would read them.
#pragma once

#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include "base/progress.h"
#include "identify/guess.h"
#include "target/code.h"
#include "target/image.h"

namespace mt {

/// What is known besides the bytes.
struct LookedWith {
    std::shared_ptr<const Image> image;  ///< may be null
    std::string isa;                     ///< of the image, or as a person said it; may be empty
    std::shared_ptr<const Code> code;    ///< null if the program cannot be followed
};

/// `raw`: as they stand in the file; `spec` has the framing. Nothing if it does not fit at all.
std::vector<Guess> look_itm(const StreamSpec& spec, std::span<const std::uint8_t> unframed, const LookedWith& with);
std::vector<Guess> look_steps(const StreamSpec& spec, std::span<const std::uint8_t> raw, const LookedWith& with,
                              const Progress& progress);
/// Packets of the Common Trace Format, and protocols that are recognised only.
std::vector<Guess> look_others(const StreamSpec& spec, std::span<const std::uint8_t> unframed, const LookedWith& with);

}  // namespace mt
