// A visitor of variants, made of a function for each alternative.
#pragma once

namespace mt {

template <class... Cases>
struct Overloaded : Cases... {
    using Cases::operator()...;
};
template <class... Cases>
Overloaded(Cases...) -> Overloaded<Cases...>;

}  // namespace mt
