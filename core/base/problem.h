// How things go wrong across module borders: a value, never an exception.
#pragma once

#include <string>
#include <utility>

#include <tl/expected.hpp>

namespace mt {

/// What happened, where, and what to do next; each part is a sentence fragment for people.
struct Problem {
    std::string what;
    std::string where;   ///< file and line, or stream and offset; may be empty
    std::string advice;  ///< what to do next; may be empty

    /// "what: where: advice", leaving out what is empty.
    std::string text() const {
        std::string all = what;
        if (!where.empty()) all += ": " + where;
        if (!advice.empty()) all += ": " + advice;
        return all;
    }
};

template <class T>
using Result = tl::expected<T, Problem>;

inline tl::unexpected<Problem> failure(std::string what, std::string where = {}, std::string advice = {}) {
    return tl::make_unexpected(Problem{std::move(what), std::move(where), std::move(advice)});
}

}  // namespace mt
