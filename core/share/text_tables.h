// What the firmware printed, as lines and as CSV (docs/formats/tables.md).
#pragma once

#include <iosfwd>
#include <optional>
#include <string>
#include <vector>

#include "base/problem.h"
#include "model/trail.h"

namespace mt {

struct TextWanted {
    std::vector<std::size_t> logs;  ///< indices into Trail::texts; empty: all that are text
    std::optional<Time> from, to;
};

/// The logs of a port, by its number or name; of several cores all. A Problem says which there are.
Result<std::vector<std::size_t>> logs_named(const Trail& trail, const std::string& port);

/// All lines in the order of time: calls `each` with a log and a line of it; false ends it.
template <class Each>
void each_text_line(const Trail& trail, const TextWanted& wanted, Each each) {
    std::vector<std::pair<std::size_t, std::size_t>> next;  // log, line
    for (std::size_t l = 0; l < trail.texts.size(); ++l) {
        bool asked = wanted.logs.empty() && trail.texts[l].is_text();
        for (const std::size_t w : wanted.logs) asked = asked || w == l;
        if (asked) next.emplace_back(l, wanted.from ? trail.texts[l].first_from(*wanted.from) : 0);
    }
    for (;;) {
        std::pair<std::size_t, std::size_t>* first = nullptr;
        for (auto& n : next)
            if (n.second < trail.texts[n.first].size() &&
                (first == nullptr ||
                 trail.texts[n.first].line(n.second).begin < trail.texts[first->first].line(first->second).begin))
                first = &n;
        if (first == nullptr) return;
        const TextLog& log = trail.texts[first->first];
        if (wanted.to && *wanted.to < log.line(first->second).begin) return;
        if (!each(log, first->second)) return;
        ++first->second;
    }
}

/// `text --csv`: time_ns,core,port,text.
void write_text_csv(const Trail& trail, const TextWanted& wanted, std::ostream& out);
/// For people: the time, where there are several logs whose it is, and the line.
void write_text(const Trail& trail, const TextWanted& wanted, std::ostream& out);

}  // namespace mt
