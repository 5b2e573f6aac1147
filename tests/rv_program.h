// Random RV32IMAC programs: branches, loops, calls of every kind, jump tables, exceptions, a timer that interrupts.
#pragma once

#include <array>
#include <cstdint>
#include <cstring>
#include <random>
#include <utility>
#include <vector>

#include "rv_core.h"

namespace mt {

/// Endless; deterministic for a seed. Registers: x1 links, x2 stack, x5 links millicode, x26 and x27 belong to the
/// trap handler, x6 to x15 hold random values, x28 to x31 are scratch.
class RvProgram {
  public:
    explicit RvProgram(std::uint64_t seed) : random_(seed) {
        start();
        handler();
        for (std::size_t f = 0; f < kFunctions; ++f) function(f);
        for (const auto& [at, target] : calls_) patch_jal(at, functions_[target]);
        for (const auto& [at, target] : far_calls_) patch_pair(at, functions_[target]);
        patch_pair(handler_pair_, handler_);
    }
    std::vector<std::uint8_t> bytes() const {
        std::vector<std::uint8_t> b(halves_.size() * 2);
        std::memcpy(b.data(), halves_.data(), b.size());
        return b;
    }
    void load(board::RvCore& core) const {
        core.reset();
        core.write(board::RvCore::kRam, bytes());
        core.write_register(32, board::RvCore::kRam);
    }

  private:
    static constexpr std::size_t kFunctions = 12;
    static constexpr unsigned kDepth = 3;

    unsigned any(unsigned below) { return static_cast<unsigned>(random_() % below); }
    std::uint32_t here() const { return static_cast<std::uint32_t>(halves_.size() * 2); }
    void half(unsigned h) { halves_.push_back(static_cast<std::uint16_t>(h)); }
    void word(std::uint32_t w) {
        half(w & 0xFFFF);
        half(w >> 16);
    }
    static std::uint32_t i_type(unsigned op, unsigned f3, unsigned rd, unsigned rs1, int imm) {
        return static_cast<std::uint32_t>(imm) << 20 | rs1 << 15 | f3 << 12 | rd << 7 | op;
    }
    static std::uint32_t s_type(unsigned rs2, unsigned rs1, int imm) {
        const auto u = static_cast<std::uint32_t>(imm);
        return (u >> 5 & 0x7F) << 25 | rs2 << 20 | rs1 << 15 | 2 << 12 | (u & 31) << 7 | 0x23;
    }
    void addi(unsigned rd, unsigned rs1, int imm) { word(i_type(0x13, 0, rd, rs1, imm)); }
    void load(unsigned rd, unsigned rs1, int imm) { word(i_type(0x03, 2, rd, rs1, imm)); }
    void store(unsigned rs2, unsigned rs1, int imm) { word(s_type(rs2, rs1, imm)); }
    void jalr(unsigned rd, unsigned rs1, int imm) { word(i_type(0x67, 0, rd, rs1, imm)); }
    void ret() {
        if (any(2) == 0)
            half(0x8082);  // c.jr ra
        else
            jalr(0, 1, 0);
    }
    std::uint32_t branch(unsigned f3, unsigned rs1, unsigned rs2) {
        const std::uint32_t at = here();
        word(rs2 << 20 | rs1 << 15 | f3 << 12 | 0x63);
        return at;
    }
    void put(std::uint32_t at, std::uint32_t w) {
        halves_[at / 2] |= static_cast<std::uint16_t>(w);
        halves_[at / 2 + 1] |= static_cast<std::uint16_t>(w >> 16);
    }
    void patch_branch(std::uint32_t at, std::uint32_t to) {
        const std::uint32_t o = to - at;
        put(at, (o >> 12 & 1) << 31 | (o >> 5 & 0x3F) << 25 | (o >> 1 & 15) << 8 | (o >> 11 & 1) << 7);
    }
    std::uint32_t jal(unsigned rd) {
        const std::uint32_t at = here();
        word(rd << 7 | 0x6F);
        return at;
    }
    void patch_jal(std::uint32_t at, std::uint32_t to) {
        const std::uint32_t o = to - at;
        put(at, (o >> 20 & 1) << 31 | (o >> 1 & 0x3FF) << 21 | (o >> 11 & 1) << 20 | (o >> 12 & 0xFF) << 12);
    }
    // auipc, and an instruction with a 12-bit immediate behind it.
    std::uint32_t auipc(unsigned rd) {
        const std::uint32_t at = here();
        word(rd << 7 | 0x17);
        return at;
    }
    void patch_pair(std::uint32_t at, std::uint32_t to) {
        const std::uint32_t o = to - at, high = (o + 0x800) & 0xFFFF'F000;
        put(at, high);
        put(at + 4, (o - high) << 20);
    }
    void start() {
        word(0x80080137);  // lui sp, 0x80080
        handler_pair_ = auipc(28);
        addi(28, 28, 0);
        word(i_type(0x73, 1, 0, 28, 0x305));  // csrw mtvec, t3
        for (unsigned r = 6; r < 16; ++r) {
            word(static_cast<std::uint32_t>(random_()) << 12 | r << 7 | 0x37);
            addi(r, r, static_cast<int>(any(4096)) - 2048);
        }
        word(0x02004DB7);  // lui s11, 0x2004
        addi(26, 0, 400);
        store(26, 27, 0);
        store(0, 27, 4);
        addi(26, 0, 128);
        word(i_type(0x73, 2, 0, 26, 0x304));  // csrs mie, timer
        word(0x30046073);                     // csrsi mstatus, 8
        const std::uint32_t again = here();
        calls_.emplace_back(jal(1), 0);
        calls_.emplace_back(jal(1), 1 + any(kFunctions - 1));
        patch_jal(jal(0), again);
    }
    // Interrupts set the next one; exceptions skip the instruction (all that raise some have four bytes).
    void handler() {
        while (here() % 4 != 0) half(1);
        handler_ = here();
        word(i_type(0x73, 2, 26, 0, 0x342));  // csrr s10, mcause
        const std::uint32_t interrupt = branch(4, 26, 0);
        word(i_type(0x73, 2, 26, 0, 0x341));  // csrr s10, mepc
        addi(26, 26, 4);
        word(i_type(0x73, 1, 0, 26, 0x341));
        word(0x30200073);
        patch_branch(interrupt, here());
        word(0x0200CDB7);  // lui s11, 0x200C
        load(26, 27, -8);
        addi(26, 26, 20 + static_cast<int>(any(300)));
        word(0x02004DB7);
        store(26, 27, 0);
        word(0x30200073);
    }
    void function(std::size_t f) {
        if (any(2) == 0) half(1);  // some begin between words
        functions_[f] = here();
        addi(2, 2, -64);
        store(1, 2, 60);
        body(f, 0);
        load(1, 2, 60);
        addi(2, 2, 64);
        if (f + 1 < kFunctions && any(3) == 0)  // a tail call
            calls_.emplace_back(jal(0), f + 1 + any(static_cast<unsigned>(kFunctions - f - 1)));
        else
            ret();
    }
    void body(std::size_t f, unsigned depth) {
        for (unsigned n = 1 + any(4); n > 0; --n) statement(f, depth);
    }
    void compute() {
        const unsigned rd = 6 + any(10), a = 6 + any(10), b = 6 + any(10);
        switch (any(5)) {
            case 0:
                word(b << 20 | a << 15 | rd << 7 | 0x33);  // add
                break;
            case 1:
                word(1u << 25 | b << 20 | a << 15 | rd << 7 | 0x33);  // mul
                break;
            case 2:
                half(0x8C3Du | (any(2) << 7));  // c.xor of s0 or s1 with a5: of no use here
                break;
            case 3:
                half(0x0001);  // c.nop
                break;
            default:
                addi(rd, a, static_cast<int>(any(4096)) - 2048);
        }
    }
    // A random bit of a random register, in t6.
    void flip_coin() {
        word(i_type(0x13, 5, 31, 6 + any(10), static_cast<int>(any(31))));
        word(i_type(0x13, 7, 31, 31, 1));
    }
    void statement(std::size_t f, unsigned depth) {
        const bool calls = f + 1 < kFunctions;
        const std::size_t callee = calls ? f + 1 + any(static_cast<unsigned>(kFunctions - f - 1)) : 0;
        switch (any(14)) {
            case 0:
            case 1:
                if (depth >= kDepth) return compute();
                {  // if, else
                    flip_coin();
                    const std::uint32_t other = branch(any(2), 31, 0);
                    body(f, depth + 1);
                    const std::uint32_t out = jal(0);
                    patch_branch(other, here());
                    body(f, depth + 1);
                    patch_jal(out, here());
                }
                return;
            case 2:
            case 3:
                if (depth >= kDepth) return compute();
                {  // a counted loop; some very long
                    const int slot = static_cast<int>(depth) * 4;
                    addi(28, 0, 1 + static_cast<int>(any(8) == 0 ? 40 + any(60) : any(6)));
                    store(28, 2, slot);
                    const std::uint32_t top = here();
                    body(f, depth + 1);
                    load(28, 2, slot);
                    addi(28, 28, -1);
                    store(28, 2, slot);
                    patch_branch(branch(1, 28, 0), top);
                }
                return;
            case 4:
            case 5:
                if (!calls) return compute();
                calls_.emplace_back(jal(1), callee);
                if (any(3) == 0) calls_.emplace_back(jal(1), callee);  // twice: the same way again
                return;
            case 6:
                if (!calls) return compute();
                far_calls_.emplace_back(auipc(1), callee);  // inferable as a pair
                jalr(1, 1, 0);
                return;
            case 7:
                if (!calls) return compute();
                far_calls_.emplace_back(auipc(30), callee);
                addi(30, 30, 0);
                if (any(2) == 0)
                    half(0x9F02);  // c.jalr t5
                else
                    jalr(1, 30, 0);
                return;
            case 8: {  // a jump table of four two-instruction entries
                flip_coin();
                word(i_type(0x13, 1, 31, 31, 3));
                word(30u << 7 | 0x17);  // auipc t5, 0
                word(31u << 20 | 30u << 15 | 30u << 7 | 0x33);
                jalr(0, 30, 12);
                addi(6, 6, 1);
                addi(7, 7, 3);
                addi(8, 8, 5);
                return;
            }
            case 9:
                word(any(2) == 0 ? 0x00000073 : 0x00100073);  // ecall, ebreak
                return;
            case 10:
                load(9, 0, 0x100);  // no memory there
                return;
            case 11: {  // millicode, linked by t0
                const std::uint32_t over = jal(0);
                const std::uint32_t milli = here();
                addi(10, 10, 1);
                jalr(0, 5, 0);
                patch_jal(over, here());
                patch_jal(jal(5), milli);
                return;
            }
            default:
                compute();
        }
    }

    std::mt19937_64 random_;
    std::vector<std::uint16_t> halves_;
    std::array<std::uint32_t, kFunctions> functions_{};
    std::vector<std::pair<std::uint32_t, std::size_t>> calls_, far_calls_;
    std::uint32_t handler_ = 0, handler_pair_ = 0;
};

}  // namespace mt
