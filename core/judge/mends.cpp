#include "judge/mends.h"

#include <cmath>
#include <variant>

namespace mt {

std::vector<Mend> mends_of(const Finding& f, const Recording& recording) {
    if (f.core_index >= recording.target.cores.size() || recording.target.path.empty()) return {};
    if (f.kind == FindingKind::clock_doubt) {
        const Fact* clock = f.known("likelier_clock");
        const Hertz* hz = clock == nullptr ? nullptr : std::get_if<Hertz>(&clock->value);
        if (hz == nullptr) return {};
        const std::string value = std::to_string(static_cast<std::uint64_t>(std::llround(hz->value)));
        return {{"Set clock_hz to " + value, {{"core", f.core_index, "clock_hz", value}}}};
    }
    if (f.kind == FindingKind::image_doubt)
        return {{"Choose the image…", {{"core", f.core_index, "image", ""}}, Mend::Asks::image}};
    return {};
}

}  // namespace mt
