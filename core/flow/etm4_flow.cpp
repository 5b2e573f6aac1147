#include "flow/etm4_flow.h"

namespace mt {

// Takes back the newest P0 elements, and what came with them.
void Etm4Flow::cancel(std::size_t count) {
    while (count > 0 && !held_.empty()) {
        if (held_.back().is_p0()) --count;
        held_.pop_back();
    }
}

}  // namespace mt
