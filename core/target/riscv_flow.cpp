#include "target/code.h"
#include "target/sign_extend.h"

namespace mt {
namespace {

bool is_link(unsigned reg) { return reg == 1 || reg == 5; }

// Table 2.1 of the unprivileged ISA: what an indirect jump does to a return-address stack.
void indirect(FlowInsn& i, unsigned rd, unsigned rs1) {
    i.flow = Flow::indirect;
    if (is_link(rd)) {
        i.flow = Flow::indirect_call;
        i.flags = FlowInsn::kPush;
        if (is_link(rs1) && rs1 != rd) i.flags |= FlowInsn::kPop;
    } else if (is_link(rs1)) {
        i.flow = Flow::ret;
        i.flags = FlowInsn::kPop;
    }
}

FlowInsn compressed(std::uint32_t h, std::uint64_t pc, unsigned xlen) {
    FlowInsn i;
    i.flow = h == 0 ? Flow::none : Flow::next;  // all zeros: defined as illegal
    const unsigned quadrant = h & 3, funct3 = h >> 13;
    const auto bit = [h](unsigned from, unsigned to) { return (h >> from & 1) << to; };
    if (quadrant == 1 && (funct3 == 5 || (funct3 == 1 && xlen == 32))) {  // c.j, c.jal
        const std::uint32_t offset = bit(12, 11) | bit(11, 4) | bit(10, 9) | bit(9, 8) | bit(8, 10) | bit(7, 6) |
                                     bit(6, 7) | bit(5, 3) | bit(4, 2) | bit(3, 1) | bit(2, 5);
        i.flow = funct3 == 5 ? Flow::jump : Flow::call;
        if (i.flow == Flow::call) i.flags = FlowInsn::kPush;
        i.target = pc + static_cast<std::uint64_t>(sign_extend(offset, 12));
    } else if (quadrant == 1 && funct3 >= 6) {  // c.beqz, c.bnez
        const std::uint32_t offset =
            bit(12, 8) | bit(11, 4) | bit(10, 3) | bit(6, 7) | bit(5, 6) | bit(4, 2) | bit(3, 1) | bit(2, 5);
        i.flow = Flow::branch;
        i.flags = FlowInsn::kConditional;
        i.target = pc + static_cast<std::uint64_t>(sign_extend(offset, 9));
    } else if (quadrant == 1 && funct3 == 3 && (h >> 7 & 31) != 2) {  // c.lui
        i.flags = FlowInsn::kUpper;
    } else if (quadrant == 2 && funct3 == 4 && (h >> 2 & 31) == 0) {
        const unsigned rs1 = h >> 7 & 31;
        if (rs1 != 0)
            indirect(i, h >> 12 & 1, rs1);  // c.jr, c.jalr (rd = x1)
        else if ((h >> 12 & 1) != 0)
            i.flow = Flow::trap;  // c.ebreak
    }
    return i;
}

}  // namespace

FlowInsn riscv_flow(std::span<const std::uint8_t> bytes, std::uint64_t pc, unsigned xlen) {
    if (bytes.size() < 2) return {};
    const std::uint32_t low = bytes[0] | static_cast<std::uint32_t>(bytes[1]) << 8;
    if ((low & 3) != 3) return compressed(low, pc, xlen);
    FlowInsn i;
    if (bytes.size() < 4 || (low & 0x1F) == 0x1F) return i;  // cut off, or longer than 32 bits
    const std::uint32_t w =
        low | static_cast<std::uint32_t>(bytes[2]) << 16 | static_cast<std::uint32_t>(bytes[3]) << 24;
    i.size = 4;
    i.flow = Flow::next;
    const unsigned opcode = w & 0x7F, rd = w >> 7 & 31, funct3 = w >> 12 & 7, rs1 = w >> 15 & 31;
    switch (opcode) {
        case 0x63:
            if (funct3 == 2 || funct3 == 3) break;
            i.flow = Flow::branch;
            i.flags = FlowInsn::kConditional;
            i.target = pc + static_cast<std::uint64_t>(sign_extend(
                                (w >> 31) << 12 | (w >> 7 & 1) << 11 | (w >> 25 & 0x3F) << 5 | (w >> 8 & 15) << 1, 13));
            break;
        case 0x6F:
            i.flow = is_link(rd) ? Flow::call : Flow::jump;
            if (is_link(rd)) i.flags = FlowInsn::kPush;
            i.target =
                pc + static_cast<std::uint64_t>(sign_extend(
                         (w >> 31) << 20 | (w >> 12 & 0xFF) << 12 | (w >> 20 & 1) << 11 | (w >> 21 & 0x3FF) << 1, 21));
            break;
        case 0x67:
            if (funct3 != 0) break;
            if (rs1 == 0) {  // the target is the immediate alone
                i.flow = is_link(rd) ? Flow::call : Flow::jump;
                if (is_link(rd)) i.flags = FlowInsn::kPush;
                i.target = static_cast<std::uint64_t>(sign_extend(w >> 20, 12)) & ~std::uint64_t{1};
                if (xlen == 32) i.target &= 0xFFFF'FFFF;
            } else {
                indirect(i, rd, rs1);
            }
            break;
        case 0x37:
        case 0x17:
            i.flags = FlowInsn::kUpper;
            break;
        case 0x73:
            if (w == 0x0000'0073 || w == 0x0010'0073)
                i.flow = Flow::trap;
            else if (w == 0x1050'0073)
                i.flags = FlowInsn::kSleep;
            else if (w == 0x0020'0073 || w == 0x1020'0073 || w == 0x3020'0073 || w == 0x7B20'0073)
                i.flow = Flow::trap_return;  // uret, sret, mret, dret
            break;
        default:
            break;
    }
    if (xlen == 32) i.target &= 0xFFFF'FFFF;
    return i;
}

}  // namespace mt
