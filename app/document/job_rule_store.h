// Where jobs begin and end, as a person changed it, from one opening of a recording to the next.
#pragma once

#include <vector>

#include <QString>

#include "target/target_file.h"

namespace mt::app {

/// The rules kept for the recording at `path`; what cannot be read is left out.
std::vector<TaskSpec> kept_job_rules(const QString& path);
/// Keeps these instead; none forgets the recording.
void keep_job_rules(const QString& path, const std::vector<TaskSpec>& rules);

}  // namespace mt::app
