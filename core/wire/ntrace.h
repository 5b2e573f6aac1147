// RISC-V N-Trace: bytes to messages. RISC-V N-Trace (Nexus-based Trace) Specification 1.0, chapters 4 (slices and
// fields) and 5 (messages); IEEE-ISTO 5001 for the transport.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "target/protocol_parameters.h"
#include "wire/source_ids.h"

namespace mt {

/// Message kinds by their TCODE.
enum class NtraceKind : std::uint8_t {
    ownership = 2,
    direct_branch = 3,
    indirect_branch = 4,
    data_acquisition = 7,
    error = 8,
    sync = 9,
    direct_branch_sync = 11,
    indirect_branch_sync = 12,
    resource_full = 27,
    history = 28,
    history_sync = 29,
    repeat = 30,
    correlation = 33,
    damage = 63,
};

enum class NtraceDamage : std::uint8_t {
    lead_in,
    unknown,
    too_long,
    short_of_fields,
    cut_short,
    reserved,
    not_received
};

struct NtraceMessage {
    std::uint64_t offset = 0;
    std::uint64_t address = 0;    ///< F-ADDR or U-ADDR as sent, shifted to a byte address
    std::uint64_t history = 0;    ///< HIST; RDATA of resource full; DQDATA; PROCESS; value of damage: reason
    std::uint64_t icount = 0;     ///< halfwords; B-CNT of repeat; HREPEAT of resource full
    std::uint64_t timestamp = 0;  ///< absolute with a SYNC field, else the difference to the message before
    std::uint32_t length = 0;     ///< bytes, without idle filling before it
    std::uint16_t source = 0;
    NtraceKind kind = NtraceKind::damage;
    std::uint8_t code = 0;  ///< B-TYPE, ETYPE, RCODE, EVCODE
    std::uint8_t sync = 0;  ///< SYNC: why it was sent
    bool has_timestamp = false, has_history = false;

    bool full_address() const {
        return kind == NtraceKind::sync || kind == NtraceKind::direct_branch_sync ||
               kind == NtraceKind::indirect_branch_sync || kind == NtraceKind::history_sync;
    }
};

/// What the field PROCESS of an ownership message tells (section 5, "Ownership": FORMAT of two bits, PRV of two, V of one,
/// CONTEXT of all others).
struct NtraceOwner {
    enum class Kind : std::uint8_t { privilege, reserved, process, machine } kind = Kind::privilege;  ///< what `context` is
    std::uint8_t privilege = 0;  ///< 0 user, 1 supervisor, 3 machine
    bool is_virtual = false;
    std::uint64_t context = 0;  ///< scontext of the process, hcontext of the virtual machine
};
constexpr NtraceOwner ntrace_owner(std::uint64_t process) {
    return {static_cast<NtraceOwner::Kind>(process & 3), static_cast<std::uint8_t>(process >> 2 & 3), (process >> 4 & 1) != 0, process >> 5};
}

/// Puts together messages from bytes of six MDO bits above two MSEO bits. Copyable: a copy is a checkpoint. One
/// thread at a time. Messages that make no sense are damage up to their end.
class NtraceDecoder {
  public:
    explicit NtraceDecoder(const NtraceParameters& parameters) : parameters_(parameters), sources_(parameters.src_id) {}
    void feed(std::span<const std::uint8_t> bytes, std::vector<NtraceMessage>& out);
    void finish(std::vector<NtraceMessage>& out);
    /// Bytes are missing in the source at this place.
    void lose_source(std::vector<NtraceMessage>& out);
    std::uint64_t position() const { return position_; }
    /// What other sources sent in this stream.
    const SourceIds& sources() const { return sources_; }

  private:
    void message(std::span<const std::uint8_t> slices, std::uint64_t offset, std::vector<NtraceMessage>& out);

    NtraceParameters parameters_;
    SourceIds sources_;
    std::vector<std::uint8_t> held_;
    std::uint64_t position_ = 0;
    bool skipping_ = false;  ///< up to the end of a message that is too long to be one
};

std::string_view ntrace_kind_name(NtraceKind kind);
std::string_view ntrace_damage_text(NtraceDamage reason);
std::string ntrace_detail(const NtraceMessage& message);

}  // namespace mt
