// Tables as CSV and JSON: what the command line prints and the window saves. Times in nanoseconds
// with three decimals (docs/user-guide.md, "Tables for other programs").
#pragma once

#include <iosfwd>
#include <optional>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "base/progress.h"
#include "base/problem.h"
#include "judge/finding.h"
#include "measure/interrupts.h"
#include "trail/recording.h"
#include "trail/trail.h"

namespace mt {

/// The field as CSV needs it (RFC 4180): quoted if it holds a comma, a quote or a line break. Text that a spreadsheet
/// would take for a formula (it begins with = or @, or with + or - and is no number) gets an apostrophe in front.
std::string csv_field(const std::string& text);

/// The heading of every `stats --csv`.
inline constexpr const char* kStatsHeading =
    "name,number,count,left_out,total,own,min,mean,max,stddev,p95,p99,period_min,period_mean,period_max,response_min,"
    "response_mean,response_max,share\n";
/// A share as CSV has it, 0 to 1 with nine decimals.
std::string share_field(double share);
/// Times in JSON: nanoseconds, null where unknown.
nlohmann::ordered_json json_ns(Time t);
nlohmann::ordered_json json_ns(const std::optional<Time>& t);
/// Adds the figures that all activities have: count, left_out, total, own, min, mean, max, stddev.
template <class Row>
void add_figures(nlohmann::ordered_json& j, const Row& r) {
    j["count"] = r.count;
    j["left_out"] = r.left_out;
    j["total"] = json_ns(r.total);
    j["own"] = json_ns(r.own);
    j["min"] = json_ns(r.least);
    j["mean"] = json_ns(r.mean);
    j["max"] = json_ns(r.greatest);
    j["stddev"] = json_ns(r.deviation);
}

/// `stats --csv`: the columns that docs/formats/tables.md lists.
void write_stats_csv(const std::vector<InterruptRow>& rows, std::ostream& out);
nlohmann::ordered_json stats_json(const std::vector<InterruptRow>& rows);
/// `instances --csv`: one row per instance, whole or cut. `timed`: whether the trace tells of time.
void write_instances_csv(const ExceptionLane& lane, std::ostream& out, bool timed = true,
                         const Progress* progress = nullptr);
/// `packets --csv` between two times (either may be left out), in stream order; several streams are
/// merged by time.
void write_packets_csv(const Recording& recording, const Trail& trail, std::optional<Time> from, std::optional<Time> to,
                       std::ostream& out, const Progress* progress = nullptr);
void write_events_csv(const Recording& recording, const Trail& trail, std::optional<Time> from, std::optional<Time> to,
                      std::ostream& out, const Progress* progress = nullptr);
nlohmann::ordered_json summary_json(const Recording& recording, const Trail& trail);
/// The same for people, a few lines.
std::string summary_text(const Recording& recording, const Trail& trail);
nlohmann::ordered_json findings_json(const std::vector<Finding>& findings);
std::string findings_text(const std::vector<Finding>& findings);

}  // namespace mt
