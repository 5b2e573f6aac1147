#include "trail/event_source.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iterator>

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

void list_packets(const CtfMetadata& metadata, EventSource::File& file) {
    CtfCursor cursor(metadata);
    const auto bytes = file.file->bytes();
    for (std::uint64_t at = 0; at < bytes.size();) {
        CtfPacket p;
        const auto found = cursor.packet_at(bytes, at, p);
        if (found == CtfCursor::Found::packet || found == CtfCursor::Found::partial) {
            if (!p.has_begin) {  // the first event's own time stands in
                cursor.open(bytes, p);
                if (cursor.next()) p.begin = cursor.ticks();
            }
            file.packets.push_back(p);
            if (found == CtfCursor::Found::partial)
                file.damage.push_back({p.offset + p.bytes, 0, "the file ends in the middle of a packet"});
            if (p.bytes == 0) break;
            at += p.bytes;
            continue;
        }
        const std::uint64_t next = next_mark(bytes, at + 1, metadata);
        file.damage.push_back({at, next - at,
                               found == CtfCursor::Found::too_few ? "the file ends in the middle of a packet's header"
                                                                  : cursor.trouble()});
        at = next;
    }
}

}  // namespace

Time EventSource::at(std::size_t stream, std::int64_t ticks) const {
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

Result<std::shared_ptr<EventSource>> open_event_source(const std::string& folder, const std::string& mapping_path) {
    const std::string metadata_path = (fs::path(folder) / "metadata").string();
    auto metadata_file = MappedFile::open(metadata_path);
    if (!metadata_file)
        return failure("the trace has no readable metadata", metadata_path,
                       "give the folder that holds the file 'metadata'");
    auto metadata = read_ctf_metadata((*metadata_file)->bytes(), metadata_path);
    if (!metadata) return tl::make_unexpected(metadata.error());
    auto source = std::make_shared<EventSource>();
    source->folder = folder;
    source->metadata = std::make_shared<const CtfMetadata>(std::move(*metadata));
    source->doubts = source->metadata->warnings;
    std::optional<OsMapping> mapping;
    if (!mapping_path.empty()) {
        auto read = read_os_mapping(mapping_path);
        if (!read) return tl::make_unexpected(read.error());
        mapping = std::move(*read);
    }
    auto binding = std::make_shared<OsBinding>(source->metadata, mapping ? &*mapping : nullptr);
    for (const auto& w : binding->warnings()) source->doubts.push_back(w);
    source->binding = std::move(binding);
    if (!source->metadata->clocks.empty()) source->clock_hz = source->metadata->clocks[0].hz;

    std::error_code ec;
    std::vector<fs::path> paths;
    for (auto it = fs::directory_iterator(folder, ec); !ec && it != fs::directory_iterator(); it.increment(ec))
        if (it->is_regular_file(ec) && it->path().filename() != "metadata" && it->path().filename().string()[0] != '.')
            paths.push_back(it->path());
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
        list_packets(*source->metadata, f);
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
    bool any = false;
    for (const auto& f : source->files)
        for (const auto& p : f.packets) {
            const std::int64_t begin = p.begin;
            if (!any || begin < source->zero_ticks) source->zero_ticks = begin;
            any = true;
        }
    return source;
}

std::uint64_t read_ctf_packet(const EventSource& source, std::size_t file, const CtfPacket& packet, CtfCursor& cursor,
                              Time& reached, OsBlock& out, const char*& trouble) {
    const std::uint16_t core = source.core_of(packet);
    const OsBinding& binding = *source.binding;
    std::uint64_t backwards = 0;
    cursor.open(source.files[file].file->bytes(), packet);
    while (cursor.next()) {
        const Time t = source.at(packet.stream_class, cursor.ticks());
        if (t < reached)
            ++backwards;
        else
            reached = t;
        binding.take(cursor, reached, core, out);
    }
    trouble = cursor.trouble();
    return backwards;
}

}  // namespace mt
