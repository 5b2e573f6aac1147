#include "target/code.h"

#include <algorithm>
#include <bit>
#include <cstring>

namespace mt {

namespace {

// What an instruction of a set does; null: that is not known.
using Classify = FlowInsn (*)(std::span<const std::uint8_t> bytes, std::uint64_t address);
Classify classify(Isa isa) {
    switch (isa) {
        case Isa::thumb:
            return thumb_flow;
        case Isa::arm:
            return arm_flow;
        case Isa::a64:
            return a64_flow;
        case Isa::rv32:
            return [](std::span<const std::uint8_t> bytes, std::uint64_t at) { return riscv_flow(bytes, at, 32); };
        case Isa::rv64:
            return [](std::span<const std::uint8_t> bytes, std::uint64_t at) { return riscv_flow(bytes, at, 64); };
    }
    return nullptr;
}

}  // namespace

std::optional<Isa> isa_of(std::string_view isa) {
    if (isa.starts_with("rv32")) return Isa::rv32;
    if (isa.starts_with("rv64")) return Isa::rv64;
    if (!isa.starts_with("armv")) return std::nullopt;
    if (isa.find("-m") != std::string_view::npos || isa == "armv7e-m") return Isa::thumb;
    const bool wide = isa.starts_with("armv8") || isa.starts_with("armv9");
    return wide && isa.ends_with("-a") ? Isa::a64 : Isa::arm;
}

bool Code::can_follow(const std::string& isa) {
    const auto known = isa_of(isa);
    return known && classify(*known) != nullptr;
}

std::shared_ptr<const Code> Code::of(std::span<const Image::Piece> pieces, const std::string& isa) {
    return of(pieces, {}, isa);
}

std::shared_ptr<const Code> Code::of(std::span<const Image::Piece> common, std::span<const Context> contexts,
                                     const std::string& isa) {
    return made(common, contexts, isa, nullptr);
}

std::shared_ptr<Code> Code::made(std::span<const Image::Piece> common, std::span<const Context> contexts, const std::string& isa,
                                 const Image* image) {
    auto code = std::make_shared<Code>();
    code->isa_ = isa_of(isa).value_or(Isa::rv32);
    code->slots_.emplace_back();  // slot 0: nowhere
    for (const auto& piece : common) code->add(piece, 0);
    if (code->pieces_.empty()) code->pieces_.emplace_back();
    code->common_ = code->pieces_.size();
    for (const Context& context : contexts)
        for (const auto& piece : context.pieces)
            if (std::none_of(common.begin(), common.end(), [&](const auto& all) { return holds(all, piece); })) code->add(piece, context.number);
    if (code->isa_ == Isa::arm) {
        if (image != nullptr) code->mark_sets(*image, std::nullopt);
        for (const Context& context : contexts)
            if (context.image != nullptr) code->mark_sets(*context.image, context.number);
        std::stable_sort(code->regions_.begin(), code->regions_.end(), [](const Region& a, const Region& b) { return a.first < b.first; });
    }
    code->finish();
    return code;
}

bool Code::holds(const Image::Piece& piece, const Image::Piece& inner) {
    const std::uint64_t from = inner.address - piece.address;
    return from < piece.bytes.size() && inner.bytes.size() <= piece.bytes.size() - from &&
           std::equal(inner.bytes.begin(), inner.bytes.end(), piece.bytes.begin() + static_cast<std::ptrdiff_t>(from));
}

// Which addresses hold Thumb code, and which data: by mapping symbols, else by the lowest bit of functions' addresses
// (AAELF32 5.5.3, 5.5.5).
void Code::mark_sets(const Image& image, std::optional<std::uint32_t> context) {
    const std::size_t before = regions_.size();
    const auto add = [&](std::uint64_t address, Isa isa, bool data) {
        const std::uint32_t slot = context ? slot_in(*context, address) : slot_of(address);
        if (slot != kNowhere && this->context(slot) == context) regions_.push_back({slot, isa, data});
    };
    for (const Image::Mapping& m : image.mappings()) add(m.address, m.what == 't' ? Isa::thumb : Isa::arm, m.what == 'd');
    if (regions_.size() == before)
        for (const Symbol& s : image.symbols())
            if (s.function) add(s.address & ~std::uint64_t{1}, s.thumb ? Isa::thumb : Isa::arm, false);
}

Isa Code::isa(std::uint32_t slot) const {
    const auto behind = std::upper_bound(regions_.begin(), regions_.end(), slot, [](std::uint32_t s, const Region& r) { return s < r.first; });
    const Piece& p = piece_of(slot);
    return behind == regions_.begin() || std::prev(behind)->first < p.first ? p.isa : std::prev(behind)->isa;
}

std::shared_ptr<const Code> Code::of(const Image& image, std::span<const Context> contexts, const std::string& isa) {
    return contexts.empty() ? of(image, isa) : made(image.code_pieces(), contexts, isa, &image);
}

// Bytes alone do not tell code from data, and data may look like an IT: only an IT that the program can come to counts.
// It is followed from every word that may be a Thumb address (vectors, tables of functions, literals).
std::shared_ptr<const Code> Code::of(const Image& image, const std::string& isa) {
    const auto code = made(image.code_pieces(), {}, isa, &image);
    if (!image.bare() || code->isa_ != Isa::thumb) return code;
    std::vector<std::uint32_t> open;
    for (const Piece& p : code->pieces_) {
        const std::span<const std::uint8_t> data(p.data.data(), p.bytes);
        for (std::uint32_t i = 0; i < p.bytes / 2; ++i) {
            Slot& s = code->slots_[p.first + i];
            s.flags = static_cast<std::uint8_t>(thumb_flow(data.subspan(2 * i), p.base + 2 * std::uint64_t{i}).flags |
                                                (s.flags & FlowInsn::kSleepAhead));
        }
        for (std::size_t i = 0; i + 4 <= p.bytes; i += 4) {
            const std::uint32_t word = static_cast<std::uint32_t>(data[i] | data[i + 1] << 8 | data[i + 2] << 16) |
                                       std::uint32_t{data[i + 3]} << 24;
            if ((word & 1) != 0 && code->slot_of(word) != kNowhere) open.push_back(code->slot_of(word));
        }
    }
    if (const std::uint32_t entry = code->slot_of(image.entry()); entry != kNowhere) open.push_back(entry);
    // Up to four instructions behind it (Armv7-M ARM A7.3.3).
    const auto mark_it_block = [&code](std::uint32_t it) {
        const unsigned mask = code->bits(it) & 15u;
        std::uint32_t k = it + 1;
        for (int left = 4 - std::countr_zero(mask); left > 0 && k < code->slots_.size(); --left) {
            code->slots_[k].flags |= FlowInsn::kConditional;
            k = code->next(k);
        }
    };
    std::vector<bool> reached(code->slots_.size());
    while (!open.empty()) {
        std::uint32_t at = open.back();
        open.pop_back();
        while (at != kNowhere && at < reached.size() && !reached[at] && code->slots_[at].flow != Flow::none) {
            reached[at] = true;
            const Slot& s = code->slots_[at];
            if ((s.flags & FlowInsn::kIt) != 0) mark_it_block(at);
            if (s.target != kNowhere) open.push_back(s.target);
            const bool falls = s.flow == Flow::next || s.flow == Flow::branch || s.flow == Flow::call ||
                               s.flow == Flow::indirect_call || s.flow == Flow::barrier ||
                               (s.flags & FlowInsn::kConditional) != 0;
            at = falls ? code->next(at) : kNowhere;
        }
    }
    return code;
}

void Code::add(const Image::Piece& piece, std::uint32_t context) {
    const std::size_t bytes = piece.bytes.size() & ~std::size_t{1};
    if (bytes > kMostCode || slots_.size() * 2 + bytes > kMostCode) left_out_ += bytes;
    if (bytes == 0 || bytes > kMostCode || slots_.size() * 2 + bytes > kMostCode) return;
    Piece p;
    p.base = piece.address & ~std::uint64_t{1};
    p.bytes = bytes;
    p.first = static_cast<std::uint32_t>(slots_.size());
    p.isa = isa_;
    p.context = context;
    p.data.assign(piece.bytes.begin(), piece.bytes.begin() + static_cast<std::ptrdiff_t>(bytes));
    p.data.resize(bytes + 2);                      // bits() may look behind the last halfword
    slots_.resize(slots_.size() + bytes / 2 + 1);  // the one behind the last is nowhere, too
    pieces_.push_back(std::move(p));
}

void Code::finish() {
    for (const Piece& p : pieces_) {
        // Its regions, the last first: what a run goes on into is classified before it.
        std::uint32_t end = static_cast<std::uint32_t>(p.bytes / 2);
        auto region = std::upper_bound(regions_.begin(), regions_.end(), p.first + end, [](std::uint32_t s, const Region& r) { return s < r.first; });
        while (end > 0) {
            const bool marked = region != regions_.begin() && std::prev(region)->first >= p.first;
            if (marked) --region;
            const std::uint32_t from = marked ? region->first - p.first : 0;
            if (from < end && !(marked && region->data)) finish_region(p, from, end, marked ? region->isa : p.isa);
            end = std::min(end, from);
        }
    }
}

void Code::finish_region(const Piece& p, std::uint32_t from, std::uint32_t to, Isa isa) {
    const bool common = &p < pieces_.data() + common_;
    const Classify flow_of = classify(isa);
    const std::span<const std::uint8_t> data(p.data.data(), p.bytes);
    for (std::uint32_t i = to; i-- > from;) {
        const std::uint64_t at = p.base + 2 * std::uint64_t{i};
        const FlowInsn insn = flow_of(data.subspan(2 * i), at);
        Slot& s = slots_[p.first + i];
        s.flow = insn.flow;
        s.size = static_cast<std::uint8_t>(insn.size / 2);
        s.flags = insn.flags;
        const bool goes = insn.flow == Flow::branch || insn.flow == Flow::jump || insn.flow == Flow::call;
        s.target = !goes ? kNowhere : common ? slot_of(insn.target) : slot_in(p.context, insn.target);
        const bool inside = i + s.size < to;  // nothing goes on into another set
        if ((insn.flags & FlowInsn::kSleep) != 0 ||
            (insn.flow == Flow::next && (slots_[p.first + i + s.size].flags & FlowInsn::kSleepAhead) != 0))
            s.flags |= FlowInsn::kSleepAhead;
        if (insn.flow == Flow::next && (inside || regions_.empty()) && slots_[p.first + i + s.size].flow != Flow::none) {
            s.last = slots_[p.first + i + s.size].last;
            s.count = slots_[p.first + i + s.size].count + 1;
        } else {
            s.last = p.first + i;
            s.count = 1;
        }
    }
    if (isa == Isa::thumb) mark_it_blocks(p, from, to);
}

// IT blocks make what stands behind them conditional (Armv7-M ARM A7.3.3).
void Code::mark_it_blocks(const Piece& p, std::uint32_t from, std::uint32_t to) {
    for (std::uint32_t i = from; i < to; i += slots_[p.first + i].size) {
        if ((slots_[p.first + i].flags & FlowInsn::kIt) == 0) continue;
        const unsigned mask = p.data[2 * i] & 15u;
        std::uint32_t k = i + 1;
        for (int left = 4 - std::countr_zero(mask); left > 0 && k < to; --left) {
            slots_[p.first + k].flags |= FlowInsn::kConditional;
            k += slots_[p.first + k].size;
        }
    }
}

const Code::Piece& Code::piece_of(std::uint32_t slot) const {
    const Piece* found = &pieces_.front();
    for (const Piece& p : pieces_)
        if (p.first <= slot) found = &p;
    return *found;
}

std::span<const std::uint8_t> Code::bytes_of(std::uint32_t first, std::uint32_t behind) const {
    if (first == kNowhere || behind <= first) return {};
    const Piece& p = piece_of(first);
    const std::uint64_t from = 2 * std::uint64_t{first - p.first}, to = 2 * std::uint64_t{behind - p.first};
    return std::span<const std::uint8_t>(p.data).subspan(std::min(from, p.bytes),
                                                         std::min(to, p.bytes) - std::min(from, p.bytes));
}

std::uint64_t Code::fingerprint() const {
    std::uint64_t hash = 0xCBF2'9CE4'8422'2325u;  // FNV-1a
    const auto add = [&hash](std::uint8_t byte) { hash = (hash ^ byte) * 0x100'0000'01B3u; };
    for (const Piece& p : pieces_) {
        for (unsigned i = 0; i < 8; ++i) add(static_cast<std::uint8_t>(p.base >> (8 * i)));
        for (unsigned i = 0; i < 4; ++i) add(static_cast<std::uint8_t>(p.context >> (8 * i)));
        for (std::uint64_t i = 0; i < p.bytes; ++i) add(p.data[i]);
    }
    return hash;
}

std::uint64_t Code::address(std::uint32_t slot) const {
    const Piece& p = piece_of(slot);
    return p.base + 2 * std::uint64_t{slot - p.first};
}

std::uint32_t Code::bits(std::uint32_t slot) const {
    if (slot == kNowhere) return 0;
    const Piece& p = piece_of(slot);
    const std::size_t at = 2 * std::size_t{slot - p.first};
    if (at >= p.bytes) return 0;
    std::uint32_t word = 0;
    std::memcpy(&word, p.data.data() + at, 4);
    return slots_[slot].size == 1 ? word & 0xFFFF : word;
}

}  // namespace mt
