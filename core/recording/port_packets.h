// Packets of an event trace that come through a stimulus port of an ITM stream (Armv7-M, DDI 0403E, D4.2.4).
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "base/problem.h"
#include "recording/recording.h"

namespace mt {

/// What is written to one port, byte after byte, least significant first, in a file of its own in the folder for
/// temporary files. The file goes with the object; who has opened it by then keeps it. One thread at a time.
class PortTap {
  public:
    static Result<std::unique_ptr<PortTap>> make();
    ~PortTap();
    PortTap(const PortTap&) = delete;
    PortTap& operator=(const PortTap&) = delete;

    /// `size` bytes of `value` (1 to 4), written at `t`.
    void write(std::uint64_t value, unsigned size, Time t);
    /// Packets of the stream are missing here.
    void lose();
    /// From now on the file holds all that was written. False if that failed, now or before.
    bool flush();

    const std::string& path() const { return path_; }
    std::uint64_t bytes() const { return bytes_; }
    /// Offsets at which bytes may be missing.
    const std::vector<std::uint64_t>& breaks() const { return breaks_; }
    /// When the byte before `offset` was written, as far as that is kept: of the first writes.
    Time written_by(std::uint64_t offset) const;

  private:
    static constexpr std::size_t kKept = 1 << 16;
    PortTap(std::string path, int file) : path_(std::move(path)), file_(file) {}

    std::string path_;
    int file_;
    bool good_ = true;
    std::vector<std::uint8_t> waiting_;
    std::uint64_t bytes_ = 0;
    std::vector<std::uint64_t> breaks_;
    std::vector<std::pair<std::uint64_t, Time>> times_;  ///< offset behind a write, and its time
};

/// Takes the whole stream apart: about a second for some hundred MB.
Result<std::unique_ptr<PortTap>> tap_port(const Recording& recording, const Recording::Stream& stream, unsigned port);

}  // namespace mt
