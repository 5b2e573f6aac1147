// What the board does wrong on request.
#pragma once

#include <cstdint>
#include <random>
#include <string>
#include <vector>

#include "unit_space.h"

namespace board {

struct Troubles {
    // The trace line.
    double drop = 0, flip = 0;            ///< chance per byte
    unsigned delay_ms = 0;                ///< trace comes so much later
    double stall_at = -1, stall_for = 0;  ///< seconds of running: nothing is sent, then all of it at once
    std::uint64_t close_after = 0;        ///< bytes after which each trace connection is closed; 0: never
    std::uint64_t lose_each = 0;          ///< of so many bytes the last 64 are lost without a word; 0: never
    // The debug server.
    bool refuse_memory = false;
    bool no_access_running = false;  ///< memory cannot be reached while the core runs
    UnitTroubles units;
    unsigned answer_slowly_ms = 0;
    unsigned malformed_each = 0;  ///< each so many answers have a wrong checksum or are no packet

    // The parallel trace line: which sampling phases read it right.
    unsigned phases = 24, clean_from = 7, clean_count = 9, phase = 11;

    /// Share of bits read wrong at the present phase.
    double phase_error() const {
        for (unsigned i = 0; i < clean_count; ++i)
            if ((clean_from + i) % phases == phase % phases) return 0;
        unsigned away = phases;
        for (unsigned i = 0; i < clean_count; ++i) {
            const unsigned p = (clean_from + i) % phases, d = p > phase ? p - phase : phase - p;
            away = std::min(away, std::min(d, phases - d));
        }
        return away == 1 ? 0.002 : away == 2 ? 0.03 : 0.25;
    }
    /// Spoils bytes on their way out.
    void spoil(std::vector<std::uint8_t>& bytes, std::mt19937_64& random, std::uint64_t& passed) const;
};

}  // namespace board
