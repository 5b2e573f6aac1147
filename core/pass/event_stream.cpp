#include <algorithm>

#include "doubt/doubts.h"
#include "pass/event_reading.h"
#include "pass/growing_events.h"
#include "pass/stream_sorts.h"

// Events of an operating system: packets of the Common Trace Format, in the files of a folder, in one file, or as they
// come.
namespace mt {
namespace {

constexpr std::size_t kTurn = 1 << 20;

class PacketStream final : public StreamDecoder {
  public:
    using StreamDecoder::StreamDecoder;

    // While it is recorded: packets that are whole are taken, the rest is waited for.
    Result<bool> start(Bytes, std::uint64_t first, const Arrival& arrival, bool) override {
        live_.emplace(recording(), trail(), growing().tasks());
        arrival_ = arrival;
        given_ = first;
        if (first > 0) live_->lose(first);
        return true;
    }
    Result<std::size_t> feed(Bytes raw, bool last) override {
        const std::uint64_t taken = live_->renew(given_ + raw.size(), breaks_, last, arrival_);
        const std::uint64_t before = std::exchange(given_, std::max(given_, taken));
        return static_cast<std::size_t>(given_ - before);
    }
    void lose(std::uint64_t offset) override {
        if (offset > given_) {
            live_->lose(offset);
            given_ = offset;
        } else {
            breaks_.push_back(offset);
        }
    }
    Result<void> finish() override {
        if (live_) live_->finish();
        live_.reset();
        return {};
    }
    void doubt() override { doubt_events(recording(), trail()); }
    Time reached() const override { return trail().end; }
    Facts facts() const override {  // each packet begins with its mark
        if (trail().tasks.streams.empty()) return {};
        return {trail().tasks.streams[index()].events, trail().tasks.streams[index()].packets};
    }
    std::size_t turn() const override { return kTurn; }
    std::size_t core() const override {
        const EventSource& source = *recording().events;
        return source.files.empty() || source.files[0].packets.empty() ? source.other_core
                                                                       : source.core_of(source.files[0].packets[0]);
    }
    std::uint64_t bytes() const override { return recording().events->bytes(); }

    // Where the packets lie is known: they are taken in the order of time, whichever file they are in.
    Result<void> read(Progress& progress, bool notes, const std::function<void(std::uint64_t)>& between) override {
        Progress part;
        read_events(recording(), trail(), growing().tasks(), part, [&](std::uint64_t at) {
            if (progress.cancelled()) part.cancel();
            between(at);
        });
        const EventSource& source = *recording().events;
        if (!notes || source.files.empty()) return {};
        const auto& packets = source.files[0].packets;
        for (const StreamJournal::Note& n : source.journal.notes) {
            const auto behind = std::partition_point(packets.begin(), packets.end(),
                                                     [&](const CtfPacket& p) { return p.offset < n.offset; });
            Time at{};
            if (behind != packets.begin()) {
                const CtfPacket& p = *std::prev(behind);
                at = source.at(p.stream_class, p.has_end ? p.end : p.begin);
            }
            note(n, std::clamp(at, Time{}, trail().end));
        }
        return {};
    }

  private:
    std::optional<LiveEvents> live_;
    Arrival arrival_;
    std::uint64_t given_ = 0;  ///< bytes of whole packets so far
    std::vector<std::uint64_t> breaks_;
};

}  // namespace

std::unique_ptr<StreamDecoder> make_event_stream(const StreamDecoder::Place& place) {
    return std::make_unique<PacketStream>(place);
}

}  // namespace mt
