// Tables of tasks, locks, queues and marks, and rows of an event trace, as CSV, JSON and text.
#pragma once

#include <functional>
#include <limits>
#include <iosfwd>
#include <optional>
#include <string>

#include <nlohmann/json.hpp>

#include "base/progress.h"
#include "measure/states.h"
#include "measure/tasks.h"
#include "trail/recording.h"
#include "trail/trail.h"

namespace mt {

/// `stats --of tasks`: min, mean, max are processor time of whole jobs; total is all processor time that was observed.
void write_tasks_csv(const std::vector<TaskRow>& rows, std::ostream& out);
nlohmann::ordered_json tasks_json(const std::vector<TaskRow>& rows);
std::string tasks_text(const std::vector<TaskRow>& rows);

/// `stats --of locks`: min, mean, max are how long it was held; response is how long it was waited for.
void write_locks_csv(const std::vector<LockRow>& rows, std::ostream& out);
nlohmann::ordered_json locks_json(const Trail& trail, const std::vector<LockRow>& rows);
std::string locks_text(const std::vector<LockRow>& rows);

/// The table of queues: how many entries came and went, and how long they stayed.
void write_queues_csv(const std::vector<QueueRow>& rows, std::ostream& out);

/// `stats --of states`: what named values stood for, how often and how long.
void write_states_csv(const std::vector<StateRow>& rows, std::ostream& out);
nlohmann::ordered_json states_json(const std::vector<StateRow>& rows);
std::string states_text(const std::vector<StateRow>& rows);

/// `stats --of marks`: how often each was seen, and its periods.
void write_marks_csv(const Trail& trail, std::ostream& out);
nlohmann::ordered_json marks_json(const Trail& trail);
std::string marks_text(const Trail& trail);

/// `instances --of`: jobs of a task, or holdings of a lock. False if the trail has neither of that name or number.
bool write_task_instances_csv(const Trail& trail, const std::string& of, std::ostream& out);

/// One event record of an event trace, for tables.
struct TraceEventText {
    Time time;
    std::uint64_t offset = 0;
    std::size_t stream = 0;  ///< index into the event source's files
    std::uint16_t core = 0;
    std::string kind, detail;         ///< the event's own name, and all its fields
    std::string name, number, value;  ///< as `events --csv` has them
};
/// The event records of one packet of a data stream, in order.
std::vector<TraceEventText> trace_events_of_packet(const Recording& recording, const Trail& trail, std::size_t stream,
                                                   std::size_t packet);
/// All event records between two times, each stream in its order, merged by time; one packet of each stream is held.
class TraceEvents {
  public:
    TraceEvents(const Recording& recording, const Trail& trail, std::optional<Time> from, std::optional<Time> to);
    /// The earliest that was not passed yet; null at the end. Valid until `pass`.
    const TraceEventText* next();
    void pass();

  private:
    struct Walk {
        std::size_t file = 0, packet = 0, at = 0;
        std::vector<TraceEventText> rows;
        Time reached{std::numeric_limits<std::int64_t>::min()};
    };
    bool fill(Walk& walk);
    const Recording& recording_;
    const Trail& trail_;
    std::optional<Time> from_, to_;
    std::vector<Walk> walks_;
};
/// The same one after the other, until `take` says false.
void each_trace_event(const Recording& recording, const Trail& trail, std::optional<Time> from, std::optional<Time> to,
                      const std::function<bool(const TraceEventText&)>& take);

nlohmann::ordered_json event_streams_json(const Recording& recording, const Trail& trail);
std::string event_streams_text(const Trail& trail);

}  // namespace mt
