// Values that are read from the target's memory again and again while it runs, through its debug server. What comes is
// a stream of records (docs/formats/polled.md).
#pragma once

#include <chrono>
#include <memory>
#include <string>
#include <vector>

#include "capture/source.h"
#include "control/debug_server.h"
#include "target/protocol_parameters.h"

namespace mt {

class PollSource : public Source {
  public:
    using Steady = std::chrono::steady_clock;
    /// `server` must outlive it and is used only inside `read`. Values as they stand in [stream.polled], each at its own
    /// rate.
    PollSource(DebugServer& server, std::vector<PolledParameters::Value> values)
        : server_(server), values_(std::move(values)), next_(values_.size()), taken_(values_.size()) {}

    /// The moment from which times count; before it nothing is read.
    void begin(Steady::time_point start) {
        start_ = start;
        begun_ = true;
    }
    /// Reads those that are due. While the core stands still, too: that is how things are then.
    Result<std::size_t> read(std::span<std::uint8_t> into, Milliseconds patience) override;
    std::string waiting_for() const override { return begun_ ? "" : "the recording's start"; }
    /// When the next one is due.
    Steady::time_point next_due() const;
    /// "axis_error: 96.4 a second of 100", for each.
    std::vector<std::string> reached() const;

  private:
    DebugServer& server_;
    std::vector<PolledParameters::Value> values_;
    std::vector<Steady::time_point> next_;
    std::vector<std::uint64_t> taken_;
    Steady::time_point start_{}, last_{};
    bool begun_ = false;
};

}  // namespace mt
