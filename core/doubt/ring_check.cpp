#include "doubt/ring_check.h"

#include <algorithm>
#include <array>
#include <optional>
#include <set>

#include "base/text.h"
#include "capture/ring.h"
#include "flow/os_binding.h"
#include "recording/event_source.h"
#include "wire/ctf_metadata.h"

namespace mt {
namespace {

using Bytes = std::span<const std::uint8_t>;
using Grade = RingRemark::Grade;
constexpr std::array<std::uint8_t, 4> kMark = {0xC1, 0x1F, 0xFC, 0xC1};  // CTF 1.8.3 section 5.1

// What the events of the ring show of how the recorder was built in.
class Reader {
  public:
    Reader(RingReport& report, std::uint64_t hz) : report_(report), hz_(hz) {}

    bool read() {
        const std::string text = recorder_metadata(hz_ == 0 ? 1'000'000'000 : hz_);
        auto metadata =
            read_ctf_metadata({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, "metadata");
        if (!metadata) return false;
        const auto shared = std::make_shared<const CtfMetadata>(std::move(*metadata));
        const OsBinding binding(shared);
        std::vector<CtfPacket> packets;
        std::vector<EventSource::Damage> damage;
        PacketLister(*shared).list(report_.stream, {}, true, packets, damage);
        CtfCursor cursor(*shared);
        for (const CtfPacket& p : packets) {
            cursor.open(report_.stream, p);
            while (cursor.next()) {
                note_time(p, cursor.ticks());
                OsBlock block;
                binding.take(cursor, Time{cursor.ticks()}, static_cast<std::uint16_t>(p.cpu), block);
                for (const OsEvent& e : block.events) note(e);
            }
            if (*cursor.trouble() != 0 && trouble_.empty())
                trouble_ = std::string(cursor.trouble()) + " at " + hex_text(cursor.position());
            if (p.has_discarded) discarded_ = std::max(discarded_, p.discarded);
        }
        report_.packets = packets.size();
        for (const auto& d : damage)
            if (d.length > 0) bad_bytes_ += d.length;
        return true;
    }

    void remark() {
        const auto say = [&](Grade grade, std::string text, std::string advice = "") {
            report_.remarks.push_back({grade, std::move(text), std::move(advice)});
        };
        if (report_.packets == 0) {
            say(Grade::bad, "no packet in what the ring holds",
                "If it is all zeros, the buffer lies in cached memory that the debug server does not see: place it in "
                "memory that is not cached. Else something else writes there.");
            return;
        }
        std::string text =
            plural(report_.packets, "packet", "packets") + ", " + plural(report_.events, "event", "events");
        if (hz_ != 0 && any_time_) text += " over " + duration_text(Clock{hz_}.at(last_ - first_));
        say(Grade::good, text);
        if (bad_bytes_ > 0)
            say(Grade::bad, bytes_text(bad_bytes_) + " between the packets are none",
                "Two cores without a lock between them, a hook in an interrupt that MT_MASK does not hold off, or a "
                "stray pointer.");
        if (!trouble_.empty())
            say(Grade::bad, "a packet cannot be read: " + trouble_,
                "mt_recorder.c and metadata must be of the same version, and MT_MASK must hold all callers off.");
        if (discarded_ > 0)
            say(Grade::watch, plural(discarded_, "event was lost", "events were lost") + " for want of room",
                "A larger MT_RING_BYTES, fewer kinds of events, or read it more often.");
        if (any_time_ && report_.events > 20 && first_ == last_)
            say(Grade::bad, "all events have the same time",
                "The time function's counter stands still: start it first.");
        if (backwards_ > 0)
            say(Grade::bad, "times run backwards " + plural(backwards_, "time", "times"),
                "The counter is reset while recording, counts down, or is wider than its wrap: it must count up "
                "through "
                "all 32 bits.");
        if (kinds_.count(OsKind::task_create) == 0)
            say(Grade::watch, "no task has a name",
                kinds_.count(OsKind::task_switch_in) != 0
                    ? "mt_init was called after the tasks were created, or the first packets were written over."
                    : "mt_init was called after the tasks were created, or the task hooks are not built in.");
        if (kinds_.count(OsKind::task_switch_in) == 0)
            say(Grade::bad, "no task switch", "MT_TASK_SWITCH_IN is not called: build it into the scheduler's hook.");
        else if (kinds_.count(OsKind::task_ready) == 0)
            say(Grade::watch, "no task becomes ready",
                "Without MT_TASK_READY there are no jobs and no response times.");
        if (kinds_.count(OsKind::task_switch_in) != 0 && kinds_.count(OsKind::task_block) == 0)
            say(Grade::watch, "no task blocks", "Without MT_TASK_BLOCK it is not known why a task does not run.");
        if (twice_ > 2 && twice_ * 4 > switches_)
            say(Grade::bad, plural(twice_, "task switch", "task switches") + " told twice",
                "Two hooks are on that write the same event: keep one of them.");
        if (enters_ > exits_ + 2 || exits_ > enters_ + 2)
            say(Grade::bad,
                plural(enters_, "entry", "entries") + " of interrupts but " + plural(exits_, "exit", "exits"),
                "Each handler needs both MT_ISR_ENTER and MT_ISR_EXIT, on every way out.");
        if (takes_ > gives_ + 16)
            say(Grade::watch,
                plural(takes_, "lock taken", "locks taken") + ", " + std::to_string(gives_) + " given back",
                "MT_MUTEX_GIVE is missing on a way out.");
    }

  private:
    void note_time(const CtfPacket& p, std::int64_t ticks) {
        ++report_.events;
        if (!any_time_) first_ = ticks;
        any_time_ = true;
        if (const auto before = last_of_.find(p.cpu); before != last_of_.end() && ticks < before->second) ++backwards_;
        last_of_[p.cpu] = ticks;
        last_ = std::max(last_, ticks);
    }
    void note(const OsEvent& e) {
        kinds_.insert(e.kind);
        if (e.kind == OsKind::task_switch_in) {
            ++switches_;
            const auto last = last_event_.find(e.core);
            if (last != last_event_.end() && last->second == std::pair(e.kind, e.subject)) ++twice_;
        }
        last_event_[e.core] = {e.kind, e.subject};
        enters_ += e.kind == OsKind::isr_enter ? 1 : 0;
        exits_ += e.kind == OsKind::isr_exit ? 1 : 0;
        takes_ += e.kind == OsKind::mutex_take ? 1 : 0;
        gives_ += e.kind == OsKind::mutex_give ? 1 : 0;
    }

    RingReport& report_;
    std::uint64_t hz_;
    std::set<OsKind> kinds_;
    std::map<std::uint16_t, std::pair<OsKind, std::uint32_t>> last_event_;
    std::map<std::uint64_t, std::int64_t> last_of_;
    std::uint64_t bad_bytes_ = 0, discarded_ = 0, backwards_ = 0, switches_ = 0, twice_ = 0, enters_ = 0, exits_ = 0,
                  takes_ = 0, gives_ = 0;
    std::int64_t first_ = 0, last_ = 0;
    bool any_time_ = false;
    std::string trouble_;
};

}  // namespace

bool RingReport::good() const {
    return std::none_of(remarks.begin(), remarks.end(), [](const RingRemark& r) { return r.grade == Grade::bad; });
}

Result<RingReport> check_ring(Bytes memory, std::uint64_t base, std::uint64_t hz) {
    const std::string where = hex_text(base) + " to " + hex_text(base + memory.size());
    // The mark may stand in the program too, as a constant: the first place that can be a header counts.
    std::optional<Problem> why;
    for (std::size_t at = 0; at + RingHeader::kBytes <= memory.size(); at += 4) {
        if (memory[at] != 'M' || memory[at + 1] != 'T' || memory[at + 2] != 'R' || memory[at + 3] != 'B') continue;
        const auto header = parse_ring_header(memory.subspan(at, RingHeader::kBytes), base + at);
        if (!header) {
            if (!why) why = header.error();
            continue;
        }
        RingReport report;
        report.header_at = base + at;
        report.data_at = header->data;
        report.size = header->size;
        report.remarks.push_back({Grade::good,
                                  "a ring of " + bytes_text(header->size) + " at " + hex_text(header->data) + ", " +
                                      (header->keeps_newest() ? "keeping the newest" : "keeping the oldest"),
                                  ""});
        if (header->data < base || header->data - base > memory.size() ||
            header->size > memory.size() - (header->data - base)) {
            report.remarks.push_back({Grade::bad, "its buffer lies outside this image of memory",
                                      "Take the image from " + hex_text(header->data) + " on, " +
                                          bytes_text(header->size) + " at least, or correct --at."});
            return report;
        }
        if (header->written == 0) {
            report.remarks.push_back({Grade::bad, "nothing was ever written into it",
                                      "No hook is called, fewer bytes came than a packet holds (mt_flush hands it "
                                      "over), or the time function "
                                      "is null."});
            return report;
        }
        const Bytes data = memory.subspan(static_cast<std::size_t>(header->data - base), header->size);
        // All that was not written over is still there, taken or not.
        const std::uint32_t held = std::min(header->written, header->size);
        for (std::uint32_t i = 0; i < held; ++i)
            report.stream.push_back(data[(header->written - held + i) % header->size]);
        if (header->written > header->size) {  // the oldest packet is cut
            const auto first = std::search(report.stream.begin(), report.stream.end(), kMark.begin(), kMark.end());
            report.stream.erase(report.stream.begin(), first);
        }
        if (header->written - header->taken > header->size)
            report.remarks.push_back({Grade::watch,
                                      bytes_text(header->written - header->taken - header->size) +
                                          " were written over before they were read",
                                      "It keeps the newest: what is older is gone."});
        report.lost = header->lost;
        if (header->lost > 0)
            report.remarks.push_back({Grade::watch, bytes_text(header->lost) + " were dropped because it was full",
                                      "A larger MT_RING_BYTES, fewer kinds of events, or read it more often."});
        Reader reader(report, hz);
        if (!reader.read()) return failure("the recorder's own metadata cannot be read", "this program");
        reader.remark();
        return report;
    }
    if (why) return tl::make_unexpected(*why);
    return failure("no ring's header in this image of memory", where,
                   "was mt_init called before the image was taken, does the image hold the symbol mt_ring, and is that "
                   "memory not cached?");
}

}  // namespace mt
