#include "rv_core.h"

#include <algorithm>
#include <cstring>

#include "target/riscv_insn.h"

namespace board {
namespace {

constexpr std::uint32_t kTimerBase = 0x02000000, kPlicBase = 0x0C000000, kUart = 0x10000000;
constexpr std::uint32_t kEdgeSource = 10;  ///< the encoder's interrupt line
constexpr std::uint32_t kInterrupt = 0x80000000;
enum : std::uint32_t { kMsi = 3, kMti = 7, kMei = 11 };
constexpr std::uint32_t kEcall = 0x0000'0073, kEbreak = 0x0010'0073;
enum : std::uint32_t { kMie = 1u << 3, kMpie = 1u << 7, kMpp = 3u << 11 };

using mt::bits, mt::rv::imm_b, mt::rv::imm_i, mt::rv::imm_j, mt::rv::imm_s;
using mt::rv::with_sign;

}  // namespace

RvCore::RvCore(std::shared_ptr<const mt::Image> image, std::uint64_t seed)
    : image_(std::move(image)), seed_(seed), ram_(kRamBytes) {
    reset();
}

void RvCore::reset() {
    if (listener_ != nullptr) listener_->restarted();
    random_.seed(seed_);
    std::fill(ram_.begin(), ram_.end(), std::uint8_t{0});
    x_.fill(0);
    pc_ = kRam;
    if (image_) {
        pc_ = static_cast<std::uint32_t>(image_->entry());
        for (const auto& piece : image_->pieces()) write(static_cast<std::uint32_t>(piece.loaded_at), piece.bytes);
    }
    cycle_ = retired_ = 0;
    timer_compare_ = ~std::uint64_t{0};
    next_edge_ = 23'000;
    next_doorbell_ = 104'321;
    mstatus_ = mie_ = mtvec_ = mscratch_ = mepc_ = mcause_ = mtval_ = software_ = 0;
    edge_pending_ = edge_claimed_ = edge_enabled_ = edge_priority_ = threshold_ = 0;
    reservation_.reset();
    asleep_ = false;
    hit_.reset();
}

std::string RvCore::target_xml() const {
    static constexpr const char* names[] = {"zero", "ra", "sp", "gp", "tp",  "t0",  "t1", "t2", "fp", "s1", "a0",
                                            "a1",   "a2", "a3", "a4", "a5",  "a6",  "a7", "s2", "s3", "s4", "s5",
                                            "s6",   "s7", "s8", "s9", "s10", "s11", "t3", "t4", "t5", "t6", "pc"};
    std::string xml =
        "<?xml version=\"1.0\"?><!DOCTYPE target SYSTEM \"gdb-target.dtd\"><target version=\"1.0\">"
        "<architecture>riscv:rv32</architecture><feature name=\"org.gnu.gdb.riscv.cpu\">";
    for (unsigned n = 0; n < 33; ++n)
        xml += "<reg name=\"" + std::string(names[n]) + "\" bitsize=\"32\" regnum=\"" + std::to_string(n) +
               "\" type=\"" +
               (n == 32  ? "code_ptr"
                : n == 2 ? "data_ptr"
                         : "int") +
               "\"/>";
    return xml + "</feature></target>";
}

void RvCore::write_register(std::size_t n, std::uint32_t value) {
    if (n == 32)
        pc_ = value & ~1u;
    else if (n > 0 && n < 32)
        x_[n] = value;
}

bool RvCore::read(std::uint32_t address, std::span<std::uint8_t> into) {
    if (address < kRam || address - kRam > kRamBytes || into.size() > kRamBytes - (address - kRam)) return false;
    std::copy_n(ram_.begin() + (address - kRam), into.size(), into.begin());
    return true;
}

bool RvCore::write(std::uint32_t address, std::span<const std::uint8_t> bytes) {
    if (address < kRam || address - kRam > kRamBytes || bytes.size() > kRamBytes - (address - kRam)) return false;
    std::copy(bytes.begin(), bytes.end(), ram_.begin() + (address - kRam));
    return true;
}

// Devices ------------------------------------------------------------------------------------------

// The encoder's edges come about 500 times a second; the main core rings each 25 ms.
void RvCore::devices() {
    if (cycle_ >= next_edge_) {
        edge_pending_ = 1;
        next_edge_ = cycle_ + 18'000 + random_() % 4'000;
    }
    if (cycle_ >= next_doorbell_) {
        software_ = 1;
        next_doorbell_ += 250'000;
    }
}

std::uint64_t RvCore::next_event() const {
    std::uint64_t next = std::min(next_edge_, next_doorbell_);
    if (timer_compare_ > cycle_) next = std::min(next, timer_compare_);
    return next;
}

std::uint32_t RvCore::pending() const {
    std::uint32_t mip = 0;
    if (software_ != 0) mip |= 1u << kMsi;
    if (cycle_ >= timer_compare_) mip |= 1u << kMti;
    if (edge_pending_ != 0 && edge_claimed_ == 0 && edge_enabled_ != 0 && edge_priority_ > threshold_)
        mip |= 1u << kMei;
    return mip;
}

std::uint32_t RvCore::device_read(std::uint32_t address) const {
    switch (address) {
        case kTimerBase:
            return software_;
        case kTimerBase + 0x4000:
            return static_cast<std::uint32_t>(timer_compare_);
        case kTimerBase + 0x4004:
            return static_cast<std::uint32_t>(timer_compare_ >> 32);
        case kTimerBase + 0xBFF8:
            return static_cast<std::uint32_t>(cycle_);
        case kTimerBase + 0xBFFC:
            return static_cast<std::uint32_t>(cycle_ >> 32);
        case kPlicBase + 4 * kEdgeSource:
            return edge_priority_;
        case kPlicBase + 0x1000:
            return edge_pending_ << kEdgeSource;
        case kPlicBase + 0x2000:
            return edge_enabled_ << kEdgeSource;
        case kPlicBase + 0x200000:
            return threshold_;
        case kUart + 5:
            return 0x60;  // ready to send
        default:
            return 0;
    }
}

std::uint32_t RvCore::device_read_claim() {
    if (edge_pending_ == 0 || edge_claimed_ != 0) return 0;
    edge_pending_ = 0;
    edge_claimed_ = 1;
    return kEdgeSource;
}

void RvCore::device_write(std::uint32_t address, std::uint32_t value) {
    switch (address) {
        case kTimerBase:
            software_ = value & 1;
            break;
        case kTimerBase + 0x4000:
            timer_compare_ = (timer_compare_ & ~std::uint64_t{0xFFFFFFFF}) | value;
            break;
        case kTimerBase + 0x4004:
            timer_compare_ = (timer_compare_ & 0xFFFFFFFF) | static_cast<std::uint64_t>(value) << 32;
            break;
        case kPlicBase + 4 * kEdgeSource:
            edge_priority_ = value & 7;
            break;
        case kPlicBase + 0x2000:
            edge_enabled_ = value >> kEdgeSource & 1;
            break;
        case kPlicBase + 0x200000:
            threshold_ = value & 7;
            break;
        case kPlicBase + 0x200004:
            if (value == kEdgeSource) edge_claimed_ = 0;
            break;
        default:
            break;
    }
}

// Memory -------------------------------------------------------------------------------------------

void RvCore::check_watch(std::uint32_t address, std::uint32_t length, bool is_write) {
    for (const Watch& w : watches) {
        if (address + length <= w.address || address >= w.address + w.length) continue;
        if (w.kind == (is_write ? 'r' : 'w')) continue;
        hit_ = Stop{Stop::Why::watchpoint, w.address, w.kind};
    }
}

template <class T>
T RvCore::load(std::uint32_t address) {
    if (address % sizeof(T) != 0) throw Trap{4, address};
    if (!watches.empty()) check_watch(address, sizeof(T), false);
    if (address - kRam <= kRamBytes - sizeof(T)) {
        T v;
        std::memcpy(&v, ram_.data() + (address - kRam), sizeof(T));
        return v;
    }
    if (address == kPlicBase + 0x200004) return static_cast<T>(device_read_claim());
    if ((address >= kTimerBase && address < kTimerBase + 0x10000) ||
        (address >= kPlicBase && address < kPlicBase + 0x400000) || (address >= kUart && address < kUart + 0x100))
        return static_cast<T>(device_read(address));
    throw Trap{5, address};
}

template <class T>
void RvCore::store(std::uint32_t address, T value) {
    if (address % sizeof(T) != 0) throw Trap{6, address};
    if (!watches.empty()) check_watch(address, sizeof(T), true);
    if (address - kRam <= kRamBytes - sizeof(T)) {
        std::memcpy(ram_.data() + (address - kRam), &value, sizeof(T));
        return;
    }
    if ((address >= kTimerBase && address < kTimerBase + 0x10000) ||
        (address >= kPlicBase && address < kPlicBase + 0x400000) || (address >= kUart && address < kUart + 0x100)) {
        device_write(address, value);
        return;
    }
    throw Trap{7, address};
}

// Control and status registers -----------------------------------------------------------------------

std::uint32_t RvCore::csr(std::uint32_t number) const {
    switch (number) {
        case 0x300:
            return mstatus_ | kMpp;
        case 0x301:
            return 0x40000000 | 1u << 8 | 1u << 12 | 1u << 0 | 1u << 2;  // RV32 I M A C
        case 0x304:
            return mie_;
        case 0x305:
            return mtvec_;
        case 0x340:
            return mscratch_;
        case 0x341:
            return mepc_;
        case 0x342:
            return mcause_;
        case 0x343:
            return mtval_;
        case 0x344:
            return pending();
        case 0xB00:
        case 0xC00:
        case 0xC01:
            return static_cast<std::uint32_t>(cycle_);
        case 0xB80:
        case 0xC80:
        case 0xC81:
            return static_cast<std::uint32_t>(cycle_ >> 32);
        case 0xB02:
        case 0xC02:
            return static_cast<std::uint32_t>(retired_);
        case 0xB82:
        case 0xC82:
            return static_cast<std::uint32_t>(retired_ >> 32);
        case 0xF11:
        case 0xF12:
        case 0xF13:
        case 0xF14:
            return 0;
        default:
            throw Trap{2, 0};
    }
}

void RvCore::set_csr(std::uint32_t number, std::uint32_t value) {
    switch (number) {
        case 0x300:
            mstatus_ = value & (kMie | kMpie);
            break;
        case 0x304:
            mie_ = value & (1u << kMsi | 1u << kMti | 1u << kMei);
            break;
        case 0x305:
            mtvec_ = value & ~2u;
            break;
        case 0x340:
            mscratch_ = value;
            break;
        case 0x341:
            mepc_ = value & ~1u;
            break;
        case 0x342:
            mcause_ = value;
            break;
        case 0x343:
            mtval_ = value;
            break;
        case 0x301:
        case 0x344:
        case 0xB00:
        case 0xB80:
        case 0xB02:
        case 0xB82:
            break;
        default:
            throw Trap{2, 0};
    }
}

void RvCore::trap(std::uint32_t cause, std::uint32_t value) {
    if (listener_ != nullptr) listener_->trapped({cause & ~kInterrupt, value, pc_, (cause & kInterrupt) != 0, cycle_});
    mepc_ = pc_;
    mcause_ = cause;
    mtval_ = value;
    mstatus_ = (mstatus_ & ~(kMie | kMpie)) | ((mstatus_ & kMie) != 0 ? +kMpie : 0u);
    const bool vectored = (mtvec_ & 1) != 0 && (cause & kInterrupt) != 0;
    pc_ = (mtvec_ & ~3u) + (vectored ? 4 * (cause & ~kInterrupt) : 0);
}

// Volume II, section 3.1.9: external before software before timer.
bool RvCore::take_interrupt() {
    if ((mstatus_ & kMie) == 0) return false;
    const std::uint32_t ready = pending() & mie_;
    if (ready == 0) return false;
    for (const std::uint32_t cause : {+kMei, +kMsi, +kMti})
        if ((ready & 1u << cause) != 0) {
            trap(kInterrupt | cause, 0);
            return true;
        }
    return false;
}

// Instructions -----------------------------------------------------------------------------------------

std::optional<Stop> RvCore::run(std::uint64_t cycles) {
    const std::uint64_t until = cycle_ + cycles;
    hit_.reset();
    bool first = true;
    while (cycle_ < until) {
        if (!first && !breakpoints.empty() && breakpoints.count(pc_) != 0) return Stop{Stop::Why::breakpoint, pc_, 'w'};
        first = false;
        devices();
        if (asleep_) {
            if ((pending() & mie_) == 0) {
                cycle_ = std::clamp(next_event(), cycle_ + 1, until);
                first = true;
                continue;
            }
            asleep_ = false;
        }
        if (take_interrupt() && breakpoints.count(pc_) != 0) return Stop{Stop::Why::breakpoint, pc_, 'w'};
        execute();
        if (hit_) return std::exchange(hit_, std::nullopt);
    }
    return std::nullopt;
}

void RvCore::step() {
    devices();
    if (asleep_) {
        while ((pending() & mie_) == 0) {
            cycle_ = std::max(cycle_ + 1, next_event());
            devices();
        }
        asleep_ = false;
    }
    if (!take_interrupt()) execute();
    hit_.reset();
}

void RvCore::execute() {
    ++cycle_;
    RvRetired insn{pc_, 0, 4, 0, cycle_};
    try {
        const std::uint32_t at = pc_ - kRam;
        if (at > kRamBytes - 4) throw Trap{1, pc_};
        std::memcpy(&insn.word, ram_.data() + at, 4);
        if ((insn.word & 3) != 3) {
            const auto half = static_cast<std::uint16_t>(insn.word);
            insn.word = mt::rv::expanded(half);
            insn.length = 2;
            if (insn.word == 0) throw Trap{2, half};
        }
        execute_one(insn.word, insn.length);
        ++retired_;
        if (listener_ != nullptr) {
            insn.next = pc_;
            listener_->retired(insn);
        }
    } catch (const Trap& t) {
        if (listener_ != nullptr && (insn.word == kEcall || insn.word == kEbreak)) {
            insn.next = pc_;
            listener_->retired(insn);
        }
        trap(t.cause, t.value);
    }
}

void RvCore::execute_one(std::uint32_t i, std::uint32_t length) {
    const std::uint32_t rd = bits(i, 11, 7), f3 = bits(i, 14, 12), f7 = bits(i, 31, 25);
    const std::uint32_t a = x_[bits(i, 19, 15)], b = x_[bits(i, 24, 20)];
    const auto sa = static_cast<std::int32_t>(a), sb = static_cast<std::int32_t>(b);
    std::uint32_t next = pc_ + length;
    switch (i & 0x7F) {
        case 0x37:
            set(rd, i & 0xFFFFF000);
            break;
        case 0x17:
            set(rd, pc_ + (i & 0xFFFFF000));
            break;
        case 0x6F:
            set(rd, next);
            next = pc_ + imm_j(i);
            break;
        case 0x67:
            if (f3 != 0) throw Trap{2, i};
            set(rd, next);
            next = (a + imm_i(i)) & ~1u;
            break;
        case 0x63: {
            bool taken = false;
            switch (f3) {
                case 0:
                    taken = a == b;
                    break;
                case 1:
                    taken = a != b;
                    break;
                case 4:
                    taken = sa < sb;
                    break;
                case 5:
                    taken = sa >= sb;
                    break;
                case 6:
                    taken = a < b;
                    break;
                case 7:
                    taken = a >= b;
                    break;
                default:
                    throw Trap{2, i};
            }
            if (taken) next = pc_ + imm_b(i);
            break;
        }
        case 0x03: {
            const std::uint32_t at = a + imm_i(i);
            switch (f3) {
                case 0:
                    set(rd, with_sign(load<std::uint8_t>(at), 8));
                    break;
                case 1:
                    set(rd, with_sign(load<std::uint16_t>(at), 16));
                    break;
                case 2:
                    set(rd, load<std::uint32_t>(at));
                    break;
                case 4:
                    set(rd, load<std::uint8_t>(at));
                    break;
                case 5:
                    set(rd, load<std::uint16_t>(at));
                    break;
                default:
                    throw Trap{2, i};
            }
            break;
        }
        case 0x23: {
            const std::uint32_t at = a + imm_s(i);
            switch (f3) {
                case 0:
                    store<std::uint8_t>(at, static_cast<std::uint8_t>(b));
                    break;
                case 1:
                    store<std::uint16_t>(at, static_cast<std::uint16_t>(b));
                    break;
                case 2:
                    store<std::uint32_t>(at, b);
                    break;
                default:
                    throw Trap{2, i};
            }
            break;
        }
        case 0x13: {
            const std::uint32_t imm = imm_i(i), shift = imm & 31;
            switch (f3) {
                case 0:
                    set(rd, a + imm);
                    break;
                case 1:
                    if (f7 != 0) throw Trap{2, i};
                    set(rd, a << shift);
                    break;
                case 2:
                    set(rd, sa < static_cast<std::int32_t>(imm) ? 1 : 0);
                    break;
                case 3:
                    set(rd, a < imm ? 1 : 0);
                    break;
                case 4:
                    set(rd, a ^ imm);
                    break;
                case 5:
                    if (f7 == 0)
                        set(rd, a >> shift);
                    else if (f7 == 0x20)
                        set(rd, static_cast<std::uint32_t>(sa >> shift));
                    else
                        throw Trap{2, i};
                    break;
                case 6:
                    set(rd, a | imm);
                    break;
                default:
                    set(rd, a & imm);
                    break;
            }
            break;
        }
        case 0x33:
            if (f7 == 0 || f7 == 0x20) {
                if (f7 == 0x20 && f3 != 0 && f3 != 5) throw Trap{2, i};
                switch (f3) {
                    case 0:
                        set(rd, f7 == 0 ? a + b : a - b);
                        break;
                    case 1:
                        set(rd, a << (b & 31));
                        break;
                    case 2:
                        set(rd, sa < sb ? 1 : 0);
                        break;
                    case 3:
                        set(rd, a < b ? 1 : 0);
                        break;
                    case 4:
                        set(rd, a ^ b);
                        break;
                    case 5:
                        set(rd, f7 == 0 ? a >> (b & 31) : static_cast<std::uint32_t>(sa >> (b & 31)));
                        break;
                    case 6:
                        set(rd, a | b);
                        break;
                    default:
                        set(rd, a & b);
                        break;
                }
            } else if (f7 == 1) {  // chapter 7: "M"; division by zero and overflow give fixed results
                const std::int64_t wa = sa, wb = sb;
                const bool overflow = a == 0x80000000 && b == 0xFFFFFFFF;
                switch (f3) {
                    case 0:
                        set(rd, a * b);
                        break;
                    case 1:
                        set(rd, static_cast<std::uint32_t>(wa * wb >> 32));
                        break;
                    case 2:
                        set(rd, static_cast<std::uint32_t>(wa * static_cast<std::int64_t>(b) >> 32));
                        break;
                    case 3:
                        set(rd, static_cast<std::uint32_t>(std::uint64_t{a} * b >> 32));
                        break;
                    case 4:
                        set(rd, b == 0 ? ~0u : overflow ? a : static_cast<std::uint32_t>(sa / sb));
                        break;
                    case 5:
                        set(rd, b == 0 ? ~0u : a / b);
                        break;
                    case 6:
                        set(rd, b == 0 ? a : overflow ? 0 : static_cast<std::uint32_t>(sa % sb));
                        break;
                    default:
                        set(rd, b == 0 ? a : a % b);
                        break;
                }
            } else {
                throw Trap{2, i};
            }
            break;
        case 0x0F:
            break;  // FENCE: one hart, in order
        case 0x2F:
            execute_amo(i);
            break;
        case 0x73:
            execute_system(i, length);
            return;
        default:
            throw Trap{2, i};
    }
    pc_ = next;
}

// Chapter 8, "A".
void RvCore::execute_amo(std::uint32_t i) {
    if (bits(i, 14, 12) != 2) throw Trap{2, i};
    const std::uint32_t rd = bits(i, 11, 7), at = x_[bits(i, 19, 15)], b = x_[bits(i, 24, 20)], op = bits(i, 31, 27);
    if (op == 2) {
        set(rd, load<std::uint32_t>(at));
        reservation_ = at;
        return;
    }
    if (op == 3) {
        const bool holds = reservation_ == at;
        reservation_.reset();
        if (holds) store<std::uint32_t>(at, b);
        set(rd, holds ? 0 : 1);
        return;
    }
    const std::uint32_t old = load<std::uint32_t>(at);
    const auto so = static_cast<std::int32_t>(old), sb = static_cast<std::int32_t>(b);
    std::uint32_t value = 0;
    switch (op) {
        case 0:
            value = old + b;
            break;
        case 1:
            value = b;
            break;
        case 4:
            value = old ^ b;
            break;
        case 8:
            value = old | b;
            break;
        case 12:
            value = old & b;
            break;
        case 16:
            value = so < sb ? old : b;
            break;
        case 20:
            value = so > sb ? old : b;
            break;
        case 24:
            value = std::min(old, b);
            break;
        case 28:
            value = std::max(old, b);
            break;
        default:
            throw Trap{2, i};
    }
    store<std::uint32_t>(at, value);
    set(rd, old);
}

void RvCore::execute_system(std::uint32_t i, std::uint32_t length) {
    const std::uint32_t f3 = bits(i, 14, 12), rd = bits(i, 11, 7), rs1 = bits(i, 19, 15), number = i >> 20;
    if (f3 == 0) {
        switch (i) {
            case kEcall:
                throw Trap{11, 0};
            case kEbreak:
                throw Trap{3, pc_};
            case 0x30200073:  // MRET
                mstatus_ = (mstatus_ & ~kMie) | ((mstatus_ & kMpie) != 0 ? +kMie : 0u) | kMpie;
                reservation_.reset();
                pc_ = mepc_;
                return;
            case 0x10500073:  // WFI
                asleep_ = true;
                pc_ += length;
                return;
            default:
                throw Trap{2, i};
        }
    }
    if (f3 == 4) throw Trap{2, i};
    const std::uint32_t operand = (f3 & 4) != 0 ? rs1 : x_[rs1], old = csr(number);
    switch (f3 & 3) {
        case 1:
            if (number >= 0xC00) throw Trap{2, i};
            set_csr(number, operand);
            break;
        case 2:
            if (rs1 != 0) set_csr(number, old | operand);
            break;
        default:
            if (rs1 != 0) set_csr(number, old & ~operand);
            break;
    }
    set(rd, old);
    pc_ += length;
}

}  // namespace board
