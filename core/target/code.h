// The program as instruction trace sees it: for every halfword of code, what the instruction there does to
// the flow, and where the straight run that begins there ends. Filled once; walking costs per run, not per
// instruction.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "target/image.h"

namespace mt {

/// Instruction sets, as addresses and the core's state choose between them.
enum class Isa : std::uint8_t { thumb, arm, a64, rv32, rv64 };
/// The one in which a core of this `isa` (of the target file) begins; nothing if there is none of that name.
std::optional<Isa> isa_of(std::string_view isa);
/// Whether a core of it is one of M profile, as also where it is not stated.
inline bool is_m_profile(std::string_view isa) { return isa_of(isa).value_or(Isa::thumb) == Isa::thumb; }
constexpr bool is_riscv(Isa isa) { return isa == Isa::rv32 || isa == Isa::rv64; }
/// Bits of an address.
constexpr unsigned address_bits(Isa isa) { return isa == Isa::rv64 || isa == Isa::a64 ? 64 : 32; }

/// What an instruction does to the flow of the program.
enum class Flow : std::uint8_t {
    next,           ///< goes on with the one behind it
    branch,         ///< goes to `target` or on, told by the trace
    jump,           ///< goes to `target`
    call,           ///< goes to `target`, the way back is in the link register
    barrier,        ///< goes on, but trace counts it as a branch (Armv8-M ISB)
    indirect,       ///< goes where a register or memory says
    indirect_call,  ///< the same, with the way back in the link register
    ret,            ///< goes back to the caller
    trap,           ///< RISC-V ecall, ebreak: an exception follows
    trap_return,    ///< RISC-V mret, sret; Arm ERET
    none,           ///< no instruction: not code, cut off, or not known
};

/// Whether such an instruction stays in its function, as a rule.
inline bool goes_on(Flow f) { return f <= Flow::jump || f == Flow::barrier; }

/// One instruction, classified.
struct FlowInsn {
    enum Flag : std::uint8_t {
        kPush = 1,         ///< return address goes onto the return stack
        kPop = 2,          ///< taken from the return stack
        kConditional = 4,  ///< may fall through (Thumb: also by an IT block)
        kUpper = 8,        ///< RISC-V lui or auipc: may make the jump behind it inferable
        kIt = 16,          ///< Thumb IT: makes up to four behind it conditional
        kSleep = 32,       ///< waits for an interrupt or event (WFI, WFE; RISC-V wfi)
        kSleepAhead = 64,  ///< in slots: the straight run from here holds one that waits
    };
    Flow flow = Flow::none;
    std::uint8_t size = 2;  ///< bytes: 2 or 4
    std::uint8_t flags = 0;
    std::uint64_t target = 0;  ///< of branch, jump and call
};

/// Whether an instruction goes elsewhere or on as a condition says: a conditional branch, or a branch, call or return in
/// an IT block.
constexpr bool decides(Flow flow, std::uint8_t flags) {
    return flow == Flow::branch || ((flags & FlowInsn::kConditional) != 0 && flow != Flow::next &&
                                    flow != Flow::barrier && flow != Flow::none);
}

/// Classifies the RISC-V instruction at `address` (unprivileged ISA 2.5, 16.8 for compressed ones; trap returns:
/// privileged ISA 3.3.2). `bytes` reaches to the end of the code; `xlen` is 32 or 64.
FlowInsn riscv_flow(std::span<const std::uint8_t> bytes, std::uint64_t address, unsigned xlen);
/// Classifies the Thumb instruction at `address` (Armv7-M ARM A5.2, A5.3; Armv8-M BXNS and BLXNS; Armv7-A/R ARM A6.3 for
/// BLX to A32, BXJ, RFE).
FlowInsn thumb_flow(std::span<const std::uint8_t> bytes, std::uint64_t address);

/// Classifies the A32 instruction at `address` (Armv7-A/R ARM, DDI 0406C, A5).
FlowInsn arm_flow(std::span<const std::uint8_t> bytes, std::uint64_t address);
/// Classifies the A64 instruction at `address` (Armv8-A ARM, DDI 0487, C4.1.66: branches, exceptions, system).
FlowInsn a64_flow(std::span<const std::uint8_t> bytes, std::uint64_t address);

/// Immutable; any thread may read. Code is addressed by slots, one for each halfword; kNowhere is no slot.
class Code {
  public:
    static constexpr std::uint32_t kNowhere = 0;
    static constexpr std::uint64_t kMostCode = std::uint64_t{1} << 30;  ///< bytes; a halfword takes 16 bytes here

    /// Whether programs of such a core (`isa` as in the target file) can be followed.
    static bool can_follow(const std::string& isa);

    struct Slot {
        std::uint32_t last = 0;    ///< slot of the instruction that ends the straight run from here
        std::uint32_t count = 0;   ///< instructions from here to there, both counted
        std::uint32_t target = 0;  ///< slot of the branch's target; kNowhere if it has none or it is not code
        Flow flow = Flow::none;
        std::uint8_t size = 1;  ///< halfwords
        std::uint8_t flags = 0;
    };

    /// `isa` as in the target file. Code in sections that are executable; without sections, in such segments.
    static std::shared_ptr<const Code> of(const Image& image, const std::string& isa);
    /// The same from plain pieces of code (tests, code that changes).
    static std::shared_ptr<const Code> of(std::span<const Image::Piece> pieces, const std::string& isa);
    /// What stands in memory while a process has the core, by the number that trace tells of it (CONTEXTIDR,
    /// satp.ASID).
    struct Context {
        std::uint32_t number = 0;
        std::span<const Image::Piece> pieces;
        const Image* image = nullptr;  ///< that they are of, if there is one
    };
    /// The same with what processes see.
    static std::shared_ptr<const Code> of(const Image& image, std::span<const Context> contexts, const std::string& isa);
    /// What all see, and what each process sees: the same address may stand for several slots. Pieces of processes that
    /// all see are not taken twice.
    static std::shared_ptr<const Code> of(std::span<const Image::Piece> common, std::span<const Context> contexts,
                                          const std::string& isa);

    /// Whether a piece stands within another, byte for byte: then processes see what all see.
    static bool holds(const Image::Piece& piece, const Image::Piece& inner);

    const Slot& operator[](std::uint32_t slot) const { return slots_[slot]; }
    std::uint32_t slot_count() const { return static_cast<std::uint32_t>(slots_.size()); }
    /// In what all processes see. Bit 0 is ignored.
    std::uint32_t slot_of(std::uint64_t address) const {
        const Piece& p = pieces_[recent_(address)];
        return address - p.base < p.bytes ? p.first + static_cast<std::uint32_t>((address - p.base) / 2) : kNowhere;
    }
    /// Whether processes see code of their own.
    bool has_contexts() const { return pieces_.size() > common_; }
    /// In what the process of this number sees, its own first.
    std::uint32_t slot_in(std::uint32_t context, std::uint64_t address) const {
        for (std::size_t i = common_; i < pieces_.size(); ++i) {
            const Piece& p = pieces_[i];
            if (p.context == context && address - p.base < p.bytes)
                return p.first + static_cast<std::uint32_t>((address - p.base) / 2);
        }
        return slot_of(address);
    }
    /// The process that a slot belongs to; nothing if all see it.
    std::optional<std::uint32_t> context(std::uint32_t slot) const {
        const Piece& p = piece_of(slot);
        return &p - pieces_.data() < static_cast<std::ptrdiff_t>(common_) ? std::nullopt : std::optional(p.context);
    }
    std::uint64_t address(std::uint32_t slot) const;
    /// The slot behind the instruction in `slot`.
    std::uint32_t next(std::uint32_t slot) const { return slot + slots_[slot].size; }
    /// Among the instructions of a run, the one that waits; REQUIRES: kSleepAhead at `first`. kNowhere if it lies
    /// behind `last`.
    std::uint32_t sleep_in(std::uint32_t first, std::uint32_t last, std::uint32_t& nth) const {
        nth = 0;
        for (std::uint32_t s = first; s <= last; s = next(s), ++nth)
            if ((slots_[s].flags & FlowInsn::kSleep) != 0) return s;
        return kNowhere;
    }
    /// The instruction's bits; the upper half is 0 for 16-bit ones.
    std::uint32_t bits(std::uint32_t slot) const;
    /// The bytes of the slots from `first` up to `behind`, as far as they stand in one piece.
    std::span<const std::uint8_t> bytes_of(std::uint32_t first, std::uint32_t behind) const;
    /// The same for the same code at the same addresses, and hardly ever for other.
    std::uint64_t fingerprint() const;
    /// Of the instruction in a slot; pieces of code may be of different sets.
    Isa isa(std::uint32_t slot) const;
    /// Where the core begins.
    Isa isa() const { return isa_; }
    bool riscv() const { return is_riscv(isa_); }
    /// Bits of an address.
    unsigned xlen() const { return address_bits(isa_); }
    /// Bytes of code that are more than kMostCode, and so are not here.
    std::uint64_t left_out() const { return left_out_; }

  private:
    struct Piece {
        std::uint64_t base = 0, bytes = 0;
        std::uint32_t first = 0;
        std::uint32_t context = 0;
        Isa isa = Isa::thumb;
        std::vector<std::uint8_t> data;
    };
    static std::shared_ptr<Code> made(std::span<const Image::Piece> common, std::span<const Context> contexts,
                                      const std::string& isa, const Image* image);
    const Piece& piece_of(std::uint32_t slot) const;
    std::size_t recent_(std::uint64_t address) const {
        for (std::size_t i = 0; i + 1 < common_; ++i)
            if (address - pieces_[i].base < pieces_[i].bytes) return i;
        return common_ - 1;
    }
    void add(const Image::Piece& piece, std::uint32_t context);
    void mark_sets(const Image& image, std::optional<std::uint32_t> context);
    void finish();
    void finish_region(const Piece& piece, std::uint32_t from, std::uint32_t to, Isa isa);
    void mark_it_blocks(const Piece& piece, std::uint32_t from, std::uint32_t to);

    std::vector<Piece> pieces_;  ///< what all see, then what processes see
    std::size_t common_ = 0;     ///< so many of the first kind, at least one
    /// From a slot on stands code of another set than the core begins in, or data.
    struct Region {
        std::uint32_t first = 0;
        Isa isa = Isa::arm;
        bool data = false;
    };
    std::vector<Region> regions_;  ///< ascending; of cores that have several sets
    std::vector<Slot> slots_;
    std::uint64_t left_out_ = 0;
    Isa isa_ = Isa::thumb;
};

}  // namespace mt
