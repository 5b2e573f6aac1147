#include "flow/step_log.h"

namespace mt {

StepLog::StepLog(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions, Sink sink,
                 std::size_t block_items)
    : code_(code),
      functions_(functions),
      sink_(std::move(sink)),
      block_items_(block_items),
      block_(std::make_unique<StepBlock>()),
      begins_(code->slot_count()),
      ends_(code->slot_count()),
      hops_(code, functions) {
    block_->items.reserve(block_items_);
}

void StepLog::flush() {
    if (block_->items.empty()) return;
    block_ = sink_(std::move(block_));
    block_->clear();
}

void StepLog::count(const Hop& h) {
    hops_.each_run(h, [&](std::uint32_t first, std::uint32_t last) {
        begins_[first] += h.count;
        ends_[last] += h.count;
    });
}

std::pair<std::vector<std::uint64_t>, std::vector<std::uint64_t>> StepLog::counts() {
    hops_.each([this](Hop& h) {
        count(h);
        h.count = 0;
    });
    return {begins_, ends_};
}

}  // namespace mt
