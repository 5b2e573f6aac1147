#include "wire/ctf_packets.h"

#include <algorithm>
#include <cstdio>

#include "base/text.h"

namespace mt {

void CtfCursor::settle(std::span<const std::uint8_t> file, const CtfPacket& packet) {
    packet_ = packet;
    data_ = file.data() + packet.offset;
    readable_ = file.size() - packet.offset;
    trouble_ = "";
}

bool CtfCursor::varint(std::int64_t& value, bool is_signed) {
    std::uint64_t v = 0;
    for (unsigned shift = 0; shift < 70; shift += 7) {
        if (limit_ - at_ < 8) return false;
        const std::uint8_t b = data_[at_ / 8];
        at_ += 8;
        if (shift < 64) v |= std::uint64_t{b & 0x7Fu} << shift;
        if ((b & 0x80) == 0) {
            if (is_signed && shift + 7 < 64 && (b & 0x40) != 0) v |= ~std::uint64_t{0} << (shift + 7);
            value = static_cast<std::int64_t>(v);
            return true;
        }
    }
    return false;
}

CtfCursor::Found CtfCursor::packet_at(std::span<const std::uint8_t> file, std::uint64_t offset, CtfPacket& out) {
    CtfPacket p;
    p.offset = offset;
    settle(file, p);
    at_ = 0;
    limit_ = readable_ * 8;
    in_event_ = has_total_ = has_content_ = bad_magic_ = false;
    class_id_ = total_bits_ = content_bits_ = 0;
    Silent silent;
    if (!walk(metadata_.packet_header, silent)) return bad_magic_ ? Found::damage : Found::too_few;
    if (bad_magic_) {
        fail("no packet begins here: its mark is missing");
        return Found::damage;
    }
    // The trace's UUID guards against packets of another trace.
    for (const auto& f : metadata_.packet_header.fields)
        if (f.type.roles & ctf_role::trace_uuid && f.type.blob && metadata_.has_uuid) {
            const std::uint64_t from = static_cast<std::uint64_t>(slot(f.type.slot)) & 0xFF'FFFF'FFFF;
            if (f.type.count == 16 && std::memcmp(data_ + from, metadata_.uuid, 16) != 0) {
                fail("the packet belongs to another trace than the metadata");
                return Found::damage;
            }
        }
    const auto stream = std::find_if(metadata_.streams.begin(), metadata_.streams.end(),
                                     [&](const CtfStreamClass& s) { return s.id == class_id_; });
    if (stream == metadata_.streams.end()) {
        fail("the packet's stream class is not in the metadata");
        return Found::damage;
    }
    packet_.stream_class = static_cast<std::size_t>(stream - metadata_.streams.begin());
    if (!walk(stream->packet_context, silent)) return Found::too_few;
    for (const auto& f : stream->packet_context.fields)
        if (f.name == "cpu_id" && (f.type.kind == CtfType::Kind::integer || f.type.kind == CtfType::Kind::varint)) {
            packet_.cpu = static_cast<std::uint64_t>(slot(f.type.slot));
            packet_.has_cpu = true;
        }
    packet_.events_at = at_;
    const std::uint64_t here = readable_ * 8;
    std::uint64_t total = has_total_ ? total_bits_ : has_content_ ? (content_bits_ + 7) / 8 * 8 : here;
    const std::uint64_t content = has_content_ ? content_bits_ : total;
    if (total % 8 != 0 || total < packet_.events_at || content < packet_.events_at || content > total ||
        total > std::uint64_t{1} << 46) {
        fail("the packet states impossible sizes");
        return Found::damage;
    }
    const bool whole = total <= here;
    if (!whole) total = here;
    packet_.bytes = total / 8;
    packet_.content_bits = std::min(content, total);
    out = packet_;
    return whole ? Found::packet : Found::partial;
}

void CtfCursor::open(std::span<const std::uint8_t> file, const CtfPacket& packet) {
    settle(file, packet);
    // Header and context again: event records may choose by their fields.
    CtfPacket same;
    (void)packet_at(file, packet.offset, same);
    packet_ = packet;
    readable_ = std::min<std::uint64_t>(readable_, packet.bytes);
    trouble_ = "";
    at_ = packet.events_at;
    limit_ = packet.content_bits;
    in_event_ = true;
    ticks_ = packet.begin;
}

void CtfCursor::append(Program& program, const CtfType& t) {
    using Kind = CtfType::Kind;
    Op op;
    op.type = &t;
    op.align_to = t.align;
    op.slot = t.slot;
    op.roles = t.roles;
    if (t.kind == Kind::integer && !t.reversed) {
        op.what = Op::number;
        op.length = static_cast<std::uint8_t>(t.length);
        op.big = t.big_endian;
        op.is_signed = t.is_signed && t.length < 64;
        program.push_back(op);
    } else if (t.kind == Kind::structure) {
        if (t.fields.empty()) return;
        op.what = Op::align;
        if (t.align > 1) program.push_back(op);
        for (const auto& f : t.fields) append(program, f.type);
    } else if (t.kind == Kind::variant && t.fields.size() < Choice::kNone) {
        op.what = Op::choose;
        op.choice = choices_.size();
        choices_.emplace_back();
        Choice choice;
        for (std::size_t v = 0; v < choice.option_of.size(); ++v) {
            choice.option_of[v] = Choice::kNone;
            for (std::size_t f = t.fields.size(); f-- > 0;)
                for (const auto& r : t.fields[f].ranges)
                    if (static_cast<std::int64_t>(v) >= r.low && static_cast<std::int64_t>(v) <= r.high)
                        choice.option_of[v] = static_cast<std::uint8_t>(f);
        }
        for (const auto& f : t.fields) append(choice.options.emplace_back(), f.type);
        choices_[op.choice] = std::move(choice);
        program.push_back(op);
    } else {
        program.push_back(op);
    }
}

void CtfCursor::make_programs() {
    constexpr std::uint64_t kSmallIds = 4096;
    for (const auto& stream : metadata_.streams) {
        StreamPrograms made;
        append(made.header, stream.event_header);
        append(made.context, stream.event_context);
        for (const auto& [id, event] : stream.events) {
            if (id >= kSmallIds) continue;
            if (made.event_of.size() <= id) made.event_of.resize(id + 1, kNoEvent);
            made.event_of[id] = static_cast<std::uint32_t>(event);
        }
        stream_programs_.push_back(std::move(made));
    }
    for (const auto& event : metadata_.events) {
        Program made;
        append(made, event.context);
        append(made, event.payload);
        event_programs_.push_back(std::move(made));
    }
}

bool CtfCursor::run(const Program& program) {
    for (const Op& op : program) {
        switch (op.what) {
            case Op::number: {
                at_ = (at_ + op.align_to - 1) & ~std::uint64_t{op.align_to - 1};
                if (at_ > limit_ || limit_ - at_ < op.length) return fail("a field goes beyond the packet");
                std::uint64_t v = bits(at_, op.length, op.big);
                at_ += op.length;
                if (op.is_signed && (v >> (op.length - 1) & 1) != 0) v |= ~std::uint64_t{0} << op.length;
                slots_[static_cast<std::size_t>(op.slot)] = static_cast<std::int64_t>(v);
                if (op.roles != 0) role(*op.type, v);
                break;
            }
            case Op::align:
                if (!align(op.align_to)) return fail("a structure goes beyond the packet");
                break;
            case Op::choose: {
                const Choice& choice = choices_[op.choice];
                const auto selected = static_cast<std::uint64_t>(slots_[static_cast<std::size_t>(op.type->selector)]);
                std::size_t option = Choice::kNone;
                if (selected < choice.option_of.size())
                    option = choice.option_of[selected];
                else if (const CtfField* f = this->option(*op.type))
                    option = static_cast<std::size_t>(f - op.type->fields.data());
                if (option == Choice::kNone) return fail("a variant has no option for its selector");
                slots_[static_cast<std::size_t>(op.slot)] = static_cast<std::int64_t>(option);
                if (!run(choice.options[option])) return false;
                break;
            }
            case Op::other: {
                Silent silent;
                if (!walk(*op.type, silent)) return false;
                break;
            }
        }
    }
    return true;
}

bool CtfCursor::next() {
    if (*trouble_ != 0 || at_ >= limit_) return false;
    if (stream_programs_.empty()) make_programs();
    const CtfStreamClass& stream = metadata_.streams[packet_.stream_class];
    const StreamPrograms& programs = stream_programs_[packet_.stream_class];
    if (!align(stream.event_header.align) || at_ >= limit_) return false;
    const std::uint64_t before = at_;
    began_ = at_;
    in_event_ = true;
    event_class_id_ = 0;
    if (!run(programs.header)) return false;
    if (event_class_id_ < programs.event_of.size() && programs.event_of[event_class_id_] != kNoEvent) {
        event_ = programs.event_of[event_class_id_];
    } else {
        const auto found = stream.events.size() == 1 && stream.event_header.fields.empty()
                               ? stream.events.begin()
                               : stream.events.find(event_class_id_);
        if (found == stream.events.end()) return fail("an event has a number that the metadata does not know");
        event_ = found->second;
    }
    if (!run(programs.context) || !run(event_programs_[event_])) return false;
    if (at_ == before) return fail("events of no length");
    return true;
}

const std::string& ctf_label(const CtfType& t, std::int64_t v) {
    static const std::string none;
    for (const auto& label : t.labels)
        for (const auto& r : label.ranges)
            if (v >= r.low && v <= r.high) return label.name;
    return none;
}

void CtfText::put(const std::string& v) {
    if (!out.empty() && out.back() != '{' && out.back() != '[') out += ' ';
    const bool listed = !in_list_.empty() && in_list_.back() != 0;
    if (!listed && !name_.empty()) out += (name_[0] == '_' ? name_.substr(1) : name_) + "=";
    out += v;
}

void CtfText::integer(const CtfType& t, std::int64_t v) {
    const std::string& label = ctf_label(t, v);
    if (!label.empty()) return put(label);
    if (t.base == 16) return put(hex_text(static_cast<std::uint64_t>(v), 1));
    put(t.is_signed ? std::to_string(v) : std::to_string(static_cast<std::uint64_t>(v)));
}
void CtfText::real(double v) {
    char text[40];
    std::snprintf(text, sizeof text, "%.9g", v);
    put(text);
}
void CtfText::text(std::string_view v) { put("\"" + std::string(v.substr(0, 256)) + "\""); }
void CtfText::blob(std::span<const std::uint8_t> v) { put(hex_bytes(v.first(std::min<std::size_t>(v.size(), 32)))); }
void CtfText::open(const CtfType& t) {
    const bool list = t.kind != CtfType::Kind::structure;
    if (depth_++ > 0) {
        put(list ? "[" : "{");
        name_.clear();
    }
    in_list_.push_back(list ? 1 : 0);
}
void CtfText::close(const CtfType& t) {
    in_list_.pop_back();
    if (--depth_ > 0) out += t.kind != CtfType::Kind::structure ? "]" : "}";
}

}  // namespace mt
