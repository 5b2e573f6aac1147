#include "pass/data_lanes.h"

#include <algorithm>
#include <utility>

#include "base/text.h"

namespace mt {

DataLanes::Lane DataLanes::make_values(const std::string& name, const ValueType& type, const std::map<std::uint64_t, std::string>& names) {
    Lane lane;
    lane.type = type;
    lane.index = trail_.tasks.values.size();
    ValueLane values;
    values.id = static_cast<std::uint32_t>(kBesideNumbers + lane.index);
    values.name = name;
    values.core = static_cast<std::uint16_t>(core_);
    values.sort = type.read(0).sort;
    values.value_names = names;
    trail_.tasks.values.push_back(std::move(values));
    return lane;
}

DataLanes::Lane DataLanes::make_of_core(const StepData& d) {
    const auto type = [](const char* name) { return ValueType::named(name).value_or(ValueType{}); };
    switch (d.tag) {
        case StepData::kContext: {
            std::map<std::uint64_t, std::string> names;
            const std::string& core = recording_.target.cores[core_].name;
            for (const ProcessSpec& p : recording_.target.processes)
                if (p.core.empty() || p.core == core) names[p.context] = p.name;
            return make_values("process", type("u32"), names);
        }
        case StepData::kVirtualMachine:
            return make_values("virtual machine", type("u32"), {});
        case StepData::kLevel:
            if (trail_.cores[core_].riscv) return make_values("privilege", type("u8"), {{0, "user"}, {1, "supervisor"}, {3, "machine"}});
            return make_values("exception level", type("u8"), {{0, "EL0"}, {1, "EL1"}, {2, "EL2"}, {3, "EL3"}});
        default: {
            const char* of = d.tag == StepData::kAccess1 ? "u8" : d.tag == StepData::kAccess2 ? "u16" : "u32";
            std::string name = hex_text(d.address, 8);
            if (const auto& image = recording_.images[core_])
                for (const Symbol& s : image->symbols())
                    if (!s.function && d.address >= s.address && d.address - s.address < std::max<std::uint64_t>(s.size, 1))
                        name = s.name + (d.address == s.address ? "" : "+" + std::to_string(d.address - s.address));
            return make_values(name, type(of), {});
        }
    }
}

DataLanes::Lane DataLanes::make(const StepData& data) {
    if (data.tag >= StepData::kContext) return make_of_core(data);
    const std::uint32_t tag = data.tag;
    const PortSpec* port = recording_.target.port(tag);
    const auto type = ValueType::named(port != nullptr ? port->type : "u64").value_or(ValueType{});
    const std::string name = port != nullptr && !port->name.empty() ? port->name : "data " + std::to_string(tag);
    if (port == nullptr || port->kind != "text")
        return make_values(name, type, port != nullptr ? port->names : std::map<std::uint64_t, std::string>{});
    Lane lane;
    lane.text = true;
    lane.type = type;
    lane.index = trail_.texts.size();
    TextLog log;
    log.core = static_cast<std::uint16_t>(core_);
    log.port = tag;
    log.name = name;
    log.stated = true;
    trail_.texts.push_back(std::move(log));
    return lane;
}

void DataLanes::take(const StepTrail& steps) {
    for (; taken_ < steps.data.size(); ++taken_) {
        const StepDataAt d = steps.data[taken_];
        const std::pair key(d.data.tag, d.data.address);
        auto found = lanes_.find(key);
        if (found == lanes_.end()) {
            if (lanes_.size() >= kMostTags) {
                if (!std::exchange(told_many_, true))
                    trail_.doubts.push_back({"More than " + count_text(kMostTags) +
                                                 " different tags and addresses come with data in the instruction trace: those of the "
                                                 "others are left out.",
                                             ""});
                continue;
            }
            found = lanes_.emplace(key, make(d.data)).first;
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
