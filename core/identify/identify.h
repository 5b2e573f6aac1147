// Finds out how a file of trace bytes is to be read, from the bytes and, if there is one, the image.
#pragma once

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "identify/guess.h"
#include "target/image.h"

namespace mt {

struct Identified {
    std::vector<Guess> guesses;  ///< best first; none if nothing fits at all
    std::string sort;            ///< what file it is instead: "a PNG picture"; empty if it may be a trace
    /// Whether the first guess is more than a guess.
    bool sure() const { return !guesses.empty() && guesses.front().fit >= 0.6; }
    /// "ITM in formatter frames, ID 1: …", or that this is no trace that is known here, with the best guess and why
    /// not.
    std::string verdict() const;
};

/// Tries every protocol, bare and in formatter frames with each ID that is there, and for instruction trace the
/// parameters of the encoder. Looks at the first megabyte behind what is all the same. `image` may be null. `isa`: in
/// place of what the image says; empty: as that says. Blocks, for a megabyte some seconds.
Identified identify(std::span<const std::uint8_t> bytes, std::shared_ptr<const Image> image, const std::string& isa,
                    const Progress& progress);

/// What a telling file name adds: "swo-72mhz.bin" says the core clock, which then comes first.
void heed_name(Identified& found, const std::string& path);

/// A target file for a guess: with comments where something is not known. `files`, the parts in order, and `image`: as
/// they shall stand in it. REQUIRES: guess.readable(), at least one file.
std::string target_text(const Guess& guess, const std::vector<std::string>& files, const std::string& image,
                        const std::string& name);

}  // namespace mt
