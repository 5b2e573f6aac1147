// Any window of packets, decoded again from the nearest checkpoint when somebody looks at it.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "flow/local_time.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// The packets between two checkpoints of one stream.
struct PacketBlock {
    std::vector<TimedPacket> packets;
    std::uint64_t first_packet = 0, first_event = 0;  ///< rows before this block
    std::uint64_t bytes_from = 0;                     ///< unframed offset of unframed[0]; only with frames
    std::vector<std::uint8_t> unframed;
    std::span<const std::uint8_t> bare;  ///< the whole stream where there are no frames

    /// The packet's bytes in the unframed stream, at most 16 of them.
    std::span<const std::uint8_t> bytes_of(const ItmPacket& packet) const;
};

/// Decodes the packets after checkpoint `block` again. REQUIRES: block < checkpoints.size().
PacketBlock decode_block(const Recording& recording, const Trail& trail, std::size_t stream, std::size_t block);

/// The raw offset to which a block reaches: the next checkpoint, or what has been read by now.
std::uint64_t block_end(const StreamTrail& stream, std::size_t block);
/// The block that holds row `row` of all packets (or of events only). REQUIRES: row < the count.
std::size_t block_of_packet(const StreamTrail& stream, std::uint64_t row);
std::size_t block_of_event(const StreamTrail& stream, std::uint64_t row);
/// The block in which the stream's time reaches `t`.
std::size_t block_of_time(const StreamTrail& stream, Time t);

/// One event in words and numbers, as tables show it.
struct EventText {
    std::string kind;    ///< short name, for machines
    std::string label;   ///< for people: "entered", "port written"
    std::string name;    ///< exception, port, variable or function
    std::string number;  ///< exception, port or comparator; may be empty
    std::string value;   ///< as the target file types it; may be empty
};
EventText event_text(const Recording& recording, std::size_t stream, const ItmPacket& packet);
/// "packet kind" for people: "local timestamp".
std::string packet_label(ItmKind kind);

}  // namespace mt
