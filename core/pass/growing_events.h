// From the packets of an event trace to its model, packet by packet: what a pass over a folder and a live recording
// have in common.
#pragma once

#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <queue>
#include <string>
#include <vector>

#include "model/trail.h"
#include "pass/growing_tasks.h"
#include "recording/event_source.h"

namespace mt {

/// The events of one packet, and what was found missing before it.
struct DecodedPacket {
    OsBlock block;
    std::vector<Gap> gaps;
    std::vector<std::pair<Time, Time>> doubts;  ///< before it: packets that were damaged, up to this one
    std::uint64_t backwards = 0, bad_bytes = 0;
    std::string trouble;
    std::uint64_t trouble_at = 0;
    std::uint64_t lost_events = 0, lost_packets = 0;
    std::size_t at = 0;     ///< the next event to be taken
    Time begin, end;        ///< as its header says, or as its events say
    bool doubtful = false;  ///< what stands in it from `unsure` on may be wrong: noted as such
    Time unsure;
    void clear() {
        block.clear();
        gaps.clear();
        doubts.clear();
        backwards = bad_bytes = trouble_at = lost_events = lost_packets = 0;
        trouble.clear();
        at = 0;
        doubtful = false;
    }
};

/// Turns packets into events; knows of each processor what came before. Packets of one file in their order. One
/// thread at a time; the source must outlive it.
class PacketDecoder {
  public:
    explicit PacketDecoder(const EventSource& source)
        : source_(source), cursor_(*source.metadata), last_(source.files.size()) {}
    /// `damage`: all of the file so far, ascending in offset.
    void decode(std::size_t file, const CtfPacket& packet, const std::vector<EventSource::Damage>& damage,
                DecodedPacket& out);

  private:
    struct Cpu {
        bool any = false, cut_short = false;
        Time unsure;                   ///< since then the packet before may be wrong, if it was cut short
        std::uint64_t exact_ends = 0;  ///< packets in a row whose last event has the time that the header says
        std::uint64_t discarded = 0, sequence = 0;
        Time reached{std::numeric_limits<std::int64_t>::min()};
    };
    struct File {
        std::size_t damage_seen = 0;
        std::map<std::uint64_t, Cpu> cpus;
    };
    const EventSource& source_;
    CtfCursor cursor_;
    std::vector<File> last_;
};

/// Brings the events of all processors into the order of time and into the model. One thread at a time; the recording
/// (with its `events`) and the model must outlive it.
class GrowingEvents {
  public:
    GrowingEvents(const Recording& recording, Trail& trail, GrowingTasks& tasks);

    void put(std::size_t file, const CtfPacket& packet, std::unique_ptr<DecodedPacket> decoded);
    /// Everything before `bound`. REQUIRES: no packet that is put later holds anything earlier than `bound`, unless it
    /// is to count as an event whose time runs backwards.
    void take_until(Time bound);
    /// No more packets.
    void finish();
    /// Takes back what has been read, to be used again; may be empty.
    std::function<void(std::unique_ptr<DecodedPacket>)> spent;

  private:
    struct Way {  ///< of one processor of one file
        std::size_t file = 0;
        std::deque<std::unique_ptr<DecodedPacket>> open;
        bool queued = false;
    };
    /// The next event of a way; ways are taken by time, of the same time the one that came first.
    struct Next {
        Time time;
        std::size_t way = 0;
        bool operator>(const Next& o) const { return time != o.time ? o.time < time : way > o.way; }
    };
    void enqueue(std::size_t way);
    const EventSource& source_;
    Trail& trail_;
    TaskTrail& tasks_;
    GrowingTasks& growing_;
    std::deque<Way> ways_;  // never moved: their packets cannot be copied
    std::map<std::pair<std::size_t, std::uint64_t>, std::size_t> way_of_;
    std::priority_queue<Next, std::vector<Next>, std::greater<>> next_;  ///< one for each way that has events
    std::vector<std::vector<std::uint64_t>> counts_;
    Time reached_{std::numeric_limits<std::int64_t>::min()};
};

/// The same for a file of packets that is still being written.
class LiveEvents {
  public:
    /// REQUIRES: recording.events has one file, which is followed.
    LiveEvents(const Recording& recording, Trail& trail, GrowingTasks& tasks);
    /// Takes the whole packets among the file's first `size` bytes; `breaks`: where bytes are missing; `arrival`: when
    /// the byte before this offset came, in seconds of the recording. Returns how many bytes were taken so far.
    std::uint64_t renew(std::uint64_t size, const std::vector<std::uint64_t>& breaks, bool last,
                        const std::function<double(std::uint64_t)>& arrival);
    void lose(std::uint64_t to);
    void finish();

  private:
    static constexpr std::size_t kMostOpen = 64;  ///< packets that wait for another processor's
    EventSource& live_;                           ///< only its zero is changed, before the first event is out
    const EventSource& source_;
    Trail& trail_;
    std::vector<EventSource::Damage> damage_;
    PacketLister lister_;
    PacketDecoder decoder_;
    GrowingEvents events_;
    std::map<std::uint64_t, Time> reached_;  ///< of each processor
    std::deque<Time> ends_;                  ///< of the packets put last
};

}  // namespace mt
