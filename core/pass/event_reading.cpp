#include "pass/event_reading.h"

#include <algorithm>
#include <condition_variable>
#include <deque>
#include <mutex>
#include <thread>

#include "pass/growing_events.h"

namespace mt {
namespace {

struct Piece {
    std::size_t file = 0, packet = 0;
    Time begin;  ///< no event of it is earlier
};

// In the order in which they begin; within a file the file's order holds, whatever the packets claim.
std::vector<Piece> pieces_of(const EventSource& source) {
    std::vector<Piece> pieces;
    for (std::size_t f = 0; f < source.files.size(); ++f)
        for (std::size_t p = 0; p < source.files[f].packets.size(); ++p) {
            const CtfPacket& packet = source.files[f].packets[p];
            pieces.push_back({f, p, source.at(packet.stream_class, packet.begin)});
        }
    std::vector<std::map<std::uint64_t, Time>> floor(source.files.size());
    for (auto& p : pieces) {
        const auto [found, fresh] = floor[p.file].try_emplace(source.files[p.file].packets[p.packet].cpu, p.begin);
        p.begin = found->second = std::max(p.begin, found->second);
    }
    std::stable_sort(pieces.begin(), pieces.end(), [](const Piece& a, const Piece& b) { return a.begin < b.begin; });
    return pieces;
}

// Decoded pieces on their way from one thread to the other, in the order of the pieces.
class Belt {
  public:
    static constexpr std::size_t kMost = 32;
    void put(std::unique_ptr<DecodedPacket> piece) {
        std::unique_lock lock(mutex_);
        room_.wait(lock, [&] { return waiting_.size() < most_ || stopped_; });
        waiting_.push_back(std::move(piece));
        there_.notify_one();
    }
    std::unique_ptr<DecodedPacket> get() {
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
    /// Packets that were read are used again: their memory is there already.
    void give_back(std::unique_ptr<DecodedPacket> packet) {
        const std::lock_guard lock(mutex_);
        if (spare_.size() < most_) spare_.push_back(std::move(packet));
    }
    std::unique_ptr<DecodedPacket> spare() {
        std::unique_ptr<DecodedPacket> packet;
        {
            const std::lock_guard lock(mutex_);
            if (!spare_.empty()) {
                packet = std::move(spare_.back());
                spare_.pop_back();
            }
        }
        if (!packet) return std::make_unique<DecodedPacket>();
        packet->clear();
        return packet;
    }

  private:
    std::size_t most_ = kMost;
    std::mutex mutex_;
    std::condition_variable there_, room_;
    std::deque<std::unique_ptr<DecodedPacket>> waiting_;
    std::vector<std::unique_ptr<DecodedPacket>> spare_;
    std::atomic<bool> stopped_{false};
};

}  // namespace

void read_events(const Recording& recording, Trail& trail, GrowingTasks& tasks, Progress& progress,
                 const std::function<void(std::uint64_t)>& between, unsigned threads) {
    const EventSource& source = *recording.events;
    GrowingEvents events(recording, trail, tasks);
    PacketDecoder decoder(source);
    const std::vector<Piece> pieces = pieces_of(source);
    Belt belt;
    events.spent = [&](std::unique_ptr<DecodedPacket> packet) { belt.give_back(std::move(packet)); };
    const auto decode = [&](const Piece& piece) {
        auto out = belt.spare();
        const EventSource::File& file = source.files[piece.file];
        decoder.decode(piece.file, file.packets[piece.packet], file.damage, *out);
        return out;
    };
    std::thread worker;
    if (threads > 1)
        worker = std::thread([&] {
            for (const Piece& piece : pieces) {
                if (belt.stopped()) return;
                belt.put(decode(piece));
            }
        });
    std::uint64_t bytes = 0;
    const std::uint64_t all = std::max<std::uint64_t>(source.bytes(), 1);
    for (std::size_t i = 0; i < pieces.size(); ++i) {
        if (progress.cancelled()) {
            trail.cancelled = true;
            break;
        }
        const Piece& piece = pieces[i];
        const CtfPacket& packet = source.files[piece.file].packets[piece.packet];
        events.put(piece.file, packet, threads > 1 ? belt.get() : decode(piece));
        events.take_until(i + 1 < pieces.size() ? pieces[i + 1].begin : Time::max());
        bytes += packet.bytes;
        progress.report(bytes, all);
        between(bytes);
    }
    belt.stop();
    if (worker.joinable()) worker.join();
    events.finish();
}

}  // namespace mt
