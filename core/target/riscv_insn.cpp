#include "target/riscv_insn.h"

namespace mt::rv {
namespace {

constexpr std::uint32_t kFloatStore = 0x27 ^ 0x23;  // makes one of a store

// Encoders of the uncompressed formats, for the expansion of compressed instructions.
std::uint32_t enc_i(std::uint32_t imm, std::uint32_t rs1, std::uint32_t f3, std::uint32_t rd, std::uint32_t op) {
    return (imm & 0xFFF) << 20 | rs1 << 15 | f3 << 12 | rd << 7 | op;
}
std::uint32_t enc_s(std::uint32_t imm, std::uint32_t rs2, std::uint32_t rs1, std::uint32_t f3) {
    return bits(imm, 11, 5) << 25 | rs2 << 20 | rs1 << 15 | f3 << 12 | bits(imm, 4, 0) << 7 | 0x23;
}
std::uint32_t enc_r(std::uint32_t f7, std::uint32_t rs2, std::uint32_t rs1, std::uint32_t f3, std::uint32_t rd) {
    return f7 << 25 | rs2 << 20 | rs1 << 15 | f3 << 12 | rd << 7 | 0x33;
}
std::uint32_t enc_b(std::uint32_t imm, std::uint32_t rs1, std::uint32_t f3) {
    return bits(imm, 12, 12) << 31 | bits(imm, 10, 5) << 25 | rs1 << 15 | f3 << 12 | bits(imm, 4, 1) << 8 |
           bits(imm, 11, 11) << 7 | 0x63;
}
std::uint32_t enc_j(std::uint32_t imm, std::uint32_t rd) {
    return bits(imm, 20, 20) << 31 | bits(imm, 10, 1) << 21 | bits(imm, 11, 11) << 20 | bits(imm, 19, 12) << 12 |
           rd << 7 | 0x6F;
}

}  // namespace

std::uint32_t expanded(std::uint16_t half) {
    const std::uint32_t c = half, f3 = bits(c, 15, 13);
    const std::uint32_t rd = bits(c, 11, 7), rs2 = bits(c, 6, 2);
    const std::uint32_t rds = 8 + bits(c, 4, 2), rs1s = 8 + bits(c, 9, 7);
    const std::uint32_t imm6 = with_sign(bits(c, 12, 12) << 5 | bits(c, 6, 2), 6);
    const std::uint32_t imm_w = bits(c, 12, 10) << 3 | bits(c, 6, 6) << 2 | bits(c, 5, 5) << 6;
    const std::uint32_t imm_d = bits(c, 12, 10) << 3 | bits(c, 6, 5) << 6;
    const std::uint32_t imm_lwsp = bits(c, 12, 12) << 5 | bits(c, 6, 4) << 2 | bits(c, 3, 2) << 6;
    const std::uint32_t imm_ldsp = bits(c, 12, 12) << 5 | bits(c, 6, 5) << 3 | bits(c, 4, 2) << 6;
    const std::uint32_t imm_swsp = bits(c, 12, 9) << 2 | bits(c, 8, 7) << 6;
    const std::uint32_t imm_sdsp = bits(c, 12, 10) << 3 | bits(c, 9, 7) << 6;
    switch ((c & 3) << 3 | f3) {
        case 000: {  // C.ADDI4SPN
            const std::uint32_t imm =
                bits(c, 12, 11) << 4 | bits(c, 10, 7) << 6 | bits(c, 6, 6) << 2 | bits(c, 5, 5) << 3;
            return imm == 0 ? 0 : enc_i(imm, 2, 0, rds, 0x13);
        }
        case 001:  // C.FLD
            return enc_i(imm_d, rs1s, 3, rds, 0x07);
        case 002:
            return enc_i(imm_w, rs1s, 2, rds, 0x03);
        case 003:  // C.FLW
            return enc_i(imm_w, rs1s, 2, rds, 0x07);
        case 005:  // C.FSD
            return enc_s(imm_d, rds, rs1s, 3) ^ kFloatStore;
        case 006:
            return enc_s(imm_w, rds, rs1s, 2);
        case 007:  // C.FSW
            return enc_s(imm_w, rds, rs1s, 2) ^ kFloatStore;
        case 010:
            return enc_i(imm6, rd, 0, rd, 0x13);
        case 011:
        case 015: {
            const std::uint32_t imm =
                with_sign(bits(c, 12, 12) << 11 | bits(c, 11, 11) << 4 | bits(c, 10, 9) << 8 | bits(c, 8, 8) << 10 |
                         bits(c, 7, 7) << 6 | bits(c, 6, 6) << 7 | bits(c, 5, 3) << 1 | bits(c, 2, 2) << 5,
                     12);
            return enc_j(imm, f3 == 1 ? 1 : 0);
        }
        case 012:
            return enc_i(imm6, 0, 0, rd, 0x13);
        case 013:
            if (rd == 2) {  // C.ADDI16SP
                const std::uint32_t imm = with_sign(bits(c, 12, 12) << 9 | bits(c, 6, 6) << 4 | bits(c, 5, 5) << 6 |
                                                   bits(c, 4, 3) << 7 | bits(c, 2, 2) << 5,
                                               10);
                return imm == 0 ? 0 : enc_i(imm, 2, 0, 2, 0x13);
            }
            return imm6 == 0 ? 0 : (imm6 << 12) | rd << 7 | 0x37;
        case 014: {
            const std::uint32_t shift = bits(c, 12, 12) << 5 | bits(c, 6, 2);
            switch (bits(c, 11, 10)) {
                case 0:
                    return shift > 31 ? 0 : enc_i(shift, rs1s, 5, rs1s, 0x13);
                case 1:
                    return shift > 31 ? 0 : enc_i(shift | 0x400, rs1s, 5, rs1s, 0x13);
                case 2:
                    return enc_i(imm6, rs1s, 7, rs1s, 0x13);
                default:
                    if (bits(c, 12, 12) != 0) return 0;
                    switch (bits(c, 6, 5)) {
                        case 0:
                            return enc_r(0x20, rds, rs1s, 0, rs1s);
                        case 1:
                            return enc_r(0, rds, rs1s, 4, rs1s);
                        case 2:
                            return enc_r(0, rds, rs1s, 6, rs1s);
                        default:
                            return enc_r(0, rds, rs1s, 7, rs1s);
                    }
            }
        }
        case 016:
        case 017: {
            const std::uint32_t imm = with_sign(bits(c, 12, 12) << 8 | bits(c, 11, 10) << 3 | bits(c, 6, 5) << 6 |
                                               bits(c, 4, 3) << 1 | bits(c, 2, 2) << 5,
                                           9);
            return enc_b(imm, rs1s, f3 == 6 ? 0 : 1);
        }
        case 020: {
            const std::uint32_t shift = bits(c, 12, 12) << 5 | bits(c, 6, 2);
            return shift > 31 ? 0 : enc_i(shift, rd, 1, rd, 0x13);
        }
        case 021:  // C.FLDSP
            return enc_i(imm_ldsp, 2, 3, rd, 0x07);
        case 022:  // C.LWSP
            return rd == 0 ? 0 : enc_i(imm_lwsp, 2, 2, rd, 0x03);
        case 023:  // C.FLWSP
            return enc_i(imm_lwsp, 2, 2, rd, 0x07);
        case 024:
            if (bits(c, 12, 12) == 0) {
                if (rs2 == 0) return rd == 0 ? 0 : enc_i(0, rd, 0, 0, 0x67);  // C.JR
                return enc_r(0, rs2, 0, 0, rd);                               // C.MV
            }
            if (rs2 == 0) return rd == 0 ? 0x00100073 : enc_i(0, rd, 0, 1, 0x67);  // C.EBREAK, C.JALR
            return enc_r(0, rs2, rd, 0, rd);                                       // C.ADD
        case 025:                                                                  // C.FSDSP
            return enc_s(imm_sdsp, rs2, 2, 3) ^ kFloatStore;
        case 026:  // C.SWSP
            return enc_s(imm_swsp, rs2, 2, 2);
        case 027:  // C.FSWSP
            return enc_s(imm_swsp, rs2, 2, 2) ^ kFloatStore;
        default:
            return 0;
    }
}

// Where RV64 has another instruction, or longer shifts.
std::uint32_t expanded64(std::uint16_t half) {
    const std::uint32_t c = half, f3 = bits(c, 15, 13);
    const std::uint32_t rd = bits(c, 11, 7), rs2 = bits(c, 6, 2), rds = 8 + bits(c, 4, 2), rs1s = 8 + bits(c, 9, 7);
    const std::uint32_t imm6 = with_sign(bits(c, 12, 12) << 5 | bits(c, 6, 2), 6), shift = bits(c, 12, 12) << 5 | bits(c, 6, 2);
    const std::uint32_t imm_d = bits(c, 12, 10) << 3 | bits(c, 6, 5) << 6;
    const std::uint32_t imm_load = bits(c, 12, 12) << 5 | bits(c, 6, 5) << 3 | bits(c, 4, 2) << 6;
    const std::uint32_t imm_store = bits(c, 12, 10) << 3 | bits(c, 9, 7) << 6;
    switch ((c & 3) << 3 | f3) {
        case 003:  // C.LD
            return enc_i(imm_d, rs1s, 3, rds, 0x03);
        case 007:  // C.SD
            return enc_s(imm_d, rds, rs1s, 3);
        case 011:  // C.ADDIW
            return rd == 0 ? 0 : enc_i(imm6, rd, 0, rd, 0x1B);
        case 014:
            if (bits(c, 11, 10) < 2) return enc_i(shift | (bits(c, 11, 10) == 1 ? 0x400 : 0), rs1s, 5, rs1s, 0x13);
            if (bits(c, 11, 10) == 3 && bits(c, 12, 12) != 0)  // C.SUBW, C.ADDW
                return bits(c, 6, 5) > 1 ? 0 : enc_r(bits(c, 6, 5) == 0 ? 0x20 : 0, rds, rs1s, 0, rs1s) | 0x08;
            return expanded(half);
        case 020:
            return enc_i(shift, rd, 1, rd, 0x13);
        case 023:  // C.LDSP
            return rd == 0 ? 0 : enc_i(imm_load, 2, 3, rd, 0x03);
        case 027:  // C.SDSP
            return enc_s(imm_store, rs2, 2, 3);
        default:
            return expanded(half);
    }
}

}  // namespace mt::rv
