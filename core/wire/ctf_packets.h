// Packets and event records of a Common Trace Format data stream. CTF 1.8.3 sections 5 and 6, CTF 2.0 section 6.
#pragma once

#include <array>
#include <bit>
#include <cstdint>
#include <cstring>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "wire/ctf_types.h"

namespace mt {

/// What stands in front of a packet, and where its event records lie. Ticks are of the stream's clock.
struct CtfPacket {
    std::uint64_t offset = 0, bytes = 0;  ///< in the file
    std::uint64_t content_bits = 0;       ///< what is used of it, from `offset`
    bool cut = false;                     ///< bytes are missing in it: the next packet begins before its end
    std::uint64_t events_at = 0;          ///< bits from `offset` to the first event record
    std::size_t stream_class = 0;         ///< index into CtfMetadata::streams
    std::int64_t begin = 0, end = 0;      ///< 0 if the packet does not say
    std::uint64_t discarded = 0, sequence = 0, cpu = 0;
    bool has_begin = false, has_end = false, has_discarded = false, has_sequence = false, has_cpu = false;

    /// True if an event cannot be of this time: a packet's end is not before its last event (CTF 1.8.3, 5.2:
    /// timestamp_end). A writer that rounds its end is forgiven as much as the packet is long.
    bool too_late(std::int64_t ticks) const {
        if (!has_begin || !has_end || end < begin || ticks <= end) return false;
        return static_cast<std::uint64_t>(ticks) - static_cast<std::uint64_t>(end) >
               static_cast<std::uint64_t>(end) - static_cast<std::uint64_t>(begin);
    }
};

/// Reads one packet field by field. Never reads beyond the packet; one thread at a time. The metadata and the
/// bytes must outlive it.
class CtfCursor {
  public:
    explicit CtfCursor(const CtfMetadata& metadata) : metadata_(metadata), slots_(metadata.most_slots + 1) {}

    enum class Found : std::uint8_t {
        packet,   ///< `out` is filled in; the packet lies wholly in the bytes
        partial,  ///< the header was read, but the packet goes on beyond the bytes; `out` has its part
        too_few,  ///< not even the header fits into the bytes
        damage    ///< no packet begins here: see `trouble`
    };
    /// A sink that takes nothing.
    struct Silent {
        void name(const std::string&) {}
        void integer(const CtfType&, std::int64_t) {}
        void real(double) {}
        void text(std::string_view) {}
        void blob(std::span<const std::uint8_t>) {}
        void open(const CtfType&) {}
        void close(const CtfType&) {}
    };
    /// Looks at what begins at `offset` of the file's bytes.
    Found packet_at(std::span<const std::uint8_t> file, std::uint64_t offset, CtfPacket& out);

    /// Goes to the first event record of a packet.
    void open(std::span<const std::uint8_t> file, const CtfPacket& packet);
    /// Reads the next event record; contexts and payload go into the sink. False at the packet's end, or if it cannot
    /// be read: then `trouble` says why.
    template <class Sink>
    bool next(Sink& sink);
    /// The same without a sink, by programs made of the field types beforehand.
    bool next();

    /// Of the event read last.
    std::size_t event_class() const { return event_; }
    std::int64_t ticks() const { return ticks_; }
    /// Of its first bit, in bytes of the file.
    std::uint64_t event_offset() const { return packet_.offset + began_ / 8; }
    std::int64_t slot(int i) const { return slots_[static_cast<std::size_t>(i)]; }
    /// The text that a string or text array left in its slot.
    std::string_view text(int i) const {
        const auto v = static_cast<std::uint64_t>(slots_[static_cast<std::size_t>(i)]);
        return {reinterpret_cast<const char*>(data_) + (v & 0xFF'FFFF'FFFF), v >> 40};
    }
    /// Why `packet_at` found damage, or `next` stopped before the packet's end; empty otherwise.
    const char* trouble() const { return trouble_; }
    std::uint64_t position() const { return packet_.offset + at_ / 8; }

  private:
    static constexpr std::uint64_t kMostElements = 1u << 24;

    /// A step on the way through a type: most fields are numbers of fixed length, one after the other.
    struct Op {
        enum What : std::uint8_t { number, align, choose, other } what = other;
        std::uint8_t length = 0;
        bool big = false, is_signed = false;
        std::uint16_t roles = 0;
        unsigned align_to = 1;
        int slot = 0;
        std::size_t choice = 0;
        const CtfType* type = nullptr;
    };
    using Program = std::vector<Op>;
    /// A variant: which option each small selector chooses.
    struct Choice {
        static constexpr std::uint8_t kNone = 0xFF;
        std::array<std::uint8_t, 64> option_of{};
        std::vector<Program> options;
    };
    struct StreamPrograms {
        Program header, context;
        std::vector<std::uint32_t> event_of;  ///< of small ids: index of the event class, or kNoEvent
    };
    static constexpr std::uint32_t kNoEvent = 0xFFFF'FFFF;
    void make_programs();
    void append(Program& program, const CtfType& type);
    bool run(const Program& program);

    void settle(std::span<const std::uint8_t> file, const CtfPacket& packet);
    bool align(unsigned to) {
        at_ = (at_ + to - 1) & ~std::uint64_t{to - 1};
        return at_ <= limit_;
    }
    bool fail(const char* why) {
        if (*trouble_ == 0) trouble_ = why;
        return false;
    }
    std::uint64_t bits(std::uint64_t at, unsigned length, bool big) const;
    template <class Sink>
    bool walk(const CtfType& t, Sink& sink);
    bool varint(std::int64_t& value, bool is_signed);
    const CtfField* option(const CtfType& t) const;
    void role(const CtfType& t, std::uint64_t value);

    const CtfMetadata& metadata_;
    std::vector<StreamPrograms> stream_programs_;
    std::vector<Program> event_programs_;
    std::vector<Choice> choices_;
    std::vector<std::int64_t> slots_;
    const std::uint8_t* data_ = nullptr;  ///< the packet's first byte
    std::uint64_t at_ = 0, limit_ = 0;    ///< bits from there; nothing at or beyond the limit is read
    std::uint64_t readable_ = 0;          ///< bytes of the file from data_ on
    CtfPacket packet_;
    bool in_event_ = false;
    std::uint64_t began_ = 0, class_id_ = 0, event_class_id_ = 0;
    std::uint64_t total_bits_ = 0, content_bits_ = 0;
    bool has_total_ = false, has_content_ = false, bad_magic_ = false;
    std::int64_t ticks_ = 0;
    std::size_t event_ = 0;
    const char* trouble_ = "";
};

inline std::uint64_t CtfCursor::bits(std::uint64_t at, unsigned length, bool big) const {
    const std::uint64_t byte = at / 8;
    const unsigned shift = static_cast<unsigned>(at % 8);
    const std::uint64_t mask = length == 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << length) - 1;
    if (byte + 8 <= readable_ && shift + length <= 64) {
        std::uint64_t raw;
        std::memcpy(&raw, data_ + byte, 8);
        if (!big) return raw >> shift & mask;
        return __builtin_bswap64(raw) << shift >> (64 - length);
    }
    std::uint64_t v = 0;
    for (unsigned i = 0; i < length; ++i) {
        const std::uint64_t b = at + i;
        const std::uint64_t bit = big ? data_[b / 8] >> (7 - b % 8) & 1 : data_[b / 8] >> (b % 8) & 1;
        v = big ? v << 1 | bit : v | bit << i;
    }
    return v;
}

inline const CtfField* CtfCursor::option(const CtfType& t) const {
    const std::int64_t chosen = slots_[static_cast<std::size_t>(t.selector)];
    for (const auto& f : t.fields)
        for (const auto& r : f.ranges)
            if ((chosen >= r.low && chosen <= r.high) ||
                (static_cast<std::uint64_t>(chosen) >= static_cast<std::uint64_t>(r.low) &&
                 static_cast<std::uint64_t>(chosen) <= static_cast<std::uint64_t>(r.high)))
                return &f;
    return nullptr;
}

inline void CtfCursor::role(const CtfType& t, std::uint64_t value) {
    if (in_event_) {
        if (t.roles & ctf_role::event_class_id) event_class_id_ = value;
        if (t.roles & ctf_role::timestamp) {
            // Low bits only: the clock went on by less than they can count (CTF 1.8.3, 6.1.1).
            const unsigned n = t.kind == CtfType::Kind::varint ? 64 : t.length;
            if (n >= 64) {
                ticks_ = static_cast<std::int64_t>(value);
            } else {
                const std::uint64_t mask = (std::uint64_t{1} << n) - 1, now = static_cast<std::uint64_t>(ticks_);
                std::uint64_t next = (now & ~mask) | value;
                if (next < now) next += mask + 1;
                ticks_ = static_cast<std::int64_t>(next);
            }
        }
        return;
    }
    const std::uint16_t r = t.roles;
    if ((r & ctf_role::packet_magic) != 0 && value != 0xC1FC1FC1) bad_magic_ = true;
    if (r & ctf_role::stream_class_id) class_id_ = value;
    if (r & ctf_role::timestamp) packet_.begin = static_cast<std::int64_t>(value), packet_.has_begin = true;
    if (r & ctf_role::packet_end_timestamp) packet_.end = static_cast<std::int64_t>(value), packet_.has_end = true;
    if (r & ctf_role::packet_total_length) total_bits_ = value, has_total_ = true;
    if (r & ctf_role::packet_content_length) content_bits_ = value, has_content_ = true;
    if (r & ctf_role::discarded_events) packet_.discarded = value, packet_.has_discarded = true;
    if (r & ctf_role::packet_sequence) packet_.sequence = value, packet_.has_sequence = true;
}

template <class Sink>
bool CtfCursor::walk(const CtfType& t, Sink& sink) {
    using Kind = CtfType::Kind;
    switch (t.kind) {
        case Kind::integer: {
            if (!align(t.align) || limit_ - at_ < t.length) return fail("a field goes beyond the packet");
            std::uint64_t v = bits(at_, t.length, t.big_endian != t.reversed);
            if (t.reversed) {
                std::uint64_t other = 0;
                for (unsigned i = 0; i < t.length; ++i) other |= (v >> i & 1) << (t.length - 1 - i);
                v = other;
            }
            at_ += t.length;
            if (t.is_signed && t.length < 64 && (v >> (t.length - 1) & 1) != 0) v |= ~std::uint64_t{0} << t.length;
            slots_[static_cast<std::size_t>(t.slot)] = static_cast<std::int64_t>(v);
            if (t.roles != 0) role(t, v);
            sink.integer(t, static_cast<std::int64_t>(v));
            return true;
        }
        case Kind::varint: {
            std::int64_t v = 0;
            if (!align(8) || !varint(v, t.is_signed)) return fail("a number of variable length has no end");
            slots_[static_cast<std::size_t>(t.slot)] = v;
            if (t.roles != 0) role(t, static_cast<std::uint64_t>(v));
            sink.integer(t, v);
            return true;
        }
        case Kind::real: {
            if (!align(t.align) || limit_ - at_ < t.length) return fail("a field goes beyond the packet");
            const std::uint64_t v = bits(at_, t.length, t.big_endian);
            at_ += t.length;
            double value = 0;
            if (t.length == 64) {
                value = std::bit_cast<double>(v);
            } else if (t.length == 32) {
                value = static_cast<double>(std::bit_cast<float>(static_cast<std::uint32_t>(v)));
            } else {
                const int exponent = static_cast<int>(v >> 10 & 31);
                const double mantissa = static_cast<double>(v & 1023) / 1024.0;
                value = exponent == 0 ? mantissa * 0x1p-14 : (1 + mantissa) * __builtin_ldexp(1.0, exponent - 15);
                if ((v >> 15 & 1) != 0) value = -value;
            }
            slots_[static_cast<std::size_t>(t.slot)] = static_cast<std::int64_t>(v);
            sink.real(value);
            return true;
        }
        case Kind::string: {
            if (!align(8)) return fail("a text goes beyond the packet");
            const std::uint64_t from = at_ / 8, most = (limit_ - at_) / 8;
            const auto* end =
                static_cast<const std::uint8_t*>(most == 0 ? nullptr : std::memchr(data_ + from, 0, most));
            if (end == nullptr) return fail("a text has no end in the packet");
            const std::uint64_t length = static_cast<std::uint64_t>(end - (data_ + from));
            if (length >= 1u << 24 || from >= std::uint64_t{1} << 40) return fail("a text is too long");
            slots_[static_cast<std::size_t>(t.slot)] = static_cast<std::int64_t>(from | length << 40);
            at_ += (length + 1) * 8;
            sink.text({reinterpret_cast<const char*>(data_) + from, length});
            return true;
        }
        case Kind::structure:
            if (t.fields.empty()) return true;
            if (!align(t.align)) return fail("a structure goes beyond the packet");
            sink.open(t);
            for (const auto& f : t.fields) {
                sink.name(f.name);
                if (!walk(f.type, sink)) return false;
            }
            sink.close(t);
            return true;
        case Kind::array:
        case Kind::sequence: {
            const std::uint64_t n = t.kind == Kind::array
                                        ? t.count
                                        : static_cast<std::uint64_t>(slots_[static_cast<std::size_t>(t.selector)]);
            if (n > kMostElements) return fail("a list claims more elements than can be");
            if (!align(t.align)) return fail("a list goes beyond the packet");
            const CtfType& element = t.fields[0].type;
            if (t.text || t.blob) {
                if (!align(8) || (limit_ - at_) / 8 < n) return fail("a list goes beyond the packet");
                const std::uint64_t from = at_ / 8;
                std::uint64_t length = n;
                if (t.text)
                    if (const void* zero = n == 0 ? nullptr : std::memchr(data_ + from, 0, n))
                        length = static_cast<std::uint64_t>(static_cast<const std::uint8_t*>(zero) - (data_ + from));
                slots_[static_cast<std::size_t>(t.slot)] =
                    static_cast<std::int64_t>(from | std::min<std::uint64_t>(length, (1u << 24) - 1) << 40);
                at_ += n * 8;
                if (t.text)
                    sink.text({reinterpret_cast<const char*>(data_) + from, length});
                else
                    sink.blob({data_ + from, n});
                return true;
            }
            sink.open(t);
            for (std::uint64_t i = 0; i < n; ++i) {
                const std::uint64_t before = at_;
                if (!walk(element, sink)) return false;
                if (at_ == before && n > 4096) return fail("a list of nothing is too long");
            }
            sink.close(t);
            return true;
        }
        case Kind::variant: {
            const CtfField* f = option(t);
            if (f == nullptr) return fail("a variant has no option for its selector");
            slots_[static_cast<std::size_t>(t.slot)] = f - t.fields.data();
            return walk(f->type, sink);
        }
        case Kind::optional: {
            const auto chosen = slots_[static_cast<std::size_t>(t.selector)];
            bool there = false;
            for (const auto& r : t.presence)
                there = there || (chosen >= r.low && chosen <= r.high) ||
                        (static_cast<std::uint64_t>(chosen) >= static_cast<std::uint64_t>(r.low) &&
                         static_cast<std::uint64_t>(chosen) <= static_cast<std::uint64_t>(r.high));
            return !there || walk(t.fields[0].type, sink);
        }
    }
    return false;
}

template <class Sink>
bool CtfCursor::next(Sink& sink) {
    if (*trouble_ != 0 || at_ >= limit_) return false;
    const CtfStreamClass& stream = metadata_.streams[packet_.stream_class];
    if (!align(stream.event_header.align) || at_ >= limit_) return false;
    const std::uint64_t before = at_;
    began_ = at_;
    in_event_ = true;
    event_class_id_ = 0;
    Silent silent;
    if (!walk(stream.event_header, silent)) return false;
    const auto found = stream.events.size() == 1 && stream.event_header.fields.empty()
                           ? stream.events.begin()
                           : stream.events.find(event_class_id_);
    if (found == stream.events.end()) return fail("an event has a number that the metadata does not know");
    event_ = found->second;
    const CtfEventClass& event = metadata_.events[event_];
    if (!walk(stream.event_context, sink) || !walk(event.context, sink) || !walk(event.payload, sink)) return false;
    if (at_ == before) return fail("events of no length");
    return true;
}

/// An event record as "task=3 reason=mutex object=1", for people; payload and contexts, without the header.
class CtfText {
  public:
    std::string out;

    void name(const std::string& n) { name_ = n; }
    void integer(const CtfType& t, std::int64_t v);
    void real(double v);
    void text(std::string_view v);
    void blob(std::span<const std::uint8_t> v);
    void open(const CtfType& t);
    void close(const CtfType& t);

  private:
    void put(const std::string& v);
    std::string name_;
    unsigned depth_ = 0;
    std::vector<char> in_list_;
};

/// The label that an enumeration gives to `v`, or empty.
const std::string& ctf_label(const CtfType& t, std::int64_t v);

}  // namespace mt
