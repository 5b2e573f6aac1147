// ITM and DWT packets of Arm M-profile cores: bytes to packets.
// Armv7-M Architecture Reference Manual (DDI 0403E), appendix D4 "Debug ITM and DWT Packet Protocol";
// Armv8-M Architecture Reference Manual (DDI 0553B), chapter F1 "ITM and DWT packet protocol".
#pragma once

#include <array>
#include <bit>
#include <cstdint>
#include <cstring>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace mt {

enum class ItmKind : std::uint8_t {
    sync,           ///< D4.2.1: at least 47 zero bits and a one
    overflow,       ///< D4.2.3: the source lost packets here
    local_time_1,   ///< D4.2.4, format 1: value = timestamp counter ticks, number = TC
    local_time_2,   ///< D4.2.4, format 2: value = 1 to 6 ticks, synchronous
    global_time_1,  ///< D4.2.5: value = the low 7 * size bits (26 with size 4), bits above as before; number bit 0 =
                    ///< clock changed, bit 1 = wrapped
    global_time_2,  ///< D4.2.5: value = bits 63:26 shifted down by 26
    page,           ///< D4.2.6: number = stimulus port page from here on
    extension,      ///< D4.2.6: any other extension; number = 1 for the hardware source, value = EX
    port,           ///< D4.2.8: number = stimulus port 0..255, size 1, 2 or 4
    counter,        ///< D4.3.1: value = which of the six event counters wrapped
    exc_enter,      ///< D4.3.2: number = exception
    exc_exit,       ///< D4.3.2
    exc_return,     ///< D4.3.2: number = exception returned to, 0 for thread mode
    pc,             ///< D4.3.3: value = sampled program counter
    sleep,          ///< D4.3.3: sampled while the core slept
    pc_prohibited,  ///< F1 (v8-M): sampling was not allowed at this moment
    pmu_overflow,   ///< F1 (v8.1-M): value = which performance counters overflowed
    data_match,     ///< F1 (v8-M): number = comparator that matched
    data_pc,        ///< D4.3.4: number = comparator, value = program counter of the access
    data_offset,    ///< D4.3.4: number = comparator, value = address bits 15:0
    data_read,      ///< D4.3.4: number = comparator, size 1, 2 or 4
    data_write,     ///< D4.3.4
    damage,         ///< bytes that are no packet; number = ItmDamage; length = bytes given up
};
inline constexpr std::size_t kItmKinds = static_cast<std::size_t>(ItmKind::damage) + 1;

/// Why a stretch of bytes was given up.
enum class ItmDamage : std::uint16_t {
    no_sync_yet,
    reserved_header,
    bad_sync,
    bad_timestamp,
    bad_extension,
    bad_exception,
    bad_sample,
    bad_counter,
    cut_short,
    source_lost,
    not_received
};

/// One packet. `offset` and `length` are in bytes of the unframed stream.
struct ItmPacket {
    std::uint64_t offset = 0;
    std::uint64_t value = 0;
    std::uint64_t length = 0;
    std::uint16_t number = 0;
    ItmKind kind = ItmKind::sync;
    std::uint8_t size = 0;  ///< payload bytes of port, data and sample packets
};

/// The short name used in tables and on the command line: "exc_enter".
std::string_view itm_kind_name(ItmKind kind);
/// "reserved packet header", ready to stand after "gap: ".
std::string_view itm_damage_text(ItmDamage reason);
/// The packet's fields in words: "comparator 2, 1 byte = 0x04".
std::string itm_detail(const ItmPacket& packet);
/// True for what happened on the target (rather than what only carries the protocol).
constexpr bool itm_is_event(ItmKind k) {
    return k == ItmKind::overflow || k == ItmKind::damage || k == ItmKind::extension || k >= ItmKind::port;
}

/// A copyable decoder: a copy taken between two calls of `feed` is a checkpoint from which decoding
/// can go on. Never fails: what cannot be a packet becomes one `damage` packet that reaches to the
/// next synchronisation. One thread at a time.
class ItmDecoder {
  public:
    enum class Start {
        at_sync,  ///< bytes before the first synchronisation are given up (the rule)
        at_once,  ///< the stream holds no synchronisation at all: trust the first byte, and go on
                  ///< at the very next byte after damage
    };
    explicit ItmDecoder(Start start = Start::at_sync) : start_(start), hunting_(start == Start::at_sync) {}

    /// Decodes `bytes`, which follow what was fed before, and appends whole packets to `out`. A packet
    /// cut by the end of `bytes` is kept until more comes. Stops once `out` holds `most`: gives how many bytes it
    /// took; all, if it did not stop.
    std::size_t feed(std::span<const std::uint8_t> bytes, std::vector<ItmPacket>& out,
                     std::size_t most = ~std::size_t{0});
    /// True if the next byte begins a packet.
    bool between_packets() const { return !hunting_ && !in_zeros_ && held_size_ == 0; }
    /// The packet that begins at p, if it is of a frequent kind and as it should be: gives its length, and leaves its
    /// offset open; 0 if `feed` must look at it. Timestamps are none of these. REQUIRES: between_packets(), and
    /// kPlainBytes readable bytes.
    std::size_t plain(const std::uint8_t* p, ItmPacket& packet) const;
    /// The same for a local timestamp (D4.2.4).
    static std::size_t plain_time(const std::uint8_t* p, ItmPacket& packet);
    static constexpr std::size_t kPlainBytes = 5;
    /// Takes `bytes` bytes as decoded elsewhere, by `plain`. REQUIRES: between_packets().
    void pass(std::size_t bytes) { position_ += bytes; }
    /// Tells that bytes are missing here (a formatter lost its frame, a connection was lost): gives up to
    /// the next sync.
    void lose_source(std::vector<ItmPacket>& out, ItmDamage reason = ItmDamage::source_lost);
    /// The end of the stream: reports what is left over as damage.
    void finish(std::vector<ItmPacket>& out);
    /// Bytes fed so far.
    std::uint64_t position() const { return position_; }

  private:
    std::size_t parse(const std::uint8_t* p, std::size_t n, std::uint64_t offset, std::vector<ItmPacket>& out,
                      std::size_t most);
    std::size_t packet(const std::uint8_t* p, std::size_t n, std::uint64_t offset, std::vector<ItmPacket>& out);
    void give_up(std::uint64_t offset, std::uint64_t bytes, ItmDamage reason, std::vector<ItmPacket>& out);

    Start start_;
    bool hunting_;
    bool in_zeros_ = false;
    std::uint8_t page_ = 0;
    std::uint8_t held_size_ = 0;
    ItmDamage reason_ = ItmDamage::no_sync_yet;
    std::array<std::uint8_t, 8> held_{};
    std::uint64_t zeros_ = 0, zeros_at_ = 0, damage_at_ = 0, position_ = 0;
};

// Run for nearly every packet: inlined where packets are taken.

/// By number and function << 9, which exception packets `plain` knows: `damage` for all others.
inline constexpr std::array<ItmKind, 2048> kUsualExceptions = [] {
    std::array<ItmKind, 2048> all{};
    all.fill(ItmKind::damage);
    for (unsigned function = 1; function <= 3; ++function)
        for (unsigned number = 0; number < 512; ++number)
            if (number >= 14 || number == 11 || (number == 0 && function == 3))
                all[number | function << 9] =
                    static_cast<ItmKind>(static_cast<unsigned>(ItmKind::exc_enter) + function - 1);
    return all;
}();

inline std::size_t ItmDecoder::plain(const std::uint8_t* p, ItmPacket& k) const {
    const std::uint8_t header = p[0];
    k.value = 0;
    if (header == 0x0E) {  // D4.3.2
        const unsigned both = p[1] | static_cast<unsigned>(p[2]) << 8;
        k.kind = kUsualExceptions[(both & 0x1FF) | (both >> 3 & 0x600)];
        if ((both & 0xCE00) != 0 || k.kind == ItmKind::damage) return 0;
        k.number = static_cast<std::uint16_t>(both & 0x1FF);
        k.size = 2;
        return k.length = 3;
    }
    if (header == 0x15 && p[1] == 0) {  // D4.3.3
        k.kind = ItmKind::sleep;
        k.number = 0;
        k.size = 1;
        return k.length = 2;
    }
    if ((header & 3) == 0) return 0;
    std::uint32_t word = 0;
    std::memcpy(&word, p + 1, 4);
    k.size = (header & 3) == 3 ? 4 : header & 3;
    k.value = word & (~std::uint32_t{0} >> (32 - 8 * k.size));
    const unsigned id = header >> 3;
    if ((header & 4) == 0) {  // D4.2.8
        k.kind = ItmKind::port;
        k.number = static_cast<std::uint16_t>(page_ * 32u + id);
    } else if (header == 0x17 && (word & 1) == 0) {  // D4.3.3
        k.kind = ItmKind::pc;
        k.number = 0;
    } else if (id >= 16 && id <= 23) {  // D4.3.4
        k.kind = (id & 1) != 0 ? ItmKind::data_write : ItmKind::data_read;
        k.number = static_cast<std::uint16_t>(id >> 1 & 3);
    } else {
        return 0;
    }
    return k.length = 1u + k.size;
}

inline std::size_t ItmDecoder::plain_time(const std::uint8_t* p, ItmPacket& k) {
    const std::uint8_t header = p[0];
    if ((header & 0xCF) == 0xC0) {
        // Four bytes at once: the first without the bit that says that more follow ends the timestamp.
        std::uint32_t word = 0;
        std::memcpy(&word, p + 1, 4);
        const std::uint32_t ends = ~word & 0x8080'8080u;
        if (ends == 0) return 0;
        const std::uint32_t used = word & (ends ^ (ends - 1)) & 0x7F7F'7F7F;
        const std::uint32_t pairs = (used & 0x007F'007F) | (used & 0x7F00'7F00) >> 1;  // 14 bits each
        k.kind = ItmKind::local_time_1;
        k.number = header >> 4 & 3;
        k.value = (pairs & 0x3FFF) | (pairs >> 2 & 0xFFF'C000);
        k.size = static_cast<std::uint8_t>((static_cast<unsigned>(std::countr_zero(ends)) + 1) / 8);
        return k.length = 1u + k.size;
    }
    if ((header & 0x8F) != 0 || header == 0 || header == 0x70) return 0;
    k.kind = ItmKind::local_time_2;
    k.value = header >> 4;
    k.number = 0;
    k.size = 0;
    return k.length = 1;
}

}  // namespace mt
