#include "target/code.h"
#include "target/sign_extend.h"

namespace mt {
namespace {

constexpr unsigned kFp = 11, kSp = 13, kLr = 14, kPc = 15, kAlways = 14;

// Those without a condition (A5.7).
void unconditional(std::uint32_t w, std::uint64_t pc, FlowInsn& i) {
    if ((w & 0xFE00'0000) == 0xFA00'0000) {  // BLX to Thumb
        i.flow = Flow::call;
        i.flags = FlowInsn::kPush;
        i.target = (pc + 8 + static_cast<std::uint64_t>(sign_extend((w & 0xFF'FFFF) << 2, 26)) + (w >> 23 & 2)) & 0xFFFF'FFFF;
    } else if ((w & 0xFE50'0000) == 0xF810'0000) {  // RFE
        i.flow = Flow::trap_return;
    } else if ((w & 0xFFFF'FFF0) == 0xF57F'F060) {  // ISB
        i.flow = Flow::barrier;
    }
}

void set_return(FlowInsn& i) {
    i.flow = Flow::ret;
    i.flags = FlowInsn::kPop;
}

// Data processing and miscellaneous instructions (A5.2).
void data_processing(std::uint32_t w, FlowInsn& i) {
    const bool immediate = (w >> 25 & 1) != 0, sets = (w >> 20 & 1) != 0;
    const unsigned op = w >> 21 & 15;
    if (!immediate && (w & 0x90) == 0x90) return;  // multiplies, synchronisation, extra loads and stores
    if ((op & 12) == 8 && !sets) {                 // miscellaneous; MSR of an immediate, hints, MOVW, MOVT
        const std::uint32_t what = w & 0x0FFF'FFF0;
        if (what == 0x012F'FF10)  // BX
            (w & 15) == kLr ? set_return(i) : void(i.flow = Flow::indirect);
        else if (what == 0x012F'FF20)  // BXJ
            i.flow = Flow::indirect;
        else if (what == 0x012F'FF30)  // BLX
            i.flow = Flow::indirect_call, i.flags = FlowInsn::kPush;
        else if ((w & 0x0FFF'FFFF) == 0x0160'006E)  // ERET
            i.flow = Flow::trap_return;
        else if ((w & 0x0FFF'FFFE) == 0x0320'F002)  // WFE, WFI
            i.flags = FlowInsn::kSleep;
        return;
    }
    if ((op & 12) == 8 || (w >> 12 & 15) != kPc) return;  // compares have no destination
    if (sets)
        i.flow = Flow::trap_return;  // SUBS PC, LR and the like (B9.3.20)
    else if ((w & 0x0FFF'FFFF) == 0x01A0'F00E)
        set_return(i);  // MOV PC, LR
    else
        i.flow = Flow::indirect;
}

}  // namespace

FlowInsn arm_flow(std::span<const std::uint8_t> bytes, std::uint64_t pc) {
    if (bytes.size() < 4 || (pc & 3) != 0) return {};
    const std::uint32_t w = bytes[0] | static_cast<std::uint32_t>(bytes[1]) << 8 | static_cast<std::uint32_t>(bytes[2]) << 16 |
                            static_cast<std::uint32_t>(bytes[3]) << 24;
    FlowInsn i;
    i.size = 4;
    i.flow = Flow::next;
    if (w >> 28 == 15) {
        unconditional(w, pc, i);
        return i;
    }
    const bool always = w >> 28 == kAlways;
    const unsigned rn = w >> 16 & 15;
    if ((w & 0x0E00'0000) == 0x0A00'0000) {  // B, BL (A8.8.18, A8.8.25)
        const bool link = (w >> 24 & 1) != 0;
        i.flow = link ? Flow::call : always ? Flow::jump : Flow::branch;
        if (link) i.flags = FlowInsn::kPush;
        i.target = (pc + 8 + static_cast<std::uint64_t>(sign_extend((w & 0xFF'FFFF) << 2, 26))) & 0xFFFF'FFFF;
    } else if ((w & 0x0C00'0000) == 0) {
        data_processing(w, i);
    } else if ((w & 0x0C50'0000) == 0x0410'0000 && (w & 0x0200'0010) != 0x0200'0010 && (w >> 12 & 15) == kPc) {  // LDR PC
        if ((w & 0x0FFF'FFFF) == 0x049D'F004)
            set_return(i);  // POP {PC}
        else
            i.flow = Flow::indirect;
    } else if ((w & 0x0E10'8000) == 0x0810'8000) {  // LDM with PC
        const bool up = (w >> 23 & 1) != 0;
        if ((w >> 22 & 1) != 0)
            i.flow = Flow::trap_return;  // restores the status (B9.3.5)
        else if (rn == kSp || (rn == kFp && !up))
            set_return(i);
        else
            i.flow = Flow::indirect;
    } else if ((w & 0x0FFF'0FFF) == 0x0E07'0F95) {  // MCR p15, 0, Rt, c7, c5, 4: the barrier of Armv6
        i.flow = Flow::barrier;
    }
    if (!always && i.flow != Flow::next) i.flags |= FlowInsn::kConditional;
    return i;
}

}  // namespace mt
