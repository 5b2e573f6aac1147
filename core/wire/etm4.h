// Embedded Trace Macrocell version 4, instruction trace: bytes to packets.
// Arm Embedded Trace Macrocell Architecture Specification ETMv4 (IHI 0064), chapter 6 (descriptions of trace
// packets); the numbers in comments are its sections.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "target/protocol_parameters.h"
#include "wire/atoms_together.h"

namespace mt {

enum class Etm4Kind : std::uint8_t {
    async,             ///< 6.4.1 alignment synchronisation
    trace_info,        ///< 6.4.2
    trace_on,          ///< 6.4.3
    discard,           ///< 6.4.4
    overflow,          ///< 6.4.5
    timestamp,         ///< 6.4.6
    exception,         ///< 6.4.7; its address is the next packet's
    exception_return,  ///< 6.4.8
    function_return,   ///< 6.4.9 (Armv8-M)
    cycles,            ///< 6.4.10
    commit,
    cancel,  ///< `count` P0 elements taken back, then perhaps `mispredict`, then atoms
    mispredict,
    context,
    address,
    atoms,
    q,
    event,
    other,  ///< data synchronisation markers and what else changes nothing in the flow
    damage,
};
inline constexpr std::size_t kEtm4Kinds = 20;

enum class Etm4Damage : std::uint8_t { no_sync_yet, reserved, too_long, cut_short, not_received };

struct Etm4Packet {
    std::uint64_t offset = 0;
    std::uint64_t address = 0;  ///< of the address in this packet
    std::uint64_t assumed = 0;  ///< bits of a timestamp that stand for those of the one before, which is not known
    std::uint64_t value = 0;    ///< timestamp; cycles; reason of damage; Q's instructions
    std::uint64_t atoms = 0;    ///< bit 0 first; 1 is E (taken)
    std::uint32_t length = 0;
    std::uint32_t count = 0;  ///< atoms; P0 elements committed or cancelled
    std::uint32_t context_id = 0, virtual_id = 0;
    std::uint16_t exception = 0;  ///< type as sent
    Etm4Kind kind = Etm4Kind::damage;
    std::uint8_t sent = 64;  ///< of a timestamp: so many of its lowest bits; the others stand as they stood before
    std::uint8_t ends = 0;   ///< exception: E1:E0, 1 = address is the return address, 2 = also a branch's target
    std::uint8_t level = 0;  ///< exception level, with has_context
    bool has_virtual = false;  ///< virtual_id was told, with has_context
    bool has_address = false, has_context = false, has_cycles = false, mispredicted = false, known = true,
         return_pending = false;

    // Packets of atoms, a byte each, may be told together: `value` holds how many atoms each of them has.
    /// So many packets it stands for.
    std::uint32_t packets() const { return kind == Etm4Kind::atoms ? length : 1; }
    /// Where the packet stands that holds an atom.
    std::uint64_t offset_of(std::uint32_t atom) const { return offset + AtomSizes::packet_of(value, atom); }
};

/// The M-profile exception number of an exception packet's type (6.4.7, table for Armv7-M and Armv8-M); nothing
/// for debug halts and other events that are no exceptions.
int etm4_exception_number(unsigned type);
inline constexpr unsigned kEtm4DebugHalt = 0x18;  ///< M-profile
inline constexpr unsigned kEtm4HaltType = 1;      ///< A and R profile

/// Finds packets in the bytes of one trace unit. Bytes before the first synchronisation, and from one that can be
/// no packet to the next synchronisation, are damage. Copyable: a copy is a checkpoint. One thread at a time.
class Etm4Decoder {
  public:
    explicit Etm4Decoder(const Etm4Parameters& parameters) : parameters_(parameters) {}

    /// Takes bytes that follow those before; appends whole packets to `out`. With `full`, which is called now and then
    /// and may take them away, packets of atoms are told together where they follow each other.
    void feed(std::span<const std::uint8_t> bytes, std::vector<Etm4Packet>& out,
              const std::function<void()>& full = {});
    void finish(std::vector<Etm4Packet>& out);
    /// Bytes are missing in the source at this place.
    void lose_source(std::vector<Etm4Packet>& out);
    std::uint64_t position() const { return position_; }

    /// Where the next synchronisation from `from` on begins.
    std::optional<std::size_t> find_entry(std::span<const std::uint8_t> bytes, std::size_t from) const;
    /// So many bytes came before. REQUIRES: nothing was fed yet.
    void begin_at(std::uint64_t position) { position_ = damage_at_ = position; }
    /// The upper bits of the timestamp are not known: packets may leave them out.
    void entered() { assumed_ = ~std::uint64_t{0} & ~stamped_; }
    /// Whether both stand between the same two packets and take apart the same way what comes, apart from what
    /// continue_from puts right.
    bool agrees(const Etm4Decoder& o) const;
    void continue_from(const Etm4Decoder& before) {
        timestamp_ |= before.timestamp_ & assumed_;
        assumed_ &= before.assumed_;
    }
    std::uint64_t last_stamp() const { return timestamp_; }

  private:
    struct Address {
        std::uint64_t at = 0;
        bool thumb = false;  ///< instruction set 1
        bool operator==(const Address&) const = default;
    };
    std::size_t parse(std::span<const std::uint8_t> bytes, std::uint64_t offset, std::vector<Etm4Packet>& out,
                      const std::function<void()>& full);
    std::size_t one(std::span<const std::uint8_t> bytes, Etm4Packet& p);
    std::size_t extension(std::span<const std::uint8_t> bytes, Etm4Packet& p);
    std::size_t info(std::span<const std::uint8_t> bytes, Etm4Packet& p);
    std::size_t take_address(std::span<const std::uint8_t> bytes, unsigned form, Etm4Packet& p);
    std::size_t take_context(std::span<const std::uint8_t> bytes, Etm4Packet& p);
    void remember(Etm4Packet& p, Address a);

    Etm4Parameters parameters_;
    std::array<Address, 3> recent_{};  ///< addresses sent last, newest first
    std::uint64_t timestamp_ = 0;
    std::uint64_t assumed_ = 0;  ///< bits of it that are not known
    std::uint64_t stamped_ = 0;  ///< bits that were sent since the beginning
    unsigned threshold_ = 0;
    bool threshold_known_ = false;
    std::uint32_t context_id_ = 0, virtual_id_ = 0;
    std::vector<std::uint8_t> held_;
    std::uint64_t position_ = 0;
    bool hunting_ = true;
    unsigned zeros_ = 0;  ///< while hunting
    std::uint64_t damage_at_ = 0;
    Etm4Damage reason_ = Etm4Damage::no_sync_yet;
};

std::string_view etm4_kind_name(Etm4Kind kind);
std::string_view etm4_damage_text(Etm4Damage reason);
std::string etm4_detail(const Etm4Packet& packet);

}  // namespace mt
