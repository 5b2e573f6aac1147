// Takes one stream from its source to disk: bytes are in the file as soon as they came, whatever happens next.
#pragma once

#include <atomic>
#include <chrono>
#include <functional>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "base/problem.h"
#include "capture/journal.h"
#include "capture/source.h"

namespace mt {

/// What is known about a stream while it is recorded. Plain data.
struct ReceiverState {
    std::uint64_t bytes = 0;    ///< in the file
    std::uint64_t first = 0;    ///< those before were given up to keep the newest
    std::uint64_t unsaved = 0;  ///< came but could not be written
    std::uint64_t lost_by_source = 0;
    std::vector<std::uint64_t> breaks;  ///< offsets where bytes are missing, ascending
    bool connected = false, exhausted = false, full = false;
    unsigned retries = 0;  ///< how often it was tried in vain to open it again since it was lost
    double quiet_s = 0;    ///< since the last byte, or since the start
    double fill = -1;      ///< of the buffer on the target's side
    double first_byte_after_s = -1;
    std::string waiting_for;  ///< what the source needs before bytes can come
    std::string trouble;      ///< why it is not connected, or could not write
};

/// `pump` is called by one thread; `state` by any.
class Receiver {
  public:
    using Steady = std::chrono::steady_clock;
    /// Opens the source anew after it was lost.
    using Reopen = std::function<Result<std::unique_ptr<Source>>()>;
    struct Limits {
        bool keep_newest = false;
        std::uint64_t bytes = 0;  ///< of the file; 0: none
        /// Nobody else knows when this stream starts: its first byte says it, for several that go together.
        bool first_byte_starts = false;
    };

    static Result<std::unique_ptr<Receiver>> create(const std::string& path, const std::string& source_text,
                                                    std::unique_ptr<Source> source, Reopen reopen, Limits limits);
    ~Receiver();

    /// The moment from which times count.
    void begin(Steady::time_point start);
    /// Reads once, waiting at most `patience` for bytes, and writes them. Opens a lost source anew, at most
    /// twice a second. False if nothing came.
    bool pump(Source::Milliseconds patience);
    /// Throws away what comes until now, so that the recording begins when `begin` says; the journal says how much.
    void discard_waiting();
    void note(const std::string& text);
    /// The target had to be halted so often, and so long, to be read.
    void halted(unsigned times, double seconds);
    /// No further bytes: closes the journal. Gives up what keeping the newest no longer needs.
    void end(const std::string& reason);
    /// How much later than the first stream this one starts, by what started it.
    void set_start(double after_s, double slack_s);

    ReceiverState state() const;
    /// Whether the file that is written still has a name.
    bool file_is_there() const;
    const std::string& path() const { return path_; }

  private:
    Receiver() = default;
    void write(std::span<const std::uint8_t> bytes);
    void lost(const std::string& reason);
    void give_up_oldest();

    std::string path_;
    std::unique_ptr<Source> source_;
    Reopen reopen_;
    Limits limits_;
    JournalWriter journal_;
    int file_ = -1;
    std::vector<std::uint8_t> buffer_;
    void broke() {
        if (state_.bytes > 0 && (state_.breaks.empty() || state_.breaks.back() < state_.bytes))
            state_.breaks.push_back(state_.bytes);
    }
    Steady::time_point start_{}, last_byte_{}, lost_at_{}, tried_{}, opened_{}, flushed_{};
    bool begun_ = false, ended_ = false, broken_ = false, told_old_ = false;
    mutable std::mutex lock_;
    ReceiverState state_;
};

}  // namespace mt
