// Signals made of others by a formula, C-like: docs/formats/expressions.md.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/problem.h"
#include "base/time.h"

namespace mt {

/// A formula that was read. Immutable; plain data.
class SignalExpression {
  public:
    /// A Problem says what is wrong at which column, counted from 1 in bytes.
    static Result<SignalExpression> read(const std::string& text);

    /// The signals that it names, each once, in order of appearance.
    const std::vector<std::string>& signals() const { return signals_; }
    const std::string& text() const { return text_; }

    enum class Does : std::uint8_t {
        number, signal,
        negate, is_not, complement,
        times, over, modulo, plus, minus, left, right,
        less, less_equal, greater, greater_equal, equal, not_equal,
        bits_and, bits_xor, bits_or, both, either, choose,
        absolute, root, floor, least, greatest, bit, rate, integral,
        mean_of_time, least_of_time, greatest_of_time
    };
    struct Node {
        Does does = Does::number;
        double number = 0;       ///< of a number; a length of time in seconds
        std::uint32_t signal = 0;
        std::uint32_t window = 0;  ///< of what looks back: which of all such
        std::vector<std::uint32_t> of;  ///< nodes before this one
    };
    /// The last is the whole.
    const std::vector<Node>& nodes() const { return nodes_; }
    /// How many of the nodes remember what was before.
    std::size_t windows() const { return windows_; }

    static constexpr std::size_t kLongest = 2000, kDeepest = 64;

  private:
    friend class ExpressionParser;
    std::string text_;
    std::vector<std::string> signals_;
    std::vector<Node> nodes_;
    std::uint32_t windows_ = 0;
};

}  // namespace mt
