// One stream on its way into the trail, whatever its protocol: what a pass over a file and a live recording have in
// common. Which protocol is read by what is a table; marks, breaks and start offsets of the journal are walked along in
// one place for all.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "model/trail.h"
#include "pass/growing_trail.h"
#include "recording/recording.h"

namespace mt {

class StreamDecoder {
  public:
    using Bytes = std::span<const std::uint8_t>;
    /// When the byte before an offset came, in seconds since the recording's start.
    using Arrival = std::function<double(std::uint64_t)>;
    struct Facts {
        std::uint64_t packets = 0, syncs = 0;
    };
    /// Where the stream stands in the recording: which list, by the target's stream.
    struct Place {
        const Recording& recording;
        GrowingTrail& growing;
        std::size_t index = 0;  ///< of streams, step_streams, sample_streams or event traces
        std::size_t spec = 0;   ///< of the target's streams
    };

    explicit StreamDecoder(const Place& place) : place_(place) {}
    virtual ~StreamDecoder() = default;
    StreamDecoder(const StreamDecoder&) = delete;
    StreamDecoder& operator=(const StreamDecoder&) = delete;

    /// Settles by its first bytes how the stream is taken apart; `raw` begins at `first` of the file. False: more bytes
    /// are needed to tell. `all`: no more will come, and what holds nothing that can be believed is a Problem; while a
    /// recording grows, what is in doubt is settled when it is opened again.
    virtual Result<bool> start(Bytes raw, std::uint64_t first, const Arrival& arrival, bool all) = 0;
    /// Takes bytes that follow those before, at least as many as it says, which may be fewer than all: the rest is to
    /// be given again with more behind it, or with `last` set.
    virtual Result<std::size_t> feed(Bytes raw, bool last) = 0;
    /// Bytes are missing before those fed next, which begin at `offset` of the file.
    virtual void lose(std::uint64_t offset) = 0;
    /// All that was fed is in the trail when this returns.
    virtual void settle() {}
    /// Adds to a snapshot what is still open. REQUIRES: settled.
    virtual void add_open(Trail& copy) const { static_cast<void>(copy); }
    /// No more bytes will come. A Problem: there was nothing in it that could be read.
    virtual Result<void> finish() = 0;
    /// Adds to the trail's doubts. REQUIRES: finished.
    virtual void doubt() = 0;
    /// The last known moment. REQUIRES: settled.
    virtual Time reached() const = 0;
    virtual Facts facts() const = 0;
    /// Bytes that are decoded before another stream has its turn.
    virtual std::size_t turn() const = 0;
    /// Whether its times go on as the target's do, so that its pace can be held against this computer's clock.
    virtual bool keeps_pace() const { return false; }
    virtual std::size_t core() const = 0;
    virtual std::uint64_t bytes() const = 0;

    /// Reads the whole of a finished recording's stream along its journal. `notes`: marks that were made meanwhile are
    /// entered. `between`: called now and then with the bytes done so far. Sets `cancelled` of the trail if it was
    /// stopped.
    virtual Result<void> read(Progress& progress, bool notes, const std::function<void(std::uint64_t)>& between);

  protected:
    /// Where the bytes and the journal of a finished recording stand; those that come from several files have none.
    virtual const Recording::Stream* stream() const { return nullptr; }
    const Recording& recording() const { return place_.recording; }
    GrowingTrail& growing() const { return place_.growing; }
    Trail& trail() const { return place_.growing.trail(); }
    std::size_t index() const { return place_.index; }
    const StreamSpec& spec() const { return place_.recording.target.streams[place_.spec]; }
    void note(const StreamJournal::Note& note, Time at);

  private:
    Place place_;
};

/// All streams of a recording, in the order in which they are read: ITM, instruction trace, samples, events. `growing` and the
/// recording must outlive them.
std::vector<std::unique_ptr<StreamDecoder>> make_decoders(const Recording& recording, GrowingTrail& growing);

}  // namespace mt
