// Any text as a formula of signals and as a watched expression: a result, or a problem that says what is wrong.
#include <cstdlib>
#include <string>

#include "signals/derive.h"
#include "target/data_place.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    using namespace mt;
    const std::string text(reinterpret_cast<const char*>(data), size);
    if (const auto place = find_data(CoreSpec{}, text); place ? place->size == 0 : place.error().what.empty()) std::abort();
    const auto e = SignalExpression::read(text);
    if (!e) {
        if (e.error().what.empty()) std::abort();
        return 0;
    }
    ValueLane lane;
    lane.sort = ValueSort::real;
    for (int i = 0; i < 40; ++i)
        lane.append(Time::from_us(i * i), Value::of(i % 7 == 6 ? 1.0 / 0.0 : i % 5 * 1e9 - 3).bits);
    lane.holes.push_back({Time::from_us(30), Time::from_us(36)});
    const std::vector<const ValueLane*> of(e->signals().size(), &lane);
    const ValueLane out = derived_lane(*e, of);
    for (std::size_t i = 1; i < out.samples.size(); ++i)
        if (out.samples.time(i) < out.samples.time(i - 1)) std::abort();
    return 0;
}
