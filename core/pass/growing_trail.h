// A trail that grows as bytes come: what a pass over a file and a live recording have in common.
#pragma once

#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "model/trail.h"
#include "pass/growing_tasks.h"
#include "recording/port_packets.h"
#include "recording/recording.h"

namespace mt {

/// How a stream is to be taken apart: settled by a look at its first bytes.
struct StartPlan {
    std::optional<TpiuDeframer> deframer;
    ItmDecoder::Start start = ItmDecoder::Start::at_sync;
    std::uint64_t first = 0;  ///< offset of the first raw byte in the file
    Time base;                ///< when the stream's time begins
};

/// Takes raw bytes of the streams of one recording in, stream by stream or in turns; hands snapshots out.
/// One thread at a time; `recording` must outlive it.
class GrowingTrail {
  public:
    explicit GrowingTrail(const Recording& recording);
    ~GrowingTrail();

    /// REQUIRES: once per stream, before its first byte.
    void start(std::size_t stream, StartPlan plan);
    bool started(std::size_t stream) const { return parts_[stream] != nullptr; }
    /// Takes bytes that follow those before.
    void feed(std::size_t stream, std::span<const std::uint8_t> raw);
    /// The connection was lost here: bytes are missing before those fed next.
    void lose(std::size_t stream);
    /// The bytes up to `offset` were given up before they could be decoded.
    void skip_to(std::size_t stream, std::uint64_t offset);
    /// No more bytes will come for this stream.
    void finish(std::size_t stream);
    /// Events of a kind that a recipe waits for: how often a port was written with a value so far.
    std::uint64_t seen_on_port(std::size_t stream, unsigned port, std::uint32_t value) const;
    /// Watches for such writes. REQUIRES: before the streams start.
    void watch_port(unsigned port, std::uint32_t value);

    /// What is written to `port` of this stream goes into `tap`, too. REQUIRES: before the stream starts; the tap must
    /// outlive this.
    void tap_port(std::size_t stream, unsigned port, PortTap& tap);

    /// What takes the events of an operating system in, whichever stream they come from.
    GrowingTasks& tasks();
    bool has_tasks() const { return tasks_ != nullptr; }
    std::uint64_t read_bytes(std::size_t stream) const { return trail_.streams[stream].read_bytes; }
    /// The state of affairs; its `complete` is not set.
    std::shared_ptr<Trail> snapshot();
    Trail& trail() { return trail_; }

  private:
    class Part;
    const Recording& recording_;
    Trail trail_;
    std::vector<std::unique_ptr<Part>> parts_;
    std::unique_ptr<GrowingTasks> tasks_;
    std::optional<std::pair<unsigned, std::uint32_t>> watched_port_;
    struct Tap {
        PortTap* to = nullptr;
        unsigned port = 0;
    };
    std::vector<Tap> taps_;  ///< by stream
};

}  // namespace mt
