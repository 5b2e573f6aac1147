// What the metadata of a Common Trace Format trace says: field types, clocks, stream and event classes.
// CTF 1.8.3 sections 4 to 7 and CTF 2.0 (CTF2-SPEC-2.0) section 5. Plain data once read; any thread may use it.
#pragma once

#include <cstdint>
#include <limits>
#include <map>
#include <string>
#include <vector>

namespace mt {

/// What a field means to the reader, as a set of bits (CTF 2.0, 5.3 "roles"; in 1.8 by the field's name).
namespace ctf_role {
enum : std::uint16_t {
    packet_magic = 1,
    stream_class_id = 2,
    stream_id = 4,
    event_class_id = 8,
    timestamp = 16,
    packet_end_timestamp = 32,
    packet_total_length = 64,
    packet_content_length = 128,
    discarded_events = 256,
    packet_sequence = 512,
    trace_uuid = 1024
};
}

struct CtfField;

/// One field type with everything below it. Copies are deep: aliases in the metadata become copies.
struct CtfType {
    enum class Kind : std::uint8_t {
        integer,  ///< fixed length, 1 to 64 bits; also booleans, bit maps and enumerations
        varint,   ///< variable length (LEB128, CTF 2.0 section 6.3.4)
        real,     ///< IEEE 754 of 16, 32 or 64 bits
        string,   ///< ends with a zero
        structure,
        array,     ///< `count` elements
        sequence,  ///< as many elements as the field at `selector` says
        variant,   ///< the option that the field at `selector` chooses
        optional   ///< there or not, as the field at `selector` says
    };
    Kind kind = Kind::integer;
    bool is_signed = false, big_endian = false, reversed = false;
    bool text = false;  ///< an array or sequence of bytes that is text
    bool blob = false;  ///< an array or sequence of bytes that is data
    std::uint8_t base = 10;
    unsigned length = 8;  ///< bits of an integer or real
    unsigned align = 1;   ///< bits
    std::uint64_t count = 0;
    std::uint16_t roles = 0;
    int clock = -1;  ///< index of the clock that this integer is a value of, or -1
    struct Range {
        std::int64_t low = 0, high = 0;  ///< compared as signed or unsigned, as the integer is
    };
    struct Label {
        std::string name;
        std::vector<Range> ranges;
    };
    std::vector<Label> labels;      ///< of an enumeration
    std::vector<CtfField> fields;   ///< members, options, or the one element
    std::vector<std::string> path;  ///< selector or length as the metadata names it; "" climbs to the parent
    std::string origin;             ///< scope of that path (CTF 2.0 names); empty: relative to this field
    std::vector<Range> presence;    ///< of an optional: selector values with which it is there
    int selector = -1;              ///< slot of the selector or length, once resolved
    int slot = -1;                  ///< where the value is left when read, once resolved
};

/// Types, members and labels of it, itself included.
std::size_t ctf_type_size(const CtfType& type);
/// How many of these copies of aliases may make in one metadata: real ones need some thousands.
inline constexpr std::size_t kMostCtfCopies = std::size_t{1} << 17;

struct CtfField {
    std::string name;
    std::vector<CtfType::Range> ranges;  ///< as a variant's option: the selector's values (CTF 2.0)
    CtfType type;
};

struct CtfClock {
    std::string name, description, origin;
    std::uint64_t hz = 1'000'000'000;
    std::int64_t offset_seconds = 0;
    std::uint64_t offset_cycles = 0;
};

struct CtfEventClass {
    std::uint64_t id = 0;
    std::uint64_t stream_class = 0;
    std::string name, space;
    CtfType context, payload;  ///< structures; empty if there is none
    unsigned slot_count = 0;   ///< how many slots a reader of this event needs in all
    unsigned line = 0;         ///< where it stands in the metadata text, from 1
};

struct CtfStreamClass {
    std::uint64_t id = 0;
    std::string name;
    CtfType packet_context, event_header, event_context;
    int clock = -1;                               ///< the default clock; -1 if there is none
    std::map<std::uint64_t, std::size_t> events;  ///< id to index in CtfMetadata::events
    unsigned slot_count = 0;
};

struct CtfMetadata {
    unsigned major = 1;
    std::string name;
    std::map<std::string, std::string> environment;
    std::vector<CtfClock> clocks;
    bool big_endian = false;
    bool has_uuid = false;
    std::uint8_t uuid[16] = {};
    CtfType packet_header;
    std::vector<CtfStreamClass> streams;
    std::vector<CtfEventClass> events;
    std::vector<std::string> warnings;  ///< what was left alone, one sentence each
    unsigned header_slots = 0, most_slots = 0;

    /// The stream class with this id, or null.
    const CtfStreamClass* stream(std::uint64_t id) const {
        for (const auto& s : streams)
            if (s.id == id) return &s;
        return nullptr;
    }
};

}  // namespace mt
