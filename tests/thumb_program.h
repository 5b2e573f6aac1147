// Random Thumb-2 programs: functions that branch, loop, call later functions and return in every way there is.
#pragma once

#include <cstdint>
#include <memory>
#include <random>
#include <string>
#include <vector>

#include "target/functions.h"

namespace mt::test {

class ThumbProgram {
  public:
    static constexpr std::uint64_t kBase = 0x0800'0000;

    /// `handlers`: of the functions, the last ones; they hold no svc.
    ThumbProgram(std::uint64_t seed, unsigned functions, unsigned handlers) : random_(seed), calls_(functions) {
        std::vector<std::size_t> begins;
        for (unsigned f = 0; f < functions; ++f) {
            begins.push_back(half_.size());
            function(f, functions - handlers);
        }
        begins.push_back(half_.size());
        for (const auto& [at, callee] : calls_to_) wide_branch(at, begins[callee], true);
        for (const std::uint16_t h : half_) {
            bytes_.push_back(static_cast<std::uint8_t>(h));
            bytes_.push_back(static_cast<std::uint8_t>(h >> 8));
        }
        code_ = Code::of(std::vector<Image::Piece>{{kBase, kBase, bytes_, false}}, "armv7e-m");
        std::vector<Function> list;
        for (unsigned f = 0; f < functions; ++f) {
            Function one;
            one.name = "f" + std::to_string(f);
            one.address = kBase + 2 * begins[f];
            one.entry = code_->slot_of(one.address);
            one.end = one.entry + static_cast<std::uint32_t>(begins[f + 1] - begins[f]);
            list.push_back(one);
        }
        functions_ = FunctionTable::of(list, *code_);
    }
    std::shared_ptr<const Code> code() const { return code_; }
    std::shared_ptr<const FunctionTable> functions() const { return functions_; }

  private:
    unsigned chance(unsigned n) { return static_cast<unsigned>(random_() % n); }

    // A body of statements; jumps lead to the begin of one of them: forwards by any kind, backwards only by a
    // condition.
    void function(unsigned self, unsigned threads) {
        struct Jump {
            std::size_t at, to;
            unsigned kind;
        };
        const std::size_t n = 4 + chance(14);
        std::vector<std::size_t> begins;
        std::vector<Jump> jumps;
        for (std::size_t i = 0; i < n; ++i) {
            begins.push_back(half_.size());
            for (unsigned k = chance(4); k-- > 0;) chance(3) == 0 ? wide(0xF3AF, 0x8000) : half(0xBF00);
            const std::size_t later = i + 1 + chance(static_cast<unsigned>(n - i));
            switch (chance(self < threads ? 11 : 10)) {
                case 0:  // B<c>, either way
                    jumps.push_back(
                        {half_.size(), chance(3) == 0 ? i - std::min<std::size_t>(i, chance(3)) : later, 0});
                    half(0);
                    break;
                case 1:  // B<c>.W
                    jumps.push_back(
                        {half_.size(), chance(3) == 0 ? i - std::min<std::size_t>(i, chance(3)) : later, 1});
                    wide(0, 0);
                    break;
                case 2:  // CBZ, CBNZ
                    jumps.push_back({half_.size(), later, 2});
                    half(0);
                    break;
                case 3:  // B
                    jumps.push_back({half_.size(), later, 3});
                    half(0);
                    break;
                case 4:  // B.W
                    jumps.push_back({half_.size(), later, 4});
                    wide(0, 0);
                    break;
                case 5:
                case 6:  // BL
                    if (self + 1 < (self < threads ? threads : calls_)) {
                        const unsigned last = self < threads ? threads : calls_;
                        calls_to_.emplace_back(half_.size(), self + 1 + chance(last - self - 1));
                        wide(0, 0);
                    }
                    break;
                case 7:  // IT; BX LR
                    half(0xBF08);
                    half(0x4770);
                    break;
                case 8:  // IT; POP {PC}
                    half(0xBF18);
                    half(0xBD00);
                    break;
                case 10:
                    half(0xDF01);  // SVC
                    break;
                default:
                    break;
            }
        }
        begins.push_back(half_.size());
        half(0xBF00);
        chance(2) == 0 ? half(0x4770) : half(0xBD10);  // BX LR, POP {R4, PC}
        for (const Jump& j : jumps) branch(j.at, begins[j.to], j.kind);
    }
    void half(std::uint16_t h) { half_.push_back(h); }
    void wide(std::uint16_t a, std::uint16_t b) {
        half(a);
        half(b);
    }
    // Encodings T1 to T4 of B, and of CBZ (Armv7-M ARM A7.7.12, A7.7.21).
    void branch(std::size_t at, std::size_t to, unsigned kind) {
        const auto offset = static_cast<std::int64_t>(2 * to) - static_cast<std::int64_t>(2 * at + 4);
        const auto bits = static_cast<std::uint32_t>(offset >> 1);
        switch (kind) {
            case 0:
                if (offset < -256 || offset > 254) return void(half_[at] = 0xBF00);
                half_[at] = static_cast<std::uint16_t>(0xD000 | chance(14) << 8 | (bits & 0xFF));
                break;
            case 1:
                half_[at] = static_cast<std::uint16_t>(0xF000 | (offset < 0 ? 1u << 10 : 0) | chance(14) << 6 |
                                                       (bits >> 11 & 0x3F));
                half_[at + 1] = static_cast<std::uint16_t>(0x8000 | (offset < 0 ? 0x2800 : 0) | (bits & 0x7FF));
                break;
            case 2:
                if (offset < 0 || offset > 126) return void(half_[at] = 0xBF00);
                half_[at] =
                    static_cast<std::uint16_t>(0xB100 | chance(2) << 11 | (bits >> 5 & 1) << 9 | (bits & 31) << 3);
                break;
            case 3:
                half_[at] = static_cast<std::uint16_t>(0xE000 | (bits & 0x7FF));
                break;
            default:
                wide_branch(at, to, false);
        }
    }
    // B.W and BL: the upper bits of the offset are sent as their likeness to its sign.
    void wide_branch(std::size_t at, std::size_t to, bool link) {
        const auto offset = static_cast<std::int64_t>(2 * to) - static_cast<std::int64_t>(2 * at + 4);
        const auto v = static_cast<std::uint32_t>(offset);
        const std::uint32_t s = v >> 31, i1 = v >> 23 & 1, i2 = v >> 22 & 1;
        half_[at] = static_cast<std::uint16_t>(0xF000 | s << 10 | (v >> 12 & 0x3FF));
        half_[at + 1] = static_cast<std::uint16_t>((link ? 0xD000 : 0x9000) | (~(i1 ^ s) & 1) << 13 |
                                                   (~(i2 ^ s) & 1) << 11 | (v >> 1 & 0x7FF));
    }

    std::mt19937_64 random_;
    unsigned calls_;
    std::vector<std::uint16_t> half_;
    std::vector<std::uint8_t> bytes_;
    std::vector<std::pair<std::size_t, unsigned>> calls_to_;
    std::shared_ptr<const Code> code_;
    std::shared_ptr<const FunctionTable> functions_;
};

}  // namespace mt::test
