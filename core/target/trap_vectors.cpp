#include "target/trap_vectors.h"

#include <array>

namespace mt {
namespace {

using Known = std::array<std::optional<std::uint64_t>, 32>;

std::int64_t signed_bits(std::uint32_t value, unsigned bits) {
    const std::int64_t top = std::int64_t{1} << (bits - 1);
    return (static_cast<std::int64_t>(value) ^ top) - top;
}

std::optional<std::uint64_t> plus(const std::optional<std::uint64_t>& v, std::int64_t n) {
    return v ? std::optional(*v + static_cast<std::uint64_t>(n)) : std::nullopt;
}

// What one instruction makes of registers, as far as constants go (unprivileged ISA 2.4; 16.5 for compressed ones).
void execute(std::uint32_t bits, bool wide, std::uint64_t address, Known& x) {
    const unsigned rd = bits >> 7 & 31;
    if (wide) {
        const unsigned rs1 = bits >> 15 & 31;
        switch (bits & 0x7F) {
            case 0x37:  // lui
                x[rd] = static_cast<std::uint64_t>(signed_bits(bits >> 12, 20) * 4096);
                break;
            case 0x17:  // auipc
                x[rd] = address + static_cast<std::uint64_t>(signed_bits(bits >> 12, 20) * 4096);
                break;
            case 0x13:  // addi, ori; others of the group are not followed
                if ((bits >> 12 & 7) == 0)
                    x[rd] = plus(x[rs1], signed_bits(bits >> 20, 12));
                else if ((bits >> 12 & 7) == 6 && x[rs1])
                    x[rd] = *x[rs1] | static_cast<std::uint64_t>(signed_bits(bits >> 20, 12));
                else
                    x[rd].reset();
                break;
            case 0x23:  // stores and branches write no register
            case 0x63:
            case 0x0F:
                break;
            default:
                x[rd].reset();
                break;
        }
    } else {
        const unsigned quadrant = bits & 3, group = bits >> 13 & 7;
        const std::int64_t six = signed_bits((bits >> 12 & 1) << 5 | (bits >> 2 & 31), 6);
        if (quadrant == 1 && group == 0) {  // c.addi
            x[rd] = plus(x[rd], six);
        } else if (quadrant == 1 && group == 2) {  // c.li
            x[rd] = static_cast<std::uint64_t>(six);
        } else if (quadrant == 1 && group == 3 && rd != 2) {  // c.lui
            x[rd] = static_cast<std::uint64_t>(six * 4096);
        } else if (quadrant == 2 && group == 4 && (bits >> 2 & 31) != 0) {  // c.mv, c.add
            const auto from = x[bits >> 2 & 31];
            if ((bits >> 12 & 1) == 0)
                x[rd] = from;
            else
                x[rd] = x[rd] && from ? std::optional(*x[rd] + *from) : std::nullopt;
        } else {
            x = {};  // which register it writes is not looked at
        }
    }
    x[0] = 0;
}

}  // namespace

TrapVectors trap_vectors(const Code& code) {
    struct Found {
        std::optional<std::uint64_t> value;
        bool unclear = false;
        void add(const std::optional<std::uint64_t>& v) {
            unclear = unclear || !v || (value && *value != *v);
            value = v;
        }
        std::optional<std::uint64_t> get() const { return unclear ? std::nullopt : value; }
    } mtvec, stvec;
    if (!code.riscv()) return {};
    Known x{};
    x[0] = 0;
    // Slot by slot, since where instructions begin is known from those before only; data between is passed over.
    for (std::uint32_t slot = 1; slot < code.slot_count();) {
        const Code::Slot& s = code[slot];
        if (s.flow == Flow::none) {
            x = {};
            x[0] = 0;
            ++slot;
            continue;
        }
        const std::uint32_t bits = code.bits(slot);
        const std::uint32_t csr = bits >> 20;
        if (s.size == 2 && (bits & 0x7F) == 0x73 && (bits >> 12 & 3) != 0 && (csr == 0x305 || csr == 0x105)) {
            // csrrw; immediate forms, and csrrs and csrrc of anything but x0, are not followed (Zicsr).
            Found& f = csr == 0x305 ? mtvec : stvec;
            const unsigned form = bits >> 12 & 7, rs1 = bits >> 15 & 31;
            if (form == 1)
                f.add(code.xlen() == 32 && x[rs1] ? std::optional(*x[rs1] & 0xFFFF'FFFF) : x[rs1]);
            else if (form == 5 || rs1 != 0)
                f.add(std::nullopt);
        }
        execute(bits, s.size == 2, code.address(slot), x);
        // What a jump or a call leads back to knows nothing of what stood before it.
        if (s.flow != Flow::next && s.flow != Flow::branch) {
            x = {};
            x[0] = 0;
        }
        slot = code.next(slot);
    }
    return {mtvec.get(), stvec.get()};
}

}  // namespace mt
