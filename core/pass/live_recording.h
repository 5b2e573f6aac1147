// A recording that is being made: a recipe's run, and the trail that grows behind it from the files on disk.
// The decoder reads what the receivers wrote, so a slow decoder or a closed window never costs a byte.
#pragma once

#include <deque>
#include <functional>
#include <memory>
#include <mutex>
#include <thread>

#include "capture/record_run.h"
#include "pass/growing_trail.h"
#include "pass/stream_decoder.h"
#include "recording/recording.h"

namespace mt {

/// Figures of one stream while it is recorded.
struct LiveFigures {
    double bytes_per_s = 0, packets_per_s = 0;  ///< over the last second or so
    double sync_age_s = -1;                     ///< since a synchronisation was decoded; negative: none yet
    std::uint64_t decoded = 0;                  ///< raw bytes
    double pace = 0;            ///< ITM: seconds that the trace tells in a second of this computer; 0: not known
    std::deque<float> history;  ///< bytes/s, one each 0.25 s, at most kHistory
    static constexpr std::size_t kHistory = 120;
};

class LiveRecording {
  public:
    /// Reads the target file and images that the recipe names. Nothing is connected yet.
    static Result<std::unique_ptr<LiveRecording>> prepare(Recipe recipe, const std::string& folder,
                                                          bool replace = false);
    /// Stops the run if it still goes on, keeping the recording, and waits for it.
    ~LiveRecording();

    /// Snapshots about ten times a second, on the decoding thread.
    std::function<void(std::shared_ptr<const Recording>, std::shared_ptr<const Trail>)> on_grew;
    /// The run is over; on its thread. Decoding has ended before.
    std::function<void(const Result<void>&)> on_end;

    void start();
    /// Waits until the run is over.
    void wait();
    RecordRun& run() { return *run_; }
    RunState state() const { return run_->state(); }
    /// Of the recording's streams, then of its step streams, then of its event trace.
    std::vector<LiveFigures> figures() const;
    /// What was decoded last; null before the recording began.
    std::shared_ptr<const Trail> trail() const;
    std::shared_ptr<const Recording> recording() const;

  private:
    LiveRecording() = default;
    void begin();
    void decode();
    struct Feed;
    bool decode_tapped(Feed& feed, bool last);
    bool decode_some(Feed& feed, const ReceiverState& received, bool last);
    std::shared_ptr<Trail> snapshot();
    void renew_figures(const RunState& state);
    void publish(std::shared_ptr<const Trail> trail);

    std::shared_ptr<Recording> base_;  ///< without streams
    std::shared_ptr<const Recording> recording_;
    std::unique_ptr<RecordRun> run_;
    std::unique_ptr<PortTap> tap_;  ///< outlives growing_
    std::unique_ptr<GrowingTrail> growing_;
    std::thread runner_, decoder_;
    std::atomic<bool> over_{false};
    mutable std::mutex lock_;
    std::shared_ptr<const Trail> trail_;
    std::vector<LiveFigures> figures_;
    struct Before {
        std::chrono::steady_clock::time_point at{}, sync_at{}, history_at{};
        std::uint64_t bytes = 0, packets = 0, syncs = 0, history_bytes = 0;
        std::optional<std::chrono::steady_clock::time_point> steady_at;  ///< since then it comes without a rest
        double steady_end = 0;                                           ///< s: how far the trace told then
    };
    /// A stream on its way into the trail.
    struct Feed {
        std::unique_ptr<StreamDecoder> decoder{};
        std::size_t spec = 0;  ///< of the target's streams
        std::shared_ptr<const MappedFile> file{};
        PortTap* tap = nullptr;  ///< the event trace comes through a port …
        bool tap_full = false;   ///< … and finds no room in the folder for temporary files
        bool started = false;
        std::uint64_t taken = 0;
        std::size_t breaks_taken = 0;
        Before before{};
    };
    std::vector<Feed> feeds_;
};

}  // namespace mt
