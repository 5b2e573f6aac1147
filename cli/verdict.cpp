#include "verdict.h"

#include <algorithm>

#include "output.h"

namespace mt::cli {

int verdict(const std::vector<Finding>& findings, const std::vector<std::string>& kinds) {
    bool bad = false;
    for (const auto& f : findings)
        if (std::any_of(kinds.begin(), kinds.end(),
                        [&](const std::string& kind) { return kind == "any" || kind == finding_kind_name(f.kind); })) {
            say("bad: " + f.title);
            bad = true;
        }
    return bad ? kBad : kDone;
}

}  // namespace mt::cli
