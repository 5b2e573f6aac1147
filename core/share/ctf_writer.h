// Writes operating-system events as a Common Trace Format 2.0 trace, in the vocabulary of docs/formats/os-events.md.
#pragma once

#include <cstdint>
#include <fstream>
#include <memory>
#include <string>
#include <vector>

#include "base/problem.h"
#include "flow/os_events.h"

namespace mt {

/// One data stream a core, in packets of up to 32 KiB. Not copied; one thread at a time.
class CtfWriter {
  public:
    struct Options {
        std::string title;
        std::uint64_t clock_hz = 1'000'000'000;
        unsigned cores = 1;
    };
    /// Makes the folder and its metadata. A folder that holds anything is refused.
    static Result<std::unique_ptr<CtfWriter>> create(const std::string& folder, const Options& options);
    ~CtfWriter();

    /// The metadata that it writes, for one core at 1 GHz.
    static const std::string& metadata_text();
    /// Appends an event of core `event.core`. REQUIRES: `ticks` is not less than that of the core's event before, and
    /// event.core < cores. `texts` holds what the event refers to. Events of kind `other` are written as markers.
    void write(const OsEvent& event, std::int64_t ticks, const OsBlock& texts);
    /// Begin and end of a function's execution; `name` the first time a function is met.
    void write_call(unsigned core, std::int64_t ticks, bool enter, std::uint32_t function, const std::string& name);
    /// Events of this core were lost before the next one.
    void lost(unsigned core, std::uint64_t events);
    /// Ends all packets. A full disk is told here.
    Result<void> finish();

  private:
    struct Stream;
    explicit CtfWriter(std::string folder);
    void begin_event(Stream& s, unsigned id, std::int64_t ticks);
    void end_packet(Stream& s);

    std::string folder_;
    std::vector<std::unique_ptr<Stream>> streams_;
    std::vector<std::uint8_t> named_;  ///< functions whose name was written
};

}  // namespace mt
