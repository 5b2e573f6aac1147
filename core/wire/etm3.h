// Embedded Trace Macrocell version 3: bytes to packets.
// Arm Embedded Trace Macrocell Architecture Specification, ETMv1.0 to ETMv3.5 (IHI 0014Q), chapter 7; the numbers in
// comments are its sections.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "target/protocol_parameters.h"
#include "wire/synced_packets.h"

namespace mt {

enum class Etm3Kind : std::uint8_t {
    async,            ///< alignment synchronisation
    isync,            ///< address, state and why tracing is on
    atoms,            ///< P-header: instructions executed, each with or without its condition
    branch,           ///< where an instruction led, or an exception
    cycles,           ///< cycle count
    context,          ///< context ID
    virtual_machine,  ///< VMID
    timestamp,
    exception_exit,   ///< M-profile: a handler returned
    exception_entry,  ///< M-profile, with data trace alone
    data,             ///< data trace
    trigger,
    ignore,
    damage,
};
inline constexpr std::size_t kEtm3Kinds = 14;

struct Etm3Packet {
    static constexpr std::uint16_t kNone = 0xFFFF;
    enum class Reason : std::uint8_t { periodic, enabled, overflow, debug_exit };
    using Set = SentSet;

    std::uint64_t offset = 0;
    std::uint64_t value = 0;    ///< timestamp; context ID; data; reason of damage; AtomSizes
    std::uint64_t assumed = 0;  ///< bits of a timestamp that nobody told
    std::uint64_t atoms = 0;    ///< bit 0 first; 1: its condition held
    std::uint32_t address = 0;  ///< of instructions; of data, if has_address
    std::uint32_t start = 0;    ///< of an isync within a load or store that was still going on: where that stands
    std::uint32_t length = 0;
    std::uint32_t cycles = 0;
    std::uint16_t exception = kNone;  ///< type as sent
    Etm3Kind kind = Etm3Kind::damage;
    Reason reason = Reason::periodic;
    Set set = Set::arm;
    std::uint8_t count = 0;   ///< atoms; bytes of data
    std::uint8_t sent = 64;
    bool known = true;        ///< the address is whole, or those before it were
    bool has_cycles = false, has_address = false, has_start = false, non_secure = false, cancels = false, has_context = false;

    /// So many packets it stands for.
    std::uint32_t packets() const { return kind == Etm3Kind::atoms ? length : 1; }
    /// Where the packet stands that holds an atom.
    std::uint64_t offset_of(std::uint32_t atom) const { return offset + AtomSizes::packet_of(value, atom); }
};

/// The M-profile exception number of the type in a branch packet (7.4.4); nothing (-1) for those that are none.
int etm3_exception_number(unsigned type);

/// Copyable: a copy is a checkpoint. One thread at a time.
class Etm3Decoder : public SyncedPackets<Etm3Decoder, Etm3Packet> {
  public:
    /// `m_profile`: Thumb alone, and exceptions as those number them.
    Etm3Decoder(const Etm3Parameters& parameters, bool m_profile);

    void entered() { stamp_.entered(); }
    bool agrees(const Etm3Decoder& o) const {
        return stands_as(o) && address_ == o.address_ && set_ == o.set_ && known_ == o.known_ && data_address_ == o.data_address_ &&
               stamp_.agrees(o.stamp_);
    }
    void continue_from(const Etm3Decoder& before) { stamp_.continue_from(before.stamp_); }
    std::uint64_t last_stamp() const { return stamp_.at(); }

  private:
    friend class SyncedPackets<Etm3Decoder, Etm3Packet>;
    using Bytes = std::span<const std::uint8_t>;
    std::size_t one(Bytes bytes, Etm3Packet& p);
    Atoms plain(std::uint8_t header) const { return plain_ != nullptr ? plain_[header] : Atoms{}; }
    void synced() { known_ = false; }
    std::size_t isync(Bytes bytes, Etm3Packet& p);
    std::size_t branch(Bytes bytes, std::size_t at, Etm3Packet& p);
    std::size_t exception(Bytes bytes, std::size_t at, Etm3Packet& p) const;
    std::size_t data(Bytes bytes, Etm3Packet& p);
    std::size_t atoms(std::uint8_t header, Etm3Packet& p) const;

    Etm3Parameters parameters_;
    const Atoms* plain_ = nullptr;  ///< by the header; null: cycles are told with each packet
    bool m_profile_;
    PartialStamp stamp_;
    std::uint32_t address_ = 0, data_address_ = 0;
    Etm3Packet::Set set_ = Etm3Packet::Set::arm;
    bool known_ = false;  ///< address_ and set_
};

std::string_view etm3_kind_name(Etm3Kind kind);
std::string etm3_detail(const Etm3Packet& packet);

}  // namespace mt
