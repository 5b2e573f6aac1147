// One self-contained page about a recording, for people who do not have the program.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/progress.h"
#include "compare/code_both.h"
#include "compare/compare.h"
#include "compare/fixed.h"
#include "judge/finding.h"
#include "judge/muted.h"
#include "judge/rule_check.h"
#include "model/trail.h"
#include "recording/recording.h"
#include "share/cover_tables.h"

namespace mt {

/// The parts of a report, in their order.
inline constexpr std::string_view kReportSections[] = {"summary", "findings", "rules",    "measures",
                                                       "coverage", "comparison", "waymarks"};

/// What changed since another recording.
struct ReportComparison {
    std::string before;  ///< what that is called
    Comparison comparison;
    std::vector<Mended> mended;
    std::vector<CodeBoth> code;
};

struct ReportParts {
    std::vector<std::string> sections;  ///< of kReportSections; empty: all that the recording has something for
    std::vector<Finding> findings;      ///< worst first
    std::size_t muted = 0;              ///< findings that are left out, as a person muted them
    std::vector<RuleOutcome> rules;
    std::vector<CoverOfCore> coverage;
    std::optional<ReportComparison> comparison;
    std::string frame;  ///< a page of one's own, see html_page_in; empty: the usual one
    std::string made;   ///< when and from what, a line
};
/// A page of one's own for reports: `path`, or, if that is empty, report-frame.html beside the recording; empty if neither
/// is there. A Problem if it cannot be read, or has no {{body}}.
Result<std::string> report_frame(const std::string& path, const Recording& recording);
/// As HTML. Of a list at most 200 rows, and how many more there are. Blocks: figures of everything are worked out.
std::string report_html(const Recording& recording, std::shared_ptr<const Trail> trail, const ReportParts& parts,
                        const Progress* progress = nullptr);

/// Coverage as pages: an index and one for each source file, named by their numbers; `source` gives a file's lines,
/// none if it is not here.
struct CoverPage {
    std::string name;  ///< "index.html", "file-3.html"
    std::string html;
};
std::vector<CoverPage> cover_pages(const std::vector<CoverOfCore>& all, const CoverChoice& choice, const std::string& title,
                                   const std::function<std::vector<std::string>(const std::string& file)>& source);

}  // namespace mt
