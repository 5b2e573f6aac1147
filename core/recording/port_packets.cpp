#include "recording/port_packets.h"

#include <stdlib.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>
#include <optional>

#include "flow/itm_pipe.h"

namespace mt {
namespace {

constexpr std::size_t kAtOnce = 1 << 16;

// Takes timed packets one by one.
struct Taker {
    PortTap& tap;
    unsigned port;
    void push_back(const TimedPacket& p) {
        if (p.packet.kind == ItmKind::overflow || p.packet.kind == ItmKind::damage)
            tap.lose();
        else if (p.packet.kind == ItmKind::port && p.packet.number == port)
            tap.write(p.packet.value, p.packet.size, p.latest);
    }
};

}  // namespace

Result<std::unique_ptr<PortTap>> PortTap::make() {
    std::error_code ec;
    std::string path = (std::filesystem::temp_directory_path(ec) / "mindful-trail-XXXXXX").string();
    const int file = ::mkstemp(path.data());
    if (file < 0) return failure("cannot make a temporary file", path, "check TMPDIR and free space");
    return std::unique_ptr<PortTap>(new PortTap(path, file));
}

PortTap::~PortTap() {
    ::close(file_);
    ::unlink(path_.c_str());
}

void PortTap::write(std::uint64_t value, unsigned size, Time t) {
    for (unsigned i = 0; i < size && i < 8; ++i) waiting_.push_back(static_cast<std::uint8_t>(value >> 8 * i));
    bytes_ += std::min(size, 8u);
    if (times_.size() < kKept) times_.emplace_back(bytes_, t);
    if (waiting_.size() >= kAtOnce) flush();
}

void PortTap::lose() {
    if (bytes_ > 0 && (breaks_.empty() || breaks_.back() < bytes_)) breaks_.push_back(bytes_);
}

bool PortTap::flush() {
    for (std::size_t at = 0; good_ && at < waiting_.size();) {
        const ssize_t n = ::write(file_, waiting_.data() + at, waiting_.size() - at);
        if (n > 0)
            at += static_cast<std::size_t>(n);
        else if (n == 0 || errno != EINTR)
            good_ = false;
    }
    waiting_.clear();
    return good_;
}

Time PortTap::written_by(std::uint64_t offset) const {
    const auto at = std::lower_bound(times_.begin(), times_.end(), offset,
                                     [](const auto& t, std::uint64_t o) { return t.first < o; });
    return at != times_.end() ? at->second : times_.empty() ? Time{} : times_.back().second;
}

Result<std::unique_ptr<PortTap>> tap_port(const Recording& recording, const Recording::Stream& stream, unsigned port) {
    auto tap = PortTap::make();
    if (!tap) return tap;
    Taker taker{**tap, port};
    const StreamSpec& spec = recording.target.streams[stream.spec];
    const std::size_t first = std::min<std::size_t>(stream.journal.first, stream.bytes().size());
    const auto raw = stream.bytes().subspan(first);
    std::optional<TpiuDeframer> frames;
    if (spec.framing == Framing::tpiu) frames.emplace(spec.trace_id, !tpiu_has_full_sync(raw));
    ItmPipe pipe(std::move(frames), ItmDecoder::Start::at_sync, {recording.target.cores[stream.core].clock_hz},
                 spec.timestamp_prescaler, Time::from_ns(std::clamp(stream.journal.after_s, 0.0, 1e6) * 1e9));
    std::size_t next_break = 0;
    const auto& breaks = stream.journal.breaks;
    while (next_break < breaks.size() && breaks[next_break].offset <= first) ++next_break;
    for (std::size_t at = 0; at < raw.size();) {
        std::size_t n = std::min<std::size_t>(1 << 16, raw.size() - at);
        if (next_break < breaks.size()) {
            const std::uint64_t to_break = breaks[next_break].offset - (first + at);
            if (to_break == 0) {
                pipe.lose(taker);
                ++next_break;
                continue;
            }
            n = static_cast<std::size_t>(std::min<std::uint64_t>(n, to_break));
        }
        pipe.feed(raw.subspan(at, n), taker);
        at += n;
    }
    pipe.finish(taker);
    if (!(*tap)->flush())
        return failure("cannot write a temporary file", (*tap)->path(), "check free space in that folder");
    return tap;
}

}  // namespace mt
