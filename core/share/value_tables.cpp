#include "share/value_tables.h"

#include <ostream>
#include <queue>

#include "base/near_names.h"
#include "base/text.h"
#include "share/tables.h"

namespace mt {

Result<std::vector<std::size_t>> values_named(const Trail& trail, const std::vector<std::string>& names) {
    std::vector<std::size_t> lanes;
    for (const std::string& name : names) {
        bool any = false;
        std::vector<std::string> known;
        for (std::size_t i = 0; i < trail.tasks.values.size(); ++i) {
            known.push_back(trail.tasks.values[i].name);
            if (trail.tasks.values[i].name != name) continue;
            lanes.push_back(i);
            any = true;
        }
        if (!any)
            return failure("no value is called '" + name + "'", "",
                           near_names_text(name, known, "the recording holds no values"));
    }
    return lanes;
}

void write_values_csv(const Trail& trail, const ValuesWanted& wanted, std::ostream& out) {
    constexpr const char* access[] = {"write", "read", "sample", ""};
    struct Next {
        Time time;
        std::size_t lane, sample;
        bool operator<(const Next& o) const { return time != o.time ? o.time < time : lane > o.lane; }
    };
    std::priority_queue<Next> next;
    const auto& lanes = trail.tasks.values;
    const auto push = [&](std::size_t lane, std::size_t sample) {
        const ValueLane& l = lanes[lane];
        if (sample >= l.samples.size()) return;
        const Time t = l.samples.time(sample);
        if (wanted.to && *wanted.to < t) return;
        next.push({t, lane, sample});
    };
    for (std::size_t i = 0; i < lanes.size(); ++i) {
        bool asked = wanted.lanes.empty();
        for (const std::size_t w : wanted.lanes) asked = asked || w == i;
        if (!asked) continue;
        push(i, wanted.from
                    ? lanes[i].samples.before(*wanted.from)
                    : 0);
    }
    out << "time_ns,core,name,value,access,pc\n";
    while (!next.empty()) {
        const Next n = next.top();
        next.pop();
        const ValueLane& l = lanes[n.lane];
        const ValueOrigin origin = l.origin(n.sample);
        out << ns_text(n.time) << ',' << (l.core < trail.cores.size() ? csv_field(trail.cores[l.core].name) : "") << ','
            << csv_field(l.name) << ','
            << (l.core == ValueLane::kNoCore || !l.known(n.sample) ? csv_field(l.text(n.sample))
                                                                   : l.value(n.sample).text())
            << ',' << access[static_cast<std::size_t>(origin.access)] << ','
            << (origin.instruction_known ? hex_text(origin.instruction) : "") << '\n';
        push(n.lane, n.sample + 1);
    }
}

}  // namespace mt
