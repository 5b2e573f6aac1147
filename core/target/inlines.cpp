#include "target/inlines.h"

#include <algorithm>

namespace mt {

std::shared_ptr<const InlineTable> InlineTable::of(const Image& image, const Code& code) {
    auto table = std::make_shared<InlineTable>();
    const std::vector<InlinedCall> calls = image.inlined_calls();
    if (calls.empty()) return table;
    table->of_slot_.assign(code.slot_count(), kNone);
    // Parents come before what they hold, so that the innermost stays.
    for (const InlinedCall& call : calls) {
        const auto index = static_cast<std::uint32_t>(table->inlined_.size());
        Inlined one;
        one.name = call.name;
        one.file = call.file;
        one.line = call.line;
        one.parent = call.parent;
        if (call.parent < index) one.depth = static_cast<std::uint16_t>(table->inlined_[call.parent].depth + 1);
        one.entry = Code::kNowhere;
        for (const auto& [begin, end] : call.ranges) {
            std::uint32_t slot = code.slot_of(begin);
            // Without a function around it: DWARF of code that the linker dropped.
            if (slot == Code::kNowhere || image.function_at(begin) == nullptr) continue;
            one.entry = std::min(one.entry, slot);
            for (; slot < table->of_slot_.size() && slot != Code::kNowhere && code.address(slot) < end;
                 slot = code.next(slot))
                table->of_slot_[slot] = index;
        }
        table->inlined_.push_back(std::move(one));
    }
    return table;
}

std::vector<std::string> InlineTable::names_at(std::uint32_t slot) const {
    std::vector<std::string> names;
    for (std::uint32_t i = at(slot); i < inlined_.size(); i = inlined_[i].parent) names.push_back(inlined_[i].name);
    std::reverse(names.begin(), names.end());
    return names;
}

}  // namespace mt
