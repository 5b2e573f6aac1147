#include "pass/data_lanes.h"

#include <utility>

#include "base/text.h"

namespace mt {

DataLanes::Lane DataLanes::make(std::uint32_t tag) {
    const PortSpec* port = recording_.target.port(tag);
    Lane lane;
    lane.text = port != nullptr && port->kind == "text";
    lane.type = ValueType::named(port != nullptr ? port->type : "u64").value_or(ValueType{});
    const std::string name = port != nullptr && !port->name.empty() ? port->name : "data " + std::to_string(tag);
    if (lane.text) {
        lane.index = trail_.texts.size();
        TextLog log;
        log.core = static_cast<std::uint16_t>(core_);
        log.port = tag;
        log.name = name;
        log.stated = true;
        trail_.texts.push_back(std::move(log));
        return lane;
    }
    lane.index = trail_.tasks.values.size();
    ValueLane values;
    values.id = static_cast<std::uint32_t>(kBesideNumbers + lane.index);
    values.name = name;
    values.core = static_cast<std::uint16_t>(core_);
    values.sort = lane.type.read(0).sort;
    if (port != nullptr) values.value_names = port->names;
    trail_.tasks.values.push_back(std::move(values));
    return lane;
}

void DataLanes::take(const StepTrail& steps) {
    for (; taken_ < steps.data.size(); ++taken_) {
        const StepDataAt d = steps.data[taken_];
        auto found = lanes_.find(d.data.tag);
        if (found == lanes_.end()) {
            if (lanes_.size() >= kMostTags) {
                if (!std::exchange(told_many_, true))
                    trail_.doubts.push_back({"More than " + count_text(kMostTags) +
                                                 " different tags come with data in the instruction trace: those of the "
                                                 "others are left out.",
                                             ""});
                continue;
            }
            found = lanes_.emplace(d.data.tag, make(d.data.tag)).first;
        }
        const Lane& lane = found->second;
        if (lane.text) {
            std::uint64_t word = d.data.value;
            do trail_.texts[lane.index].put(static_cast<char>(word & 0xFF), d.time);
            while ((word >>= 8) != 0);
        } else {
            trail_.tasks.values[lane.index].append(d.time, lane.type.read(d.data.value).bits);
        }
    }
}

}  // namespace mt
