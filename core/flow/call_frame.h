// One function on a call stack.
#pragma once

#include <cstdint>

#include "target/code.h"

namespace mt {

/// A function on the stack.
struct CallFrame {
    enum Flag : std::uint8_t {
        kCutBegin = 1,    ///< its entry was not seen
        kCutEnd = 2,      ///< its end was not seen
        kTail = 4,        ///< entered by a jump in place of the one before
        kHandler = 8,     ///< entered by an exception
        kUnwound = 16,    ///< left without a return of its own
        kContinued = 32,  ///< on a stack that was switched away from, and back to, or of which nothing was traced for a while
        kReplaced = 64,   ///< left by a jump into another function, which stands in its place
    };
    std::uint32_t function = 0;
    std::uint32_t back = Code::kNowhere;  ///< slot it returns to; kNowhere if unknown
    std::uint32_t number = 0;             ///< of the exception, for a handler
    std::uint8_t flags = 0;
};

}  // namespace mt
