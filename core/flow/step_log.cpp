#include "flow/step_log.h"

namespace mt {

StepLog::StepLog(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions, Sink sink,
                 std::size_t block_items)
    : sink_(std::move(sink)),
      block_items_(block_items),
      block_(std::make_unique<StepBlock>(block_items)),
      begins_(code->slot_count()),
      ends_(code->slot_count()),
      hops_(std::move(code), std::move(functions)) {
    block_->hops = hops_.store();
}

void StepLog::flush() {
    if (block_->size == 0) return;
    block_ = sink_(std::move(block_));
    block_->clear();
    hops_.make_room(Counted{*this});
    block_->hops = hops_.store();
}

void StepBlock::count(std::vector<std::uint64_t>& begins, std::vector<std::uint64_t>& ends) const {
    for (const Item& i : items()) {
        if (i.kind == Item::Kind::run) {
            ++begins[i.first];
            ++ends[i.end.last];
        } else if (i.kind == Item::Kind::hop) {
            for (const StepRun& r : i.hop->runs) {
                ++begins[r.first];
                ++ends[r.last];
            }
        }
    }
}

void StepLog::count(const HopTable::Entry& e) {
    for (const StepRun& r : e.hop->runs) {
        begins_[r.first] += e.count;
        ends_[r.last] += e.count;
    }
}

std::pair<std::vector<std::uint64_t>, std::vector<std::uint64_t>> StepLog::counts() {
    hops_.each([this](HopTable::Entry& e) {
        count(e);
        e.count = 0;
    });
    return {begins_, ends_};
}

}  // namespace mt
