#include "target/code.h"
#include "target/sign_extend.h"

namespace mt {
namespace {

constexpr unsigned kLr = 14, kSp = 13, kPc = 15;

void set_return(FlowInsn& i) {
    i.flow = Flow::ret;
    i.flags = FlowInsn::kPop;
}

FlowInsn narrow(std::uint32_t h, std::uint64_t pc) {
    FlowInsn i;
    i.flow = Flow::next;
    const auto to = [&](std::int64_t offset) { return (pc + 4 + static_cast<std::uint64_t>(offset)) & 0xFFFF'FFFF; };
    if ((h & 0xF000) == 0xD000 && (h >> 8 & 15) < 14) {  // B<c>
        i.flow = Flow::branch;
        i.flags = FlowInsn::kConditional;
        i.target = to(sign_extend((h & 0xFF) << 1, 9));
    } else if ((h & 0xF800) == 0xE000) {  // B
        i.flow = Flow::jump;
        i.target = to(sign_extend((h & 0x7FF) << 1, 12));
    } else if ((h & 0xF500) == 0xB100) {  // CBZ, CBNZ: forward only
        i.flow = Flow::branch;
        i.flags = FlowInsn::kConditional;
        i.target = to(static_cast<std::int64_t>((h >> 9 & 1) << 6 | (h >> 3 & 31) << 1));
    } else if ((h & 0xFF83) == 0x4700) {  // BX, BXNS
        if ((h >> 3 & 15) == kLr)
            set_return(i);
        else
            i.flow = Flow::indirect;
    } else if ((h & 0xFF83) == 0x4780) {  // BLX, BLXNS
        i.flow = Flow::indirect_call;
        i.flags = FlowInsn::kPush;
    } else if ((h & 0xFF00) == 0xBD00) {  // POP {…, PC}
        set_return(i);
    } else if ((h & 0xFF87) == 0x4687) {  // MOV PC, Rm
        if ((h >> 3 & 15) == kLr)
            set_return(i);
        else
            i.flow = Flow::indirect;
    } else if ((h & 0xFF87) == 0x4487) {  // ADD PC, Rm
        i.flow = Flow::indirect;
    } else if (h == 0xBF30 || h == 0xBF20) {  // WFI, WFE
        i.flags = FlowInsn::kSleep;
    } else if ((h & 0xFF00) == 0xBF00 && (h & 15) != 0) {
        i.flags = FlowInsn::kIt;
    }
    return i;
}

FlowInsn wide(std::uint32_t h, std::uint32_t l, std::uint64_t pc) {
    FlowInsn i;
    i.size = 4;
    i.flow = Flow::next;
    const auto to = [&](std::int64_t offset) { return (pc + 4 + static_cast<std::uint64_t>(offset)) & 0xFFFF'FFFF; };
    const unsigned rn = h & 15;
    if ((h & 0xF800) == 0xF000 && (l & 0x8000) != 0) {  // branches and miscellaneous control (A5.3.4)
        const std::uint32_t s = h >> 10 & 1, j1 = l >> 13 & 1, j2 = l >> 11 & 1;
        const std::uint32_t far =
            s << 24 | (1 - (j1 ^ s)) << 23 | (1 - (j2 ^ s)) << 22 | (h & 0x3FF) << 12 | (l & 0x7FF) << 1;
        if ((l & 0xD000) == 0xD000) {  // BL
            i.flow = Flow::call;
            i.flags = FlowInsn::kPush;
            i.target = to(sign_extend(far, 25));
        } else if ((l & 0xD001) == 0xC000) {  // BLX to A32
            i.flow = Flow::call;
            i.flags = FlowInsn::kPush;
            i.target = ((pc + 4) & ~std::uint64_t{3}) + static_cast<std::uint64_t>(sign_extend(far & ~3u, 25));
            i.target &= 0xFFFF'FFFF;
        } else if ((l & 0xD000) == 0x9000) {  // B
            i.flow = Flow::jump;
            i.target = to(sign_extend(far, 25));
        } else if ((l & 0xD000) == 0x8000 && (h >> 6 & 15) < 14) {  // B<c>
            i.flow = Flow::branch;
            i.flags = FlowInsn::kConditional;
            i.target = to(sign_extend(s << 20 | j2 << 19 | j1 << 18 | (h & 0x3F) << 12 | (l & 0x7FF) << 1, 21));
        } else if (h == 0xF3AF && (l == 0x8003 || l == 0x8002)) {  // WFI.W, WFE.W
            i.flags = FlowInsn::kSleep;
        } else if (h == 0xF3BF && (l & 0xFFF0) == 0x8F60) {  // ISB
            i.flow = Flow::barrier;
        } else if ((h & 0xFFF0) == 0xF3C0 && l == 0x8F00) {  // BXJ
            i.flow = Flow::indirect;
        } else if (h == 0xF3DE && (l & 0xFF00) == 0x8F00) {  // ERET, SUBS PC, LR (A and R profiles)
            i.flow = Flow::trap_return;
        }
    } else if ((h & 0xFFF0) == 0xE8D0 && (l & 0xFFE0) == 0xF000) {  // TBB, TBH
        i.flow = Flow::indirect;
    } else if (((h & 0xFFD0) == 0xE810 || (h & 0xFFD0) == 0xE990) && l == 0xC000) {  // RFE
        i.flow = Flow::trap_return;
    } else if ((h & 0xFFD0) == 0xE890 || (h & 0xFFD0) == 0xE910) {  // LDM, LDMDB with PC
        if ((l & 0x8000) != 0) {
            if (rn == kSp && (h & 0xFFF0) == 0xE8B0)
                set_return(i);
            else
                i.flow = Flow::indirect;
        }
    } else if ((h & 0xFF70) == 0xF850 && l >> 12 == kPc) {  // LDR PC, …
        if (rn == kSp && (h & 0xFFF0) == 0xF850 && (l & 0x0F00) == 0x0B00)
            set_return(i);  // LDR PC, [SP], #imm
        else
            i.flow = Flow::indirect;
    }
    return i;
}

}  // namespace

FlowInsn thumb_flow(std::span<const std::uint8_t> bytes, std::uint64_t pc) {
    if (bytes.size() < 2) return {};
    const std::uint32_t h = bytes[0] | static_cast<std::uint32_t>(bytes[1]) << 8;
    if (h < 0xE800) return narrow(h, pc);
    if (bytes.size() < 4) return {};
    return wide(h, bytes[2] | static_cast<std::uint32_t>(bytes[3]) << 8, pc);
}

}  // namespace mt
