#include "trail/port_packets.h"

#include <stdlib.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <filesystem>
#include <optional>

#include "flow/itm_pipe.h"

namespace mt {
namespace {

// Takes timed packets one by one.
class Taker {
  public:
    Taker(PortBytes& out, unsigned port, std::FILE* file) : out_(out), port_(port), file_(file) {}
    void push_back(const TimedPacket& p) {
        if (p.packet.kind == ItmKind::overflow || p.packet.kind == ItmKind::damage) {
            if (out_.bytes > 0 && (out_.breaks.empty() || out_.breaks.back() < out_.bytes))
                out_.breaks.push_back(out_.bytes);
            return;
        }
        if (p.packet.kind != ItmKind::port || p.packet.number != port_) return;
        std::uint8_t bytes[8];
        for (unsigned i = 0; i < 8; ++i) bytes[i] = static_cast<std::uint8_t>(p.packet.value >> 8 * i);
        const std::size_t n = std::min<std::size_t>(p.packet.size, 8);
        good = good && std::fwrite(bytes, 1, n, file_) == n;
        out_.bytes += n;
        if (out_.times.size() < kKept) out_.times.emplace_back(out_.bytes, p.latest);
    }
    void take_time(const ItmPacket&, Time) {}
    bool good = true;

  private:
    static constexpr std::size_t kKept = 1 << 16;
    PortBytes& out_;
    unsigned port_;
    std::FILE* file_;
};

}  // namespace

Time PortBytes::written_by(std::uint64_t offset) const {
    const auto at = std::lower_bound(times.begin(), times.end(), offset,
                                     [](const auto& t, std::uint64_t o) { return t.first < o; });
    return at != times.end() ? at->second : times.empty() ? Time{} : times.back().second;
}

Result<PortBytes> port_bytes(const Recording& recording, const Recording::Stream& stream, unsigned port) {
    std::error_code ec;
    std::string path = (std::filesystem::temp_directory_path(ec) / "mindful-trail-XXXXXX").string();
    const int handle = ::mkstemp(path.data());
    std::FILE* file = handle >= 0 ? ::fdopen(handle, "wb") : nullptr;
    if (file == nullptr) return failure("cannot make a temporary file", path, "check TMPDIR and free space");
    PortBytes out;
    out.path = path;
    Taker taker(out, port, file);
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
    const bool closed = std::fclose(file) == 0;
    if (taker.good && closed) return out;
    ::unlink(path.c_str());
    return failure("cannot write a temporary file", path, "check free space in that folder");
}

}  // namespace mt
