// What a target shows on its console, put into pieces that say when they came (docs/formats/console.md): out of a
// debug server, which passes on semihosting, or of a line or file that carries plain text.
#pragma once

#include <chrono>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "capture/source.h"
#include "control/debug_server.h"

namespace mt {

class ConsoleSource : public Source {
  public:
    using Steady = std::chrono::steady_clock;
    /// `server` must outlive it.
    explicit ConsoleSource(DebugServer& server) : server_(&server) { server.keep_console(true); }
    explicit ConsoleSource(std::unique_ptr<Source> inner) : inner_(std::move(inner)) {}

    /// The moment from which times count; what comes before is not kept.
    void begin(Steady::time_point start) {
        start_ = start;
        begun_ = true;
    }
    /// Sends what a person typed to the target: through the debug server as the target's next input, or along the line
    /// before it is read next. Any thread; through a debug server the one that uses the server. A Problem if it cannot be.
    Result<void> type(const std::string& text);
    Result<std::size_t> read(std::span<std::uint8_t> into, Milliseconds patience) override;
    std::uint64_t lost() override;
    bool exhausted() const override { return inner_ != nullptr && inner_->exhausted() && waiting_.empty(); }
    std::string waiting_for() const override { return "nothing was printed yet"; }

  private:
    DebugServer* server_ = nullptr;
    std::unique_ptr<Source> inner_;
    std::mutex lock_;
    std::string typed_;  ///< not sent yet
    std::vector<std::uint8_t> waiting_;  ///< pieces, not given yet
    Steady::time_point start_{};
    bool begun_ = false;
};

}  // namespace mt
