// How well a stream of instruction trace goes together with the program, and which parameter of its encoder is suspect
// where it does not.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>

#include "flow/step_pipe.h"

namespace mt {

/// What following some bytes gave.
struct StepFit {
    std::uint64_t bytes = 0, bad_bytes = 0, steps = 0, syncs = 0;
    std::uint64_t lead_in = 0;         ///< bytes before the first synchronisation
    std::uint64_t contradictions = 0;  ///< with the places where the image has no code
    bool endless = false;              ///< given up: more instructions than `most_steps`
    bool good() const { return contradictions == 0 && bad_bytes == 0 && syncs > 0; }
    /// Nothing but chance would have so much of it wrong.
    bool hopeless() const { return contradictions * 4 > syncs || bad_bytes * 50 > bytes || steps == 0; }
};

/// Follows `raw`, the beginning of a stream, as `spec` says it is to be read. Read wrongly, few bytes may stand for any
/// number of instructions: it is given up after `most_steps`.
StepFit step_fit(const StreamSpec& spec, std::shared_ptr<const Code> code, std::span<const std::uint8_t> raw,
                 std::uint64_t most_steps = ~std::uint64_t{0});

/// Whether a long stream is nothing that could be followed, as far as can be told without reading all of it: at none of
/// the places looked at, evenly spread from `from` on, is there a synchronisation or more than a chance instruction.
bool is_noise(const StreamSpec& spec, const std::shared_ptr<const Code>& code, std::span<const std::uint8_t> raw,
              std::uint64_t from);

/// One parameter of the encoder that, stated otherwise, makes trace and program fit.
struct SuspectParameter {
    std::string name;          ///< as in the target file: "iaddress_width"
    std::string stated, fits;  ///< its value there, and the one that fits
    StepFit before, after;
    /// Both as a sentence for people.
    std::string text() const;
};

/// Tries other values of each parameter alone. Nothing if the stream fits as it is, or no single change makes it fit: all
/// of it, where most fits as it is.
/// `raw` is the stream's beginning; 64 KiB are enough and take some tenths of a second.
std::optional<SuspectParameter> suspect_parameter(const StreamSpec& spec, const std::shared_ptr<const Code>& code,
                                                  std::span<const std::uint8_t> raw);

}  // namespace mt
