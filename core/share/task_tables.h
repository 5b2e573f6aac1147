// Rows of an event trace, as CSV, JSON and text.
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
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

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
