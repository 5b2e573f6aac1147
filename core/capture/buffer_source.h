// An on-chip trace buffer as a source: read when the recording ends, or again and again.
#pragma once

#include <memory>
#include <optional>

#include "capture/source.h"
#include "control/debug_server.h"
#include "control/units/buffer.h"

namespace mt {

class BufferSource : public Source {
  public:
    /// `server` must outlive it. `every_ms`: how often it is stopped, read and restarted; 0: only by `finish`.
    BufferSource(DebugServer& server, Unit unit, std::optional<Unit> encoder, unsigned every_ms, Milliseconds patience)
        : server_(server),
          memory_(server),
          unit_(std::move(unit)),
          encoder_(std::move(encoder)),
          every_(every_ms),
          unit_patience_(patience) {}

    Result<std::size_t> read(std::span<std::uint8_t> into, Milliseconds patience) override;
    bool exhausted() const override { return finished_ && at_ == bytes_.size(); }
    std::string gap() override { return std::exchange(gap_, {}); }
    std::string waiting_for() const override {
        return finished_ || every_.count() > 0 ? "" : "the end: then the buffer is read";
    }
    bool finished() const { return finished_; }
    /// Lets the buffer take trace again, for whoever comes next.
    Result<void> restart() { return restart_trace_buffer(memory_, unit_, encoder(), unit_patience_); }
    /// Stops the buffer and takes what it holds; `read` gives it afterwards. The core should stand still, or its memory
    /// be readable while it runs.
    Result<std::string> finish(Progress* progress = nullptr);

  private:
    Result<void> take(Progress* progress);
    const Unit* encoder() const { return encoder_ ? &*encoder_ : nullptr; }

    DebugServer& server_;
    ServerMemory memory_;
    Unit unit_;
    std::optional<Unit> encoder_;
    Milliseconds every_, unit_patience_;
    std::chrono::steady_clock::time_point next_{};
    std::vector<std::uint8_t> bytes_;
    std::size_t at_ = 0;
    bool finished_ = false, restarted_ = false;
    std::string gap_, text_;
};

}  // namespace mt
