// The built-in kinds, a file each. A new one is its file and a line here and in activity_kind.cpp.
#pragma once

#include "measure/activity_kind.h"

namespace mt {

const ActivityKind& interrupts_kind();
const ActivityKind& tasks_kind();
const ActivityKind& functions_kind();
const ActivityKind& locks_kind();
const ActivityKind& queues_kind();
const ActivityKind& semaphores_kind();
const ActivityKind& resources_kind();
const ActivityKind& critical_kind();
const ActivityKind& values_kind();
const ActivityKind& states_kind();
const ActivityKind& marks_kind();
const ActivityKind& faults_kind();
const ActivityKind& gaps_kind();

}  // namespace mt
