#include "flow/hops.h"

namespace mt {

HopTable::HopTable(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions)
    : code_(std::move(code)), functions_(std::move(functions)), hops_(std::size_t{1} << kBits), arm_(code_->thumb()) {}

void HopTable::make(Hop& h, std::uint32_t slot, std::uint32_t key) const {
    h = {};
    h.from = slot;
    h.key = key;
    h.end = slot;
    h.function = functions_->at(slot);
    bool more = true;
    for (std::uint32_t length = key >> 8; h.used < length && more;) {
        const std::uint32_t to =
            further(h.end, (key >> h.used & 1) != 0, more, [&](std::uint32_t first, std::uint32_t last) {
                h.steps += (*code_)[first].count;
                h.last = last;
            });
        if (to == Code::kNowhere) break;
        h.end = to;
        ++h.used;
    }
}

}  // namespace mt
