#include "flow/step_log.h"

namespace mt {
namespace {

void count_hop(const Code& code, const Hop& hop, std::uint64_t times, RunCounts& counts) {
    for (std::size_t i = 0; i < hop.runs.size(); ++i) {
        const StepRun& r = hop.runs[i];
        counts.begins[r.first] += times;
        counts.ends[r.last] += times;
        if (i + 1 < hop.runs.size() && hop.runs[i + 1].first != code.next(r.last)) counts.taken[r.last] += times;
    }
}

}  // namespace

StepLog::StepLog(std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions, Sink sink,
                 std::size_t block_items)
    : sink_(std::move(sink)),
      block_items_(block_items),
      block_(std::make_unique<StepBlock>(block_items)),
      code_(code),
      counts_(code->slot_count()),
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

void StepBlock::count(const Code& code, RunCounts& counts) const {
    for (const Item& i : items()) {
        if (i.kind == Item::Kind::run) {
            ++counts.begins[i.first];
            ++counts.ends[i.end.last];
        } else if (i.kind == Item::Kind::hop) {
            count_hop(code, *i.hop, 1, counts);
        }
    }
}

void StepLog::count(const HopTable::Entry& e) { count_hop(*code_, *e.hop, e.count, counts_); }

const RunCounts& StepLog::counts() {
    hops_.each([this](HopTable::Entry& e) {
        count(e);
        e.count = 0;
    });
    return counts_;
}

}  // namespace mt
