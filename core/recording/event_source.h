// A Common Trace Format folder, opened: metadata, data streams, and where their packets lie.
#pragma once

#include <atomic>
#include <limits>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "base/mapped_file.h"
#include "base/problem.h"
#include "base/progress.h"
#include "capture/journal.h"
#include "flow/os_binding.h"
#include "wire/ctf_packets.h"

namespace mt {

/// Immutable once opened; any thread may read.
struct EventSource {
    struct Damage {
        std::uint64_t offset = 0, length = 0;
        std::string why;
    };
    struct File {
        std::string path;
        std::shared_ptr<const MappedFile> file;
        std::vector<CtfPacket> packets;  ///< in the file's order
        std::vector<Damage> damage;      ///< bytes that are no packet
    };
    std::string folder;
    std::size_t spec = 0;   ///< index into the target's streams
    StreamJournal journal;  ///< of a recorded stream; not present for any other
    std::shared_ptr<const CtfMetadata> metadata;
    std::shared_ptr<const OsBinding> binding;
    std::vector<File> files;
    std::map<std::uint64_t, std::uint16_t> core_of_cpu;  ///< to the index of the target's core
    std::uint16_t other_core = 0;                        ///< for a processor that is not there
    /// What the clock reads at the recording's zero. While a recording is made, the first packet settles it on the
    /// decoder's thread, and others may read it meanwhile.
    class Zero {
      public:
        Zero(std::int64_t ticks = 0) : ticks_(ticks) {}
        Zero(const Zero& o) : ticks_(static_cast<std::int64_t>(o)) {}
        Zero& operator=(const Zero& o) { return *this = static_cast<std::int64_t>(o); }
        Zero& operator=(std::int64_t ticks) {
            ticks_.store(ticks, std::memory_order_relaxed);
            return *this;
        }
        operator std::int64_t() const { return ticks_.load(std::memory_order_relaxed); }

      private:
        std::atomic<std::int64_t> ticks_;
    } zero_ticks;
    static constexpr std::int64_t kNoZero = std::numeric_limits<std::int64_t>::max();  ///< not known yet
    std::uint64_t clock_hz = 1'000'000'000;
    std::vector<std::string> doubts;
    /// A tick of the first clock is scale_ps / scale_ticks picoseconds, in lowest terms.
    std::uint64_t scale_ps = 1000, scale_ticks = 1, most_ticks = 0;
    void set_clock(std::uint64_t hz);

    std::vector<char> by_first_clock;  ///< per stream class: whether its clock is as fast as the first
    /// The time of a clock value of stream class `stream`; before the zero it is negative.
    Time at(std::size_t stream, std::int64_t ticks) const {
        // The usual case with at most one division; the same as Clock::at.
        const auto passed = static_cast<std::uint64_t>(ticks - zero_ticks);
        if (by_first_clock[stream] == 0 || passed >= most_ticks) return at_other(stream, ticks);
        if (scale_ticks == 1) return Time{static_cast<std::int64_t>(passed * scale_ps)};
        return Time{static_cast<std::int64_t>((passed * scale_ps + scale_ticks / 2) / scale_ticks)};
    }
    Time at_other(std::size_t stream, std::int64_t ticks) const;
    std::uint16_t core_of(const CtfPacket& packet) const {
        const auto found = core_of_cpu.find(packet.cpu);
        return found != core_of_cpu.end() ? found->second : other_core;
    }
    std::uint64_t bytes() const;
};

/// Where the data of an event trace lies.
struct EventPlace {
    std::string data;      ///< the folder of a trace, or one file of packets
    std::string metadata;  ///< of a file of packets: its metadata; empty: `<data>.metadata`, or `metadata` beside it
    std::string mapping;   ///< path of a mapping file; empty if none
    std::string inside;    ///< a folder that no link may lead out of; empty: none
    std::uint64_t recorder_hz = 0;  ///< the packets are our recorder's, and its clock counts so fast; 0: they are not
    std::vector<std::uint64_t> breaks;  ///< offsets in a file of packets at which bytes are missing
    std::uint64_t first = 0;            ///< bytes of a file of packets that were given up to keep the newest
};

/// Finds the packets in bytes that may still grow. One thread at a time.
class PacketLister {
  public:
    explicit PacketLister(const CtfMetadata& metadata) : cursor_(metadata), metadata_(metadata) {}
    /// Appends what is found behind that of the call before. `whole`: no bytes will follow, so a packet that is cut
    /// short is taken as it is; else it is waited for.
    void list(std::span<const std::uint8_t> bytes, const std::vector<std::uint64_t>& breaks, bool whole,
              std::vector<CtfPacket>& packets, std::vector<EventSource::Damage>& damage);
    /// The bytes before `offset` are not there.
    void skip_to(std::uint64_t offset, std::vector<EventSource::Damage>& damage);
    std::uint64_t reached() const { return at_; }

  private:
    CtfCursor cursor_;
    const CtfMetadata& metadata_;
    std::uint64_t at_ = 0;
    std::size_t breaks_seen_ = 0;
};

/// True if the folder holds a trace: a file named `metadata`.
bool is_ctf_folder(const std::string& folder);

/// Opens metadata and all data streams and lists their packets. Files that hold no packet of this trace are a doubt.
Result<std::shared_ptr<EventSource>> open_event_source(const EventPlace& place);

/// Metadata and mapping alone, without any data.
Result<std::shared_ptr<EventSource>> open_event_metadata(const EventPlace& place);

/// The same for one file of packets that is still being written, and may be empty. Its packets are not listed.
Result<std::shared_ptr<EventSource>> follow_event_source(const EventPlace& place);

/// The metadata of what our recorder writes, with a clock that counts `hz` times a second.
std::string recorder_metadata(std::uint64_t hz);

/// What is odd about the times of a packet's events: how many are earlier than the one before, where the first of them
/// ends, and the time of one that is so late that reading ended with it.
struct PacketTimes {
    std::uint64_t backwards = 0, first_back = 0;
    std::optional<Time> too_late;
};

/// Events of one packet, in order; times never run backwards from `reached`, which is moved on. What cannot be read
/// ends in an event of kind `lost`.
PacketTimes read_ctf_packet(const EventSource& source, std::size_t file, const CtfPacket& packet, CtfCursor& cursor,
                            Time& reached, OsBlock& out, const char*& trouble);

/// What the clock of packets read when a recording began, if the first of them was whole when it came `after_s` later.
std::int64_t zero_at_arrival(const CtfPacket& first, std::uint64_t clock_hz, double after_s);

}  // namespace mt
