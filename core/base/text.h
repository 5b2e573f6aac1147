// Numbers for people: lengths of time, moments, sizes, and hexadecimal.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>

#include "base/time.h"

namespace mt {

/// "74.3 µs": three to four significant digits with the fitting unit (ps, ns, µs, ms); seconds to the millisecond.
std::string duration_text(Time length);
/// "7.063 117 800 s": a moment to the nanosecond in groups of three digits.
std::string moment_text(Time moment);
/// Nanoseconds with three decimals, no trailing unit: "117800.125", as the command line prints them.
std::string ns_text(Time t);
/// "1 234 567": digits in groups of three with a thin separator.
std::string count_text(std::uint64_t n);
/// "0.042 %" or "12.3 %"; `share` in [0, 1].
std::string share_text(double share);
/// "2.10 MB" from bytes, decimal units.
std::string bytes_text(std::uint64_t bytes);
/// "0e 10 20".
std::string hex_bytes(std::span<const std::uint8_t> bytes);
/// "0x0003a2f1" with at least `digits` digits.
std::string hex_text(std::uint64_t value, int digits = 8);
/// A frequency from its period: "4.00 kHz"; empty for a length that is not positive.
std::string frequency_text(Time period);
/// The text with "one" or "many" after its count: "1 gap", "2 gaps".
std::string plural(std::uint64_t n, std::string_view one, std::string_view many);

}  // namespace mt
