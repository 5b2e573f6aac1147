#include "capture/core_stand.h"

#include <utility>

namespace mt {
namespace {

constexpr auto kCalmFor = std::chrono::milliseconds(250), kCopyEach = std::chrono::milliseconds(100);

}  // namespace

void CoreStand::begin(DebugServer& server, StateReader reader) {
    reader_ = std::move(reader);
    server.count_places();
    stood_ = std::make_shared<const StoodPlaces>();
}

void CoreStand::read(DebugServer& server, const CoreSpec& core) {
    tried_ = true;
    if (server.changed_here()) return;
    if (auto state = reader_.read(server, core)) stands_ = std::make_shared<const CoreState>(std::move(*state));
}

void CoreStand::look(DebugServer& server, const CoreSpec& core, bool calm, bool others_changed) {
    if (!stood_) return;
    const auto now = Steady::now();
    const StoodPlaces& places = server.places();
    const bool running = server.running();
    if (running || places.times != times_) {
        stands_.reset();
        tried_ = false;
        since_ = now;
        times_ = places.times;
    }
    const bool complete = places.complete && !others_changed;
    if ((places.times != stood_->times || complete != stood_->complete) && (!running || now - copied_ >= kCopyEach)) {
        auto copy = std::make_shared<StoodPlaces>(places);
        copy->complete = complete;
        stood_ = std::move(copy);
        copied_ = now;
    }
    if (others_changed)
        stands_.reset();
    else if (!running && !tried_ && calm && now - since_ >= kCalmFor)
        read(server, core);
}

void CoreStand::before_change(DebugServer& server, const CoreSpec& core) {
    if (stood_ && !server.running() && !tried_) read(server, core);
}

}  // namespace mt
