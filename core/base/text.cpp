#include "base/text.h"

#include <array>
#include <cmath>
#include <cstdio>
#include <cstdlib>

namespace mt {
namespace {

std::string formatted(const char* pattern, double value, const char* unit) {
    std::array<char, 64> buffer{};
    std::snprintf(buffer.data(), buffer.size(), pattern, value);
    return std::string(buffer.data()) + unit;
}

// Three significant digits, four when the first is a 1 would be noise: keep three.
std::string significant(double value, const char* unit) {
    const double size = std::fabs(value);
    if (size >= 99.95) return formatted("%.0f", value, unit);
    if (size >= 9.995) return formatted("%.1f", value, unit);
    return formatted("%.2f", value, unit);
}

}  // namespace

std::string duration_text(Time length) {
    const double ps = static_cast<double>(length.ps);
    const double size = std::fabs(ps);
    if (length.ps == 0) return "0 s";
    if (size < 999.5) return formatted("%.0f", ps, " ps");
    if (size < 999.5e3) return significant(ps / 1e3, " ns");
    if (size < 999.5e6) return significant(ps / 1e6, " µs");
    if (size < 999.5e9) return significant(ps / 1e9, " ms");
    return formatted(size < 1e14 ? "%.3f" : "%.1f", ps / 1e12, " s");
}

std::string moment_text(Time moment) {
    const bool negative = moment.ps < 0;
    const std::uint64_t ns = (static_cast<std::uint64_t>(negative ? -moment.ps : moment.ps) + 500) / 1000;
    std::array<char, 64> buffer{};
    std::snprintf(buffer.data(), buffer.size(), "%s%llu.%03llu %03llu %03llu s", negative ? "-" : "",
                  static_cast<unsigned long long>(ns / 1'000'000'000),
                  static_cast<unsigned long long>(ns / 1'000'000 % 1000),
                  static_cast<unsigned long long>(ns / 1000 % 1000), static_cast<unsigned long long>(ns % 1000));
    return buffer.data();
}

std::string ns_text(Time t) {
    std::array<char, 40> buffer{};
    const std::int64_t whole = std::llabs(t.ps) / 1000, rest = std::llabs(t.ps) % 1000;
    std::snprintf(buffer.data(), buffer.size(), "%s%lld.%03lld", t.ps < 0 ? "-" : "", static_cast<long long>(whole),
                  static_cast<long long>(rest));
    return buffer.data();
}

std::string count_text(std::uint64_t n) {
    std::string digits = std::to_string(n), out;
    for (std::size_t i = 0; i < digits.size(); ++i) {
        if (i != 0 && (digits.size() - i) % 3 == 0) out += "\u202f";
        out += digits[i];
    }
    return out;
}

std::string share_text(double share) {
    const double percent = share * 100;
    if (percent != 0 && std::fabs(percent) < 0.001) return "< 0.001 %";
    if (std::fabs(percent) < 0.1) return formatted("%.3f", percent, " %");
    return significant(percent, " %");
}

std::string bytes_text(std::uint64_t bytes) {
    const double b = static_cast<double>(bytes);
    if (b < 1000) return std::to_string(bytes) + " B";
    if (b < 999.5e3) return significant(b / 1e3, " kB");
    if (b < 999.5e6) return significant(b / 1e6, " MB");
    return significant(b / 1e9, " GB");
}

std::string hex_bytes(std::span<const std::uint8_t> bytes) {
    constexpr char digits[] = "0123456789abcdef";
    std::string out;
    for (const std::uint8_t b : bytes) {
        if (!out.empty()) out += ' ';
        out += digits[b >> 4];
        out += digits[b & 15];
    }
    return out;
}

std::string hex_text(std::uint64_t value, int digits) {
    std::array<char, 32> buffer{};
    std::snprintf(buffer.data(), buffer.size(), "0x%0*llx", digits, static_cast<unsigned long long>(value));
    return buffer.data();
}

std::string frequency_text(Time period) {
    if (period.ps <= 0) return {};
    const double hz = 1e12 / static_cast<double>(period.ps);
    if (hz < 1000) return significant(hz, " Hz");
    if (hz < 1e6) return significant(hz / 1e3, " kHz");
    return significant(hz / 1e6, " MHz");
}

std::string plural(std::uint64_t n, std::string_view one, std::string_view many) {
    return count_text(n) + " " + std::string(n == 1 ? one : many);
}

}  // namespace mt
