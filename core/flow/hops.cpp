#include "flow/hops.h"

namespace mt {

HopTable::HopTable(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions)
    : code_(std::move(code)), functions_(std::move(functions)), hops_(std::size_t{1} << kBits), arm_(code_->thumb()) {}

void HopTable::make(Hop& h, std::uint32_t slot, std::uint32_t key,
                    std::array<std::uint32_t, Hop::kMostPops> top) const {
    h = {};
    h.from = slot;
    h.key = key;
    h.top = top;
    h.function = functions_->at(slot);
    Walk w;
    w.at = slot;
    w.function = h.function;
    w.hop = &h;
    w.top = top;
    bool more = true;
    for (std::uint32_t length = key >> 8 & 15; h.used < length && more; ++h.used) {
        const bool went = further(w, key, (key >> h.used & 1) != 0, more, [&](std::uint32_t first, std::uint32_t last) {
            h.steps += (*code_)[first].count;
            h.last = last;
        });
        if (!went) break;
    }
    h.end = w.at;
    h.ends_in = w.function;
}

}  // namespace mt
