#include "trail/event_reading.h"

#include <algorithm>
#include <condition_variable>
#include <deque>
#include <mutex>
#include <thread>

#include "trail/growing_tasks.h"

namespace mt {
namespace {

struct Piece {
    std::size_t file = 0, packet = 0;
    Time begin;  ///< no event of it is earlier
};

struct Decoded {
    OsBlock block;
    std::vector<Gap> gaps;
    std::uint64_t backwards = 0, bad_bytes = 0;
    std::string trouble;
    std::uint64_t trouble_at = 0;
    std::uint64_t lost_events = 0, lost_packets = 0;
    std::size_t at = 0;  ///< the next event to be taken
};

// Turns packets into events, in the order in which they begin; knows of each stream what came before.
class PacketDecoder {
  public:
    explicit PacketDecoder(const EventSource& source)
        : source_(source), cursor_(*source.metadata), last_(source.files.size()) {
        for (std::size_t f = 0; f < source.files.size(); ++f)
            for (std::size_t p = 0; p < source.files[f].packets.size(); ++p) {
                const CtfPacket& packet = source.files[f].packets[p];
                pieces_.push_back({f, p, source.at(packet.stream_class, packet.begin)});
            }
        // Within a file the order of the file holds, whatever the packets claim.
        std::vector<Time> floor(source.files.size(), Time{std::numeric_limits<std::int64_t>::min()});
        for (auto& p : pieces_) p.begin = floor[p.file] = std::max(p.begin, floor[p.file]);
        std::stable_sort(pieces_.begin(), pieces_.end(),
                         [](const Piece& a, const Piece& b) { return a.begin < b.begin; });
    }
    const std::vector<Piece>& pieces() const { return pieces_; }

    void decode(const Piece& piece, Decoded& out) {
        const EventSource::File& file = source_.files[piece.file];
        const CtfPacket& p = file.packets[piece.packet];
        File& before = last_[piece.file];
        Cpu& cpu = before.cpus[p.cpu];
        const Time begin = source_.at(p.stream_class, p.begin);
        const std::uint16_t core = source_.core_of(p);
        out.lost_events = p.has_discarded ? (p.discarded > cpu.discarded ? p.discarded - cpu.discarded : 0) : 0;
        out.lost_packets =
            p.has_sequence && cpu.any && p.sequence > cpu.sequence + 1 ? p.sequence - cpu.sequence - 1 : 0;
        const auto damage = std::find_if(file.damage.begin(), file.damage.end(), [&](const EventSource::Damage& d) {
            return d.length > 0 && d.offset < p.offset && d.offset >= before.end;
        });
        const bool damaged = damage != file.damage.end() || cpu.cut_short;
        // A recording may begin with a count of what was lost before it: nothing of that concerns what follows.
        if (((out.lost_events > 0 || out.lost_packets > 0) && cpu.any) || damaged) {
            Gap g;
            g.begin = cpu.any ? cpu.reached : Time{};
            g.end = std::max(begin, g.begin);
            g.offset = damage != file.damage.end() ? damage->offset : p.offset;
            g.length = damage != file.damage.end() ? damage->length : 0;
            g.kind = damaged ? GapKind::damage : GapKind::overflow;
            g.stream = static_cast<std::uint32_t>(piece.file);
            g.core = core;
            g.events = true;
            out.gaps.push_back(g);
            OsEvent lost;
            lost.kind = OsKind::lost;
            lost.core = core;
            lost.time = g.end;
            lost.value = g.begin.ps;
            lost.offset = p.offset;
            out.block.events.push_back(lost);
            if (damage != file.damage.end()) {
                out.bad_bytes += damage->length;
                out.trouble = damage->why;
                out.trouble_at = damage->offset;
            }
            cpu.reached = g.end;
        }
        if (!cpu.any) out.lost_events = 0;
        const char* trouble = "";
        out.backwards = read_ctf_packet(source_, piece.file, p, cursor_, cpu.reached, out.block, trouble);
        cpu.cut_short = *trouble != 0 || p.content_bits / 8 > p.bytes;
        if (*trouble != 0) {
            out.trouble = trouble;
            out.trouble_at = cursor_.position();
            out.bad_bytes += p.offset + p.bytes - std::min(cursor_.position(), p.offset + p.bytes);
        }
        if (p.has_end && *trouble == 0) cpu.reached = std::max(cpu.reached, source_.at(p.stream_class, p.end));
        cpu.any = true;
        if (p.has_discarded) cpu.discarded = p.discarded;
        cpu.sequence = p.sequence;
        before.end = p.offset + p.bytes;
        file.file->let_go(p.offset);
    }

  private:
    struct Cpu {
        bool any = false, cut_short = false;
        std::uint64_t discarded = 0, sequence = 0;
        Time reached{std::numeric_limits<std::int64_t>::min()};
    };
    struct File {
        std::uint64_t end = 0;
        std::map<std::uint64_t, Cpu> cpus;
    };
    const EventSource& source_;
    CtfCursor cursor_;
    std::vector<File> last_;
    std::vector<Piece> pieces_;
};

// Decoded pieces on their way from one thread to the other, in the order of the pieces.
class Belt {
  public:
    static constexpr std::size_t kMost = 32;
    void put(std::unique_ptr<Decoded> piece) {
        std::unique_lock lock(mutex_);
        room_.wait(lock, [&] { return waiting_.size() < most_ || stopped_; });
        waiting_.push_back(std::move(piece));
        there_.notify_one();
    }
    std::unique_ptr<Decoded> get() {
        std::unique_lock lock(mutex_);
        there_.wait(lock, [&] { return !waiting_.empty(); });
        auto piece = std::move(waiting_.front());
        waiting_.pop_front();
        room_.notify_one();
        return piece;
    }
    void stop() {
        const std::lock_guard lock(mutex_);
        stopped_ = true;
        room_.notify_all();
    }
    bool stopped() const { return stopped_; }

  private:
    std::size_t most_ = kMost;
    std::mutex mutex_;
    std::condition_variable there_, room_;
    std::deque<std::unique_ptr<Decoded>> waiting_;
    std::atomic<bool> stopped_{false};
};

}  // namespace

void read_events(const Recording& recording, Trail& trail, Progress& progress,
                 const std::function<void(std::uint64_t)>& between, unsigned threads) {
    const EventSource& source = *recording.events;
    TaskTrail& tasks = trail.tasks;
    tasks.origin_ticks = source.zero_ticks;
    tasks.clock_hz = source.clock_hz;
    tasks.vocabulary_known = source.binding->known() > 0;
    std::vector<bool> lanes(trail.cores.size(), true);
    for (const auto& s : recording.streams) lanes[s.core] = false;
    for (const auto& s : recording.step_streams) lanes[s.core] = false;
    for (const auto& [cpu, core] : source.core_of_cpu)
        if (lanes[core]) trail.cores[core].plain_numbers = true;
    GrowingTasks growing(recording, trail, lanes);
    std::vector<std::vector<std::uint64_t>> counts(source.files.size(), std::vector<std::uint64_t>(kOsKinds, 0));
    for (const auto& file : source.files) {
        EventStream s;
        s.file = file.path;
        s.core = trail.cores[source.core_of(file.packets.front())].name;
        s.bytes = file.file->bytes().size();
        tasks.streams.push_back(std::move(s));
    }

    PacketDecoder decoder(source);
    const auto& pieces = decoder.pieces();
    Belt belt;
    std::thread worker;
    if (threads > 1)
        worker = std::thread([&] {
            for (const Piece& piece : pieces) {
                if (belt.stopped()) return;
                auto out = std::make_unique<Decoded>();
                decoder.decode(piece, *out);
                belt.put(std::move(out));
            }
        });
    std::size_t next = 0;  // piece that comes next
    std::uint64_t bytes = 0;
    std::vector<std::deque<std::unique_ptr<Decoded>>> open(source.files.size());
    const auto fetch = [&] {
        std::unique_ptr<Decoded> got;
        if (threads > 1) {
            got = belt.get();
        } else {
            got = std::make_unique<Decoded>();
            decoder.decode(pieces[next], *got);
        }
        const Piece& piece = pieces[next++];
        const CtfPacket& packet = source.files[piece.file].packets[piece.packet];
        EventStream& s = tasks.streams[piece.file];
        ++s.packets;
        s.first_event.push_back(s.events);
        for (const OsEvent& e : got->block.events) s.events += e.kind != OsKind::lost && !e.announced ? 1 : 0;
        s.discarded += got->lost_events;
        s.lost_packets += got->lost_packets;
        s.backwards += got->backwards;
        s.bad_bytes += got->bad_bytes;
        if (!got->trouble.empty()) {
            if (s.damaged_packets++ == 0) {
                s.first_trouble = got->trouble;
                s.first_trouble_at = got->trouble_at;
            }
        }
        CoreTasks& core = tasks.cores[source.core_of(packet)];
        core.lost_events += got->lost_events;
        core.lost_packets += got->lost_packets;
        for (const Gap& g : got->gaps) trail.gaps.push_back(g);
        bytes += packet.bytes;
        open[piece.file].push_back(std::move(got));
        progress.report(bytes, std::max<std::uint64_t>(source.bytes(), 1));
        growing.settle();
        between(bytes);
    };
    // Events of all streams in the order of time; a stream's next packet bounds what may be taken of the others.
    const std::size_t files = source.files.size();
    for (;;) {
        if (progress.cancelled()) {
            trail.cancelled = true;
            break;
        }
        std::size_t best = files;
        Time best_time{};
        bool any_open = false;
        for (std::size_t f = 0; f < files; ++f) {
            while (!open[f].empty() && open[f].front()->at >= open[f].front()->block.events.size()) open[f].pop_front();
            if (open[f].empty()) continue;
            any_open = true;
            const Time t = open[f].front()->block.events[open[f].front()->at].time;
            if (best == files || t < best_time) {
                best = f;
                best_time = t;
            }
        }
        if (next < pieces.size() && (!any_open || pieces[next].begin <= best_time)) {
            fetch();
            continue;
        }
        if (!any_open) break;
        // As long as no other stream has anything earlier.
        Time until = next < pieces.size() ? pieces[next].begin : Time::max();
        for (std::size_t f = 0; f < files; ++f)
            if (f != best && !open[f].empty())
                until = std::min(until, open[f].front()->block.events[open[f].front()->at].time);
        Decoded& d = *open[best].front();
        auto& count = counts[best];
        do {
            const OsEvent& e = d.block.events[d.at++];
            ++count[static_cast<std::size_t>(e.kind)];
            growing.take(e, d.block);
        } while (d.at < d.block.events.size() && d.block.events[d.at].time < until);
    }
    belt.stop();
    if (worker.joinable()) worker.join();
    growing.finish();
    for (std::size_t f = 0; f < files; ++f) {
        EventStream& s = tasks.streams[f];
        for (std::size_t k = 0; k < kOsKinds; ++k) {
            if (counts[f][k] == 0 || static_cast<OsKind>(k) == OsKind::lost) continue;
            s.counts[std::string(os_kind_name(static_cast<OsKind>(k)))] = counts[f][k];
        }
        for (const auto& d : source.files[f].damage)
            if (s.first_trouble.empty()) {
                s.first_trouble = d.why;
                s.first_trouble_at = d.offset;
                ++s.damaged_packets;
            }
    }
}

}  // namespace mt
