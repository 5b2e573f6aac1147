#include "replay/packet_block.h"

#include <algorithm>
#include <cstring>

#include "base/text.h"
#include "flow/itm_pipe.h"
#include "target/value_type.h"

namespace mt {
namespace {

template <class Key>
std::size_t last_not_after(const Column<Checkpoint>& points, Key key_not_after) {
    std::size_t low = 0, high = points.size();
    while (low < high) {
        const std::size_t mid = (low + high) / 2;
        if (key_not_after(points[mid]))
            low = mid + 1;
        else
            high = mid;
    }
    return low == 0 ? 0 : low - 1;
}

// The raw bytes from one checkpoint to the next, or to what was read when the snapshot was taken.
std::span<const std::uint8_t> raw_of_block(const StreamTrail& s, std::span<const std::uint8_t> raw, std::size_t block) {
    const std::uint64_t from = s.checkpoints[block].raw_offset;
    const std::uint64_t end = std::min<std::uint64_t>(block_end(s, block), raw.size());
    return from < end ? raw.subspan(from, end - from) : std::span<const std::uint8_t>();
}

}  // namespace

std::span<const std::uint8_t> PacketBlock::bytes_of(const ItmPacket& packet) const {
    const std::uint64_t base = unframed.empty() ? 0 : bytes_from;
    const std::span<const std::uint8_t> all = unframed.empty() ? bare : std::span<const std::uint8_t>(unframed);
    if (packet.offset < base || packet.offset - base >= all.size()) return {};
    const std::size_t at = packet.offset - base;
    return all.subspan(at, std::min<std::uint64_t>({packet.length, 16, all.size() - at}));
}

PacketBlock decode_block(const Recording& recording, const Trail& trail, std::size_t stream, std::size_t block) {
    const StreamTrail& s = trail.streams[stream];
    const auto raw = recording.streams[stream].bytes();
    const Checkpoint& point = s.checkpoints[block];
    PacketBlock out;
    out.first_packet = point.packets;
    out.first_event = point.events;
    ItmPipe pipe = *point.pipe;
    if (point.lost) pipe.lose(out.packets);
    const auto piece = raw_of_block(s, raw, block);
    pipe.feed(piece, out.packets);
    if (block + 1 == s.checkpoints.size() && s.ended) pipe.finish(out.packets);
    const StreamSpec& spec = recording.target.streams[recording.streams[stream].spec];
    if (spec.framing == Framing::none) {
        out.bare = raw;
        return out;
    }
    // A packet may have begun before this block: unframe from the checkpoint that lies before the first.
    const std::uint64_t first = out.packets.empty() ? 0 : out.packets.front().packet.offset;
    std::size_t from = last_not_after(s.checkpoints, [&](const Checkpoint& c) { return c.pipe->unframed() <= first; });
    if (block - std::min(from, block) > 16)
        from = block;  // far back: a long undated stretch; show bytes of this block only
    ItmPipe copy = *s.checkpoints[from].pipe;
    out.bytes_from = copy.unframed();
    for (std::size_t b = from; b <= block; ++b) {
        if (s.checkpoints[b].lost) copy.lose_step();
        copy.unframe(raw_of_block(s, raw, b), out.unframed);
    }
    return out;
}

std::uint64_t block_end(const StreamTrail& s, std::size_t block) {
    return block + 1 < s.checkpoints.size() ? s.checkpoints[block + 1].raw_offset : s.read_bytes;
}

std::size_t block_of_packet(const StreamTrail& stream, std::uint64_t row) {
    return last_not_after(stream.checkpoints, [&](const Checkpoint& c) { return c.packets <= row; });
}
std::size_t block_of_event(const StreamTrail& stream, std::uint64_t row) {
    return last_not_after(stream.checkpoints, [&](const Checkpoint& c) { return c.events <= row; });
}
std::size_t block_of_time(const StreamTrail& stream, Time t) {
    return last_not_after(stream.checkpoints, [&](const Checkpoint& c) { return c.time < t; });
}

std::string packet_label(ItmKind kind) {
    switch (kind) {
        case ItmKind::sync:
            return "synchronisation";
        case ItmKind::overflow:
            return "overflow";
        case ItmKind::local_time_1:
            return "local timestamp";
        case ItmKind::local_time_2:
            return "local timestamp, short";
        case ItmKind::global_time_1:
            return "global timestamp, low";
        case ItmKind::global_time_2:
            return "global timestamp, high";
        case ItmKind::page:
            return "port page";
        case ItmKind::extension:
            return "extension";
        case ItmKind::port:
            return "port written";
        case ItmKind::counter:
            return "event counter";
        case ItmKind::exc_enter:
            return "entered";
        case ItmKind::exc_exit:
            return "left";
        case ItmKind::exc_return:
            return "returned to";
        case ItmKind::pc:
            return "program counter";
        case ItmKind::sleep:
            return "asleep";
        case ItmKind::pc_prohibited:
            return "sampling prohibited";
        case ItmKind::pmu_overflow:
            return "performance counter";
        case ItmKind::data_match:
            return "comparator match";
        case ItmKind::data_pc:
            return "accessed from";
        case ItmKind::data_offset:
            return "accessed at";
        case ItmKind::data_read:
            return "read";
        case ItmKind::data_write:
            return "written";
        case ItmKind::damage:
            return "damage";
    }
    return {};
}

EventText event_text(const Recording& recording, std::size_t stream, const ItmPacket& p) {
    EventText t;
    t.kind = itm_kind_name(p.kind);
    t.label = packet_label(p.kind);
    const std::size_t core = recording.streams[stream].core;
    const auto function = [&](std::uint64_t pc) {
        const Image* image = recording.images[core].get();
        const Symbol* symbol = image == nullptr ? nullptr : image->function_at(pc);
        return symbol == nullptr ? std::string() : symbol->name;
    };
    switch (p.kind) {
        case ItmKind::exc_enter:
        case ItmKind::exc_exit:
        case ItmKind::exc_return:
            t.number = std::to_string(p.number);
            t.name = recording.exception_name(
                core, ExceptionId::on_wire(p.number, recording.target.cores[core].isa.rfind("rv", 0) == 0).code());
            break;
        case ItmKind::port: {
            const PortSpec* port = recording.target.port(p.number);
            t.number = std::to_string(p.number);
            t.name = port == nullptr || port->name.empty() ? "port " + t.number : port->name;
            t.value = std::to_string(p.value);
            break;
        }
        case ItmKind::pc:
            t.name = function(p.value);
            t.value = std::to_string(p.value);
            break;
        case ItmKind::data_match:
        case ItmKind::data_pc:
        case ItmKind::data_offset:
        case ItmKind::data_read:
        case ItmKind::data_write: {
            const WatchSpec* watch = recording.target.watch(p.number);
            t.number = std::to_string(p.number);
            t.name = watch == nullptr || watch->symbol.empty() ? "comparator " + t.number : watch->symbol;
            const bool typed = watch != nullptr && (p.kind == ItmKind::data_read || p.kind == ItmKind::data_write);
            if (p.kind != ItmKind::data_match)
                t.value = typed ? ValueType::named(watch->type)
                                      .value_or(ValueType{})
                                      .with(watch->mask, watch->shift)
                                      .read(p.value)
                                      .text()
                                : std::to_string(p.value);
            break;
        }
        case ItmKind::damage:
            t.name = itm_damage_text(static_cast<ItmDamage>(p.number));
            t.value = std::to_string(p.length);
            break;
        case ItmKind::counter:
        case ItmKind::pmu_overflow:
        case ItmKind::extension:
            t.value = std::to_string(p.value);
            break;
        default:
            break;
    }
    return t;
}

}  // namespace mt
