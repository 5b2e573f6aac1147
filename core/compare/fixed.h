// Whether what was found before is mended: does the situation still come up, how often, and how does it end now?
#pragma once

#include <string>
#include <vector>

#include "judge/finding.h"
#include "model/trail.h"

namespace mt {

/// One finding of the recording before, looked for in the one after.
struct Mended {
    enum class Now : std::uint8_t {
        gone,       ///< the situation came up often enough, and ends well
        still,      ///< it is found again
        not_enough, ///< it was not found again, but the situation came up too seldom to say more
        untested,   ///< the situation never came up
        not_told    ///< the recording after does not tell of such things
    };
    std::string title;
    FindingKind kind = FindingKind::gap;
    Now now = Now::untested;
    std::string situation;  ///< "clock asks for bus_lock while another has it", "executions of guide"
    std::uint64_t before = 0, after = 0;  ///< times that the situation came up
    std::uint64_t found_before = 0, found_after = 0;
    std::uint64_t needed = 0;  ///< so many are needed to say more, where there were not enough
    std::string worst;         ///< how it ends now at the worst: "0.9 ms"; empty where that has no length
};
/// Those of `findings_before` that are about something that runs. A situation in which it used to happen once in n times
/// must have come up so often that by chance it would have happened again with 95 %.
std::vector<Mended> what_is_mended(const Trail& before, const std::vector<Finding>& findings_before, const Trail& after,
                                   const std::vector<Finding>& findings_after);
std::string_view mended_name(Mended::Now now);
/// "clock waited 43.4 ms for bus_lock: not found again in 8 such situations, which end within 0.9 ms".
std::string mended_text(const Mended& m);

}  // namespace mt
