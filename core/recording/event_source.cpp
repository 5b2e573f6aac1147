#include "recording/event_source.h"

#include <algorithm>
#include <filesystem>
#include <iterator>
#include <limits>
#include <map>
#include <numeric>

#include "base/read_file.h"
#include "recorder_metadata.h"
#include "wire/ctf_metadata.h"

namespace mt {
namespace fs = std::filesystem;
namespace {

// Where the next packet's mark stands, at or after `from`; the end of the bytes if there is none.
std::uint64_t next_mark(std::span<const std::uint8_t> bytes, std::uint64_t from, const CtfMetadata& metadata) {
    const auto& header = metadata.packet_header;
    const bool marked = !header.fields.empty() && (header.fields[0].type.roles & ctf_role::packet_magic) != 0 &&
                        header.fields[0].type.length == 32;
    if (!marked) return bytes.size();
    const bool big = header.fields[0].type.big_endian;
    const std::uint8_t little_mark[4] = {0xC1, 0x1F, 0xFC, 0xC1}, big_mark[4] = {0xC1, 0xFC, 0x1F, 0xC1};
    const auto* mark = big ? big_mark : little_mark;
    const auto found =
        std::search(bytes.begin() + static_cast<std::ptrdiff_t>(std::min<std::uint64_t>(from, bytes.size())),
                    bytes.end(), mark, mark + 4);
    return static_cast<std::uint64_t>(found - bytes.begin());
}

}  // namespace

Result<std::shared_ptr<EventSource>> open_event_metadata(const EventPlace& place) {
    std::error_code ec;
    auto source = std::make_shared<EventSource>();
    source->folder = place.data;
    std::string path = place.metadata;
    if (path.empty() && fs::is_directory(place.data, ec)) path = (fs::path(place.data) / "metadata").string();
    if (path.empty() && fs::is_regular_file(place.data + ".metadata", ec)) path = place.data + ".metadata";
    if (path.empty()) path = (fs::path(place.data).parent_path() / "metadata").string();
    Result<CtfMetadata> metadata = failure("no metadata", path);
    if (place.recorder_hz != 0 && place.metadata.empty()) {
        const std::string text = recorder_metadata(place.recorder_hz);
        metadata = read_ctf_metadata({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()},
                                     "the recorder's own metadata");
    } else {
        auto file = MappedFile::open(path);
        if (!file)
            return failure("the trace has no readable metadata", path,
                           fs::is_directory(place.data, ec)
                               ? "give the folder that holds the file 'metadata'"
                               : "name it in [stream.ctf]: metadata = \"…\", or recorder_hz = … if our recorder wrote "
                                 "the packets");
        metadata = read_ctf_metadata((*file)->bytes(), path);
    }
    if (!metadata) return tl::make_unexpected(metadata.error());
    source->metadata = std::make_shared<const CtfMetadata>(std::move(*metadata));
    source->doubts = source->metadata->warnings;
    std::optional<OsMapping> mapping;
    if (!place.mapping.empty()) {
        auto read = read_os_mapping(place.mapping);
        if (!read) return tl::make_unexpected(read.error());
        mapping = std::move(*read);
    }
    auto binding = std::make_shared<OsBinding>(source->metadata, mapping ? &*mapping : nullptr);
    for (const auto& w : binding->warnings()) source->doubts.push_back(w);
    source->binding = std::move(binding);
    source->set_clock(source->metadata->clocks.empty() ? 1'000'000'000 : source->metadata->clocks[0].hz);
    return source;
}

void PacketLister::list(std::span<const std::uint8_t> bytes, const std::vector<std::uint64_t>& breaks, bool whole,
                        std::vector<CtfPacket>& packets, std::vector<EventSource::Damage>& damage) {
    const auto bad = [&](std::uint64_t from, std::uint64_t to, const char* why) {
        if (!damage.empty() && damage.back().length > 0 && damage.back().offset + damage.back().length == from)
            damage.back().length += to - from;
        else
            damage.push_back({from, to - from, why});
    };
    while (at_ < bytes.size()) {
        while (breaks_seen_ < breaks.size() && breaks[breaks_seen_] <= at_) ++breaks_seen_;
        const bool broken = breaks_seen_ < breaks.size() && breaks[breaks_seen_] <= bytes.size();
        const std::uint64_t end = broken ? breaks[breaks_seen_] : bytes.size();
        const auto part = bytes.first(static_cast<std::size_t>(end));
        CtfPacket p;
        const auto found = cursor_.packet_at(part, at_, p);
        const bool cut = found == CtfCursor::Found::partial;
        if ((cut || found == CtfCursor::Found::too_few) && !broken && !whole) return;
        if (found == CtfCursor::Found::packet || cut) {
            if (!p.has_begin) {  // the first event's own time stands in
                cursor_.open(part, p);
                if (cursor_.next()) p.begin = cursor_.ticks();
            }
            packets.push_back(p);
            if (cut)
                damage.push_back({p.offset + p.bytes, 0,
                                  broken ? "bytes are missing in the middle of a packet"
                                         : "the file ends in the middle of a packet"});
            if (p.bytes == 0) return;
            // Where bytes are missing in it, the next packet begins before its end: that one is not lost with it.
            std::uint64_t next = at_ + p.bytes;
            CtfPacket behind;
            if (!cut && next < end && cursor_.packet_at(part, next, behind) == CtfCursor::Found::damage)
                if (const std::uint64_t inside = next_mark(part, at_ + 1, metadata_);
                    inside < next && cursor_.packet_at(part, inside, behind) == CtfCursor::Found::packet) {
                    packets.back().bytes = inside - at_;
                    packets.back().content_bits = std::min(packets.back().content_bits, 8 * (inside - at_));
                    packets.back().cut = true;
                    next = inside;
                }
            at_ = next;
            continue;
        }
        std::uint64_t next = next_mark(part, at_ + 1, metadata_);
        if (next == end && !broken && !whole) next = std::max(at_ + 1, end - std::min<std::uint64_t>(end, 3));
        bad(at_, next,
            found == CtfCursor::Found::too_few ? "the file ends in the middle of a packet's header"
                                               : cursor_.trouble());
        at_ = next;
    }
}

void PacketLister::skip_to(std::uint64_t offset, std::vector<EventSource::Damage>& damage) {
    if (offset <= at_) return;
    damage.push_back({at_, offset - at_, "the bytes were given up before they were read"});
    at_ = offset;
}

void EventSource::set_clock(std::uint64_t hz) {
    constexpr std::uint64_t second = 1'000'000'000'000;
    const std::uint64_t common = std::gcd(second, std::max<std::uint64_t>(hz, 1));
    clock_hz = hz;
    scale_ps = second / common;
    scale_ticks = std::max<std::uint64_t>(hz, 1) / common;
    most_ticks = (std::uint64_t{1} << 62) / scale_ps;
    by_first_clock.clear();
    for (const auto& stream : metadata->streams)
        by_first_clock.push_back(
            (stream.clock >= 0 ? metadata->clocks[static_cast<std::size_t>(stream.clock)].hz : 1'000'000'000) == hz
                ? 1
                : 0);
}

Time EventSource::at_other(std::size_t stream, std::int64_t ticks) const {
    const int clock = metadata->streams[stream].clock;
    const std::uint64_t hz = clock >= 0 ? metadata->clocks[static_cast<std::size_t>(clock)].hz : 1'000'000'000;
    if (hz == clock_hz) return Clock{hz}.at(ticks - zero_ticks);
    // Another clock: both count from their own origin, which the metadata relates.
    const auto& one = metadata->clocks[static_cast<std::size_t>(std::max(clock, 0))];
    const auto& zero = metadata->clocks[0];
    const Time apart = Time{(one.offset_seconds - zero.offset_seconds) * 1'000'000'000'000} +
                       Clock{one.hz}.at(static_cast<std::int64_t>(one.offset_cycles)) -
                       Clock{zero.hz}.at(static_cast<std::int64_t>(zero.offset_cycles));
    return Clock{hz}.at(ticks) - Clock{clock_hz}.at(zero_ticks) + apart;
}

std::uint64_t EventSource::bytes() const {
    std::uint64_t sum = 0;
    for (const auto& f : files) sum += f.file->bytes().size();
    return sum;
}

bool is_ctf_folder(const std::string& folder) {
    std::error_code ec;
    return fs::is_regular_file(fs::path(folder) / "metadata", ec);
}

std::string recorder_metadata(std::uint64_t hz) {
    std::string text = kRecorderMetadata;
    const std::string key = "freq = ";
    const std::size_t at = text.find(key) + key.size();
    return text.replace(at, text.find(';', at) - at, std::to_string(hz));
}

Result<std::shared_ptr<EventSource>> follow_event_source(const EventPlace& place) {
    auto opened = open_event_metadata(place);
    if (!opened) return opened;
    auto file = MappedFile::follow(place.data);
    if (!file) return tl::make_unexpected(file.error());
    EventSource::File f;
    f.path = place.data;
    f.file = *file;
    (*opened)->files.push_back(std::move(f));
    return opened;
}

namespace {

// Packets of a processor follow each other in time. A header that claims to begin behind the packet after it is
// damaged, and so is what it says of its events; one that claims to end there ends where the next begins.
void leave_out_misdated(EventSource::File& file) {
    std::map<std::pair<std::size_t, std::uint64_t>, std::int64_t> next;  // begin, by stream class and processor
    std::vector<CtfPacket> kept;
    for (auto p = file.packets.rbegin(); p != file.packets.rend(); ++p) {
        const auto [found, last] =
            next.try_emplace({p->stream_class, p->cpu}, std::numeric_limits<std::int64_t>::max());
        if (!last && p->begin > found->second) {
            file.damage.push_back(
                {p->offset, p->bytes, "a packet header claims a time behind that of the next packet"});
            continue;
        }
        if (!last && p->has_end) p->end = std::min(p->end, found->second);
        found->second = p->begin;
        kept.push_back(*p);
    }
    if (kept.size() == file.packets.size()) {
        std::reverse(kept.begin(), kept.end());
        file.packets = std::move(kept);
        return;
    }
    // Where most claim so, it is the clock that was set back, or the first of them that is wrong.
    if (kept.size() * 2 < file.packets.size()) {
        file.damage.resize(file.damage.size() - (file.packets.size() - kept.size()));
        return;
    }
    std::reverse(kept.begin(), kept.end());
    file.packets = std::move(kept);
    std::sort(file.damage.begin(), file.damage.end(),
              [](const EventSource::Damage& a, const EventSource::Damage& b) { return a.offset < b.offset; });
}

}  // namespace

Result<std::shared_ptr<EventSource>> open_event_source(const EventPlace& place) {
    auto opened = open_event_metadata(place);
    if (!opened) return opened;
    const std::shared_ptr<EventSource> source = *opened;
    const std::string& folder = place.data;
    std::error_code ec;
    std::vector<fs::path> paths;
    if (fs::is_regular_file(folder, ec)) paths.push_back(folder);
    for (auto it = fs::directory_iterator(folder, ec); !ec && it != fs::directory_iterator(); it.increment(ec))
        if (it->is_regular_file(ec) && it->path().filename() != "metadata" && it->path().filename().string()[0] != '.')
            paths.push_back(it->path());
    if (!place.inside.empty()) std::erase_if(paths, [&](const fs::path& p) { return !lies_inside(place.inside, p); });
    std::sort(paths.begin(), paths.end());
    for (const auto& path : paths) {
        auto file = MappedFile::open(path.string());
        if (!file || (*file)->bytes().empty()) {
            if (!file)
                source->doubts.push_back("The data stream " + path.string() + " cannot be read: " + file.error().what +
                                         ".");
            continue;
        }
        EventSource::File f;
        f.path = path.string();
        f.file = *file;
        if (const std::string missing = f.file->what_is_missing(); !missing.empty())
            source->doubts.push_back("The data stream " + f.path + " " + missing + ".");
        PacketLister lister(*source->metadata);
        lister.skip_to(std::min<std::uint64_t>(place.first, f.file->bytes().size()), f.damage);
        lister.list(f.file->bytes(), place.breaks, true, f.packets, f.damage);
        leave_out_misdated(f);
        if (f.packets.empty()) {
            source->doubts.push_back("The file " + path.string() + " holds no packet of this trace (" +
                                     (f.damage.empty() ? std::string("empty") : f.damage[0].why) + ").");
            continue;
        }
        source->files.push_back(std::move(f));
    }
    if (source->files.empty())
        return failure(
            "the trace holds no data stream that can be read", folder,
            source->doubts.empty() ? "copy the whole folder, not the metadata alone" : source->doubts.back());
    source->doubts.erase(std::unique(source->doubts.begin(), source->doubts.end()), source->doubts.end());
    bool any = false;
    for (const auto& f : source->files)
        for (const auto& p : f.packets) {
            const std::int64_t begin = p.begin;
            if (!any || begin < source->zero_ticks) source->zero_ticks = begin;
            any = true;
        }
    return source;
}

PacketTimes read_ctf_packet(const EventSource& source, std::size_t file, const CtfPacket& packet, CtfCursor& cursor,
                            Time& reached, OsBlock& out, const char*& trouble) {
    const std::uint16_t core = source.core_of(packet);
    const OsBinding& binding = *source.binding;
    PacketTimes times;
    cursor.open(source.files[file].file->bytes(), packet);
    while (cursor.next()) {
        // Damage that reads as an event far ahead must not hold back all that follows.
        if (packet.too_late(cursor.ticks())) {
            trouble = "an event is later than the end of its packet";
            times.too_late = source.at(packet.stream_class, cursor.ticks());
            return times;
        }
        const Time t = source.at(packet.stream_class, cursor.ticks());
        if (t < reached) {
            if (times.backwards++ == 0) times.first_back = cursor.position();
        } else {
            reached = t;
        }
        binding.take(cursor, reached, core, out);
    }
    trouble = cursor.trouble();
    return times;
}

std::int64_t zero_at_arrival(const CtfPacket& first, std::uint64_t clock_hz, double after_s) {
    const auto before = static_cast<std::int64_t>(std::clamp(after_s, 0.0, 1e6) * static_cast<double>(clock_hz));
    return std::min(first.begin, (first.has_end ? first.end : first.begin) - before);
}

}  // namespace mt
