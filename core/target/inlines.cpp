#include "target/inlines.h"

#include <algorithm>

namespace mt {

std::shared_ptr<const InlineTable> InlineTable::of(const Image& image, const Code& code, std::span<const ProcessImage> processes) {
    auto table = std::make_shared<InlineTable>();
    table->add_image(image, code, [&code](std::uint64_t address) { return code.slot_of(address); });
    for (const ProcessImage& p : processes)
        table->add_image(*p.image, code, [&](std::uint64_t address) { return p.slot_of(code, address); });
    return table;
}

void InlineTable::add_image(const Image& image, const Code& code, const std::function<std::uint32_t(std::uint64_t)>& slot_of) {
    const std::vector<InlinedCall> calls = image.inlined_calls();
    if (calls.empty()) return;
    of_slot_.resize(code.slot_count(), kNone);
    const auto before = static_cast<std::uint32_t>(inlined_.size());
    // Parents come before what they hold, so that the innermost stays.
    for (const InlinedCall& call : calls) {
        const auto index = static_cast<std::uint32_t>(inlined_.size());
        Inlined one;
        one.name = call.name;
        one.file = call.file;
        one.line = call.line;
        one.parent = call.parent < index - before ? before + call.parent : kNone;
        if (one.parent != kNone) one.depth = static_cast<std::uint16_t>(inlined_[one.parent].depth + 1);
        one.entry = Code::kNowhere;
        for (const auto& [begin, end] : call.ranges) {
            std::uint32_t slot = slot_of(begin);
            // Without a function around it: DWARF of code that the linker dropped.
            if (slot == Code::kNowhere || image.function_at(begin) == nullptr) continue;
            one.entry = std::min(one.entry, slot);
            for (; slot < of_slot_.size() && slot != Code::kNowhere && code.address(slot) < end;
                 slot = code.next(slot))
                of_slot_[slot] = index;
        }
        inlined_.push_back(std::move(one));
    }
}

std::vector<std::string> InlineTable::names_at(std::uint32_t slot) const {
    std::vector<std::string> names;
    for (std::uint32_t i = at(slot); i < inlined_.size(); i = inlined_[i].parent) names.push_back(inlined_[i].name);
    std::reverse(names.begin(), names.end());
    return names;
}

}  // namespace mt
