// Tables as CSV and JSON: what the command line prints and the window saves. Times in nanoseconds
// with three decimals (docs/user-guide.md, "Tables for other programs").
#pragma once

#include <iosfwd>
#include <optional>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "base/problem.h"
#include "base/progress.h"
#include "judge/finding.h"
#include "judge/muted.h"
#include "measure/interrupts.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// The field as CSV needs it (RFC 4180): quoted if it holds a comma, a quote or a line break. Text that a spreadsheet
/// would take for a formula (it begins with = or @, or with + or - and is no number) gets an apostrophe in front.
std::string csv_field(const std::string& text);

/// A share as CSV has it, 0 to 1 with nine decimals.
std::string share_field(double share);
/// Times in JSON: nanoseconds, null where unknown.
nlohmann::ordered_json json_ns(Time t);
nlohmann::ordered_json json_ns(const std::optional<Time>& t);

/// `packets --csv` between two times (either may be left out), in stream order; several streams are
/// merged by time.
void write_packets_csv(const Recording& recording, const Trail& trail, std::optional<Time> from, std::optional<Time> to,
                       std::ostream& out, const Progress* progress = nullptr);
void write_events_csv(const Recording& recording, const Trail& trail, std::optional<Time> from, std::optional<Time> to,
                      std::ostream& out, const Progress* progress = nullptr);
nlohmann::ordered_json summary_json(const Recording& recording, const Trail& trail);
/// The same for people, a few lines.
std::string summary_text(const Recording& recording, const Trail& trail);
/// Those that are muted say why under "muted".
nlohmann::ordered_json findings_json(const std::vector<Finding>& findings, const Muted& muted = {});
/// `muted`: how many more there are that are not told.
std::string findings_text(const std::vector<Finding>& findings, std::size_t muted = 0);

}  // namespace mt
