#include "judge/finding.h"
namespace mt {
std::string_view finding_kind_name(FindingKind) { return "x"; }
std::vector<Finding> find_all(const Recording&, const Trail&, const Progress*) { return {}; }
}
