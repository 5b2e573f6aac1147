#include "target/code.h"
#include "target/sign_extend.h"

namespace mt {

FlowInsn a64_flow(std::span<const std::uint8_t> bytes, std::uint64_t pc) {
    if (bytes.size() < 4 || (pc & 3) != 0) return {};
    const std::uint32_t w = bytes[0] | static_cast<std::uint32_t>(bytes[1]) << 8 | static_cast<std::uint32_t>(bytes[2]) << 16 |
                            static_cast<std::uint32_t>(bytes[3]) << 24;
    FlowInsn i;
    i.size = 4;
    i.flow = Flow::next;
    const auto to = [&](std::uint32_t words, unsigned bits) { return pc + static_cast<std::uint64_t>(sign_extend(words << 2, bits + 2)); };
    if ((w & 0xFC00'0000) == 0x1400'0000) {  // B
        i.flow = Flow::jump;
        i.target = to(w & 0x3FF'FFFF, 26);
    } else if ((w & 0xFC00'0000) == 0x9400'0000) {  // BL
        i.flow = Flow::call;
        i.flags = FlowInsn::kPush;
        i.target = to(w & 0x3FF'FFFF, 26);
    } else if ((w & 0xFF00'0000) == 0x5400'0000 || (w & 0x7E00'0000) == 0x3400'0000) {  // B.cond, BC.cond; CBZ, CBNZ
        i.flow = Flow::branch;
        i.flags = FlowInsn::kConditional;
        i.target = to(w >> 5 & 0x7'FFFF, 19);
    } else if ((w & 0x7E00'0000) == 0x3600'0000) {  // TBZ, TBNZ
        i.flow = Flow::branch;
        i.flags = FlowInsn::kConditional;
        i.target = to(w >> 5 & 0x3FFF, 14);
    } else if ((w & 0xFE1F'F000) == 0xD61F'0000) {  // by a register, also with pointer authentication
        const bool plain = (w >> 10 & 3) == 0, signed_by = (w >> 11 & 1) == 1;
        switch (w >> 21 & 15) {
            case 0:  // BR, BRAAZ, BRABZ
                if (plain || signed_by) i.flow = Flow::indirect;
                break;
            case 1:  // BLR, BLRAAZ, BLRABZ
                if (plain || signed_by) i.flow = Flow::indirect_call, i.flags = FlowInsn::kPush;
                break;
            case 2:  // RET, RETAA, RETAB
                if (plain || signed_by) i.flow = Flow::ret, i.flags = FlowInsn::kPop;
                break;
            case 4:  // ERET, ERETAA, ERETAB
            case 5:  // DRPS
                if ((w >> 5 & 31) == 31 && (plain || signed_by)) i.flow = Flow::trap_return;
                break;
            case 8:  // BRAA, BRAB
                if (signed_by) i.flow = Flow::indirect;
                break;
            case 9:  // BLRAA, BLRAB
                if (signed_by) i.flow = Flow::indirect_call, i.flags = FlowInsn::kPush;
                break;
            default:
                break;
        }
    } else if ((w & 0xFFFF'F0FF) == 0xD503'30DF) {  // ISB
        i.flow = Flow::barrier;
    } else if (w == 0xD503'207F || w == 0xD503'205F || (w & 0xFFFF'FFC0) == 0xD503'1000) {  // WFI, WFE, WFET, WFIT
        i.flags = FlowInsn::kSleep;
    }
    return i;
}

}  // namespace mt
