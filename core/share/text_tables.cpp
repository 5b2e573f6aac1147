#include "share/text_tables.h"

#include <algorithm>
#include <ostream>

#include "base/near_names.h"
#include "base/plain_text.h"
#include "base/text.h"
#include "share/tables.h"

namespace mt {

Result<std::vector<std::size_t>> logs_named(const Trail& trail, const std::string& port) {
    std::vector<std::size_t> found;
    std::vector<std::string> known;
    for (std::size_t i = 0; i < trail.texts.size(); ++i) {
        const TextLog& log = trail.texts[i];
        if (log.size() == 0) continue;
        known.push_back(log.name);
        if (log.name == port || std::to_string(log.port) == port) found.push_back(i);
    }
    if (found.empty())
        return failure("no text came through a port '" + port + "'", "",
                       near_names_text(port, known, "no port has text in this recording"));
    return found;
}

void write_text_csv(const Trail& trail, const TextWanted& wanted, std::ostream& out) {
    out << "time_ns,core,port,text\n";
    each_text_line(trail, wanted, [&](const TextLog& log, std::size_t i) {
        out << ns_text(log.line(i).begin) << ',' << csv_field(trail.cores[log.core].name) << ',' << csv_field(log.name)
            << ',' << csv_field(plain_text(log.raw(i))) << '\n';
        return true;
    });
}

void write_text(const Trail& trail, const TextWanted& wanted, std::ostream& out) {
    const auto logs =
        std::count_if(trail.texts.begin(), trail.texts.end(), [](const TextLog& log) { return log.is_text(); });
    each_text_line(trail, wanted, [&](const TextLog& log, std::size_t i) {
        const TextLine line = log.line(i);
        out << moment_text(line.begin) << "  ";
        if (logs > 1 && wanted.logs.size() != 1) out << trail.cores[log.core].name << " " << log.name << "  ";
        out << plain_text(log.raw(i)) << ((line.flags & TextLine::kTorn) != 0 ? "  (packets were lost within it)" : "")
            << '\n';
        return true;
    });
}

}  // namespace mt
