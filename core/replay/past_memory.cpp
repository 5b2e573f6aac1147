#include "replay/past_memory.h"

#include <algorithm>

#include "target/writable_memory.h"

namespace mt {
namespace {

constexpr std::uint64_t kMostVariable = std::uint64_t{1} << 28;
constexpr std::uint64_t kWide = std::uint64_t{1} << 20;  // a store into a range as wide as this may be anywhere
constexpr std::uint64_t kNarrow = 256;
constexpr std::size_t kMostSpoiled = 64, kMostBounds = 4096;

// A bit for each byte. REQUIRES: 0 < count, first + count <= 64
std::uint64_t bits_of(std::uint64_t first, std::uint64_t count) { return ~std::uint64_t{0} >> (64 - count) << first; }

}  // namespace

PastMemory::PastMemory(const Image& image, bool as_loaded) {
    for (const auto& [begin, end] : writable_memory(image.path())) add_memory(begin, end);
    // Variables that the file does not fill have names and sizes.
    for (const Symbol& s : image.symbols()) {
        const bool device = image.machine() == Image::Machine::arm &&
                            ((s.address >= 0x4000'0000 && s.address < 0x6000'0000) || s.address >= 0xE000'0000);
        if (!s.function && s.size > 0 && s.size <= kMostVariable && !device) add_memory(s.address, s.address + s.size);
    }
    for (const Image::Piece& piece : image.pieces()) {
        if (!piece.writable) fixed_.push_back({piece.address, piece.bytes});
        if (!piece.writable) continue;
        add_memory(piece.address, piece.address + piece.bytes.size());
        // Where the loader puts it elsewhere, start-up code copies it from there.
        if (piece.loaded_at != piece.address) {
            fixed_.push_back({piece.loaded_at, piece.bytes});
            continue;
        }
        for (std::size_t i = 0; as_loaded && i < piece.bytes.size(); ++i)
            write(piece.address + i, 1, {piece.bytes[i], true}, Known::kNever);
    }
}

void PastMemory::add_memory(std::uint64_t begin, std::uint64_t end) {
    auto at = std::lower_bound(memory_.begin(), memory_.end(), std::pair(begin, end));
    at = memory_.insert(at, {begin, end});
    if (at != memory_.begin() && std::prev(at)->second >= begin) --at;
    auto last = std::next(at);
    std::uint64_t reach = std::max(at->second, end);
    for (; last != memory_.end() && last->first <= reach; ++last) reach = std::max(reach, last->second);
    at->second = reach;
    memory_.erase(std::next(at), last);
}

bool PastMemory::is_memory(std::uint64_t address) const {
    const auto behind = std::upper_bound(memory_.begin(), memory_.end(), std::pair(address, ~std::uint64_t{0}));
    if (behind != memory_.begin() && address < std::prev(behind)->second) return true;
    return stack_pages_.count(address / kPage) != 0;
}

const PastMemory::Line* PastMemory::find(std::uint64_t address) const {
    if (address / kPage != recent_) {
        const auto found = pages_.find(address / kPage);
        recent_ = address / kPage;
        recent_page_ = found == pages_.end() ? nullptr : found->second.get();
    }
    if (recent_page_ == nullptr) return nullptr;
    const Line* line = (*recent_page_)[address % kPage / kLine].get();
    return line != nullptr && line->age == age_ ? line : nullptr;
}

PastMemory::Line& PastMemory::own(std::uint64_t address) {
    const std::uint64_t number = address / kPage;
    if (number != sole_.page || number != recent_) {
        std::shared_ptr<Page>& page = pages_[number];
        if (page == nullptr)
            page = std::make_shared<Page>();
        else if (page.use_count() > 1)
            page = std::make_shared<Page>(*page);
        recent_ = sole_.page = number;
        recent_page_ = page.get();
    }
    std::shared_ptr<Line>& line = (*recent_page_)[address % kPage / kLine];
    if (line != nullptr && line->age == age_) {
        if (line.use_count() > 1) line = std::make_shared<Line>(*line);
        return *line;
    }
    if (line == nullptr || line.use_count() > 1) line = std::make_shared<Line>();
    line->clear(age_);
    return *line;
}

const PastMemory::Fixed* PastMemory::fixed(std::uint64_t address) const {
    for (const Fixed& f : fixed_)
        if (address - f.begin < f.bytes.size()) return f.spoiled ? nullptr : &f;
    return nullptr;
}

bool PastMemory::is_constant(std::uint64_t address, unsigned bytes) const {
    const Fixed* f = fixed(address);
    return f != nullptr && address - f->begin + bytes <= f->bytes.size();
}

std::optional<std::uint8_t> PastMemory::byte(std::uint64_t address) const {
    const Line* line = find(address);
    if (line != nullptr && (line->known >> address % kLine & 1) != 0) return line->bytes[address % kLine];
    if (const Fixed* f = fixed(address); f != nullptr) return f->bytes[address - f->begin];
    if (line != nullptr && !facts_->values.empty())
        if (const auto b = by_origin(*line, address % kLine)) return b;
    return at_the_end(address);
}

std::optional<std::uint8_t> PastMemory::by_origin(const Line& line, std::uint64_t in_line) const {
    std::uint64_t word = in_line / 4;
    if (line.origin[word] == kUpper) --word;
    const auto fact = line.origin[word] != 0 ? facts_->values.find(line.origin[word]) : facts_->values.end();
    if (fact == facts_->values.end()) return std::nullopt;
    return static_cast<std::uint8_t>((fact->second + line.plus[word]) >> (8 * (in_line - 4 * word)));
}

void PastMemory::Line::clear(std::uint64_t at_age) {
    age = at_age;
    known = 0;
    set_at.fill(Known::kNever);
    origin.fill(0);
}

// Whoever writes a part of a word, or of two that belong together, ends what was kept count of.
void PastMemory::Line::tag(std::uint64_t in_line, unsigned count, const Known& value) {
    const std::uint64_t first = in_line / 4, last = std::min<std::uint64_t>((in_line + count - 1) / 4, origin.size() - 1);
    if (origin[first] == kUpper) origin[first - 1] = 0;
    if (has_eight(last)) origin[last + 1] = 0;
    for (std::uint64_t w = first; w <= last; ++w) origin[w] = 0;
    if (value.known || value.origin == 0 || in_line % count != 0 || (count != 4 && count != 8)) return;
    origin[first] = value.origin;
    plus[first] = value.plus;
    if (count == 8) origin[first + 1] = kUpper;
}

void PastMemory::learn(const Known& unknown, std::uint64_t value) const {
    constexpr std::size_t kMostFacts = 1 << 20;
    if (unknown.origin == 0 || facts_->contradicted.contains(unknown.origin)) return;
    if (facts_->values.size() >= kMostFacts) return;
    const std::uint64_t fact = value - unknown.plus;
    const auto [found, fresh] = facts_->values.try_emplace(unknown.origin, fact);
    facts_->highest = std::max(facts_->highest, unknown.origin);
    // Of 32 bits only those count.
    if (fresh || ((found->second ^ fact) & 0xFFFF'FFFF) == 0) return;
    facts_->values.erase(found);
    facts_->contradicted.insert(unknown.origin);
}

void PastMemory::resolve_by_facts(Known& k, std::uint64_t mask) const {
    const auto fact = facts_->values.find(k.origin);
    if (fact == facts_->values.end()) return;
    k.value = (fact->second + k.plus) & mask;
    k.known = true;
}

void PastMemory::learn_stopped() const {
    for (const auto& [number, page] : pages_)
        for (std::uint64_t at = 0; at < kPage; at += 4) {
            const Line* line = (*page)[at / kLine].get();
            if (line == nullptr || line->age != age_) continue;
            const std::uint64_t w = at % kLine / 4, address = number * kPage + at;
            if (line->origin[w] == 0 || line->origin[w] == kUpper) continue;
            const unsigned bytes = line->has_eight(w) ? 8 : 4;
            for (const Stopped& s : *stopped_) {
                if (address < s.begin || address - s.begin + bytes > s.bytes.size()) continue;
                Known k;
                k.origin = line->origin[w];
                k.plus = line->plus[w];
                std::uint64_t value = 0;
                for (unsigned i = 0; i < bytes; ++i) value |= std::uint64_t{s.bytes[address - s.begin + i]} << (8 * i);
                learn(k, value);
                break;
            }
        }
}

Known PastMemory::load(std::uint64_t address, unsigned bytes, std::uint64_t step, unsigned kind) {
    Known v = read(address, bytes);
    if (v.known || v.origin != 0 || address % bytes != 0 || !is_memory(address) || !is_memory(address + bytes - 1)) return v;
    v.origin = Known::origin_of(step, kind, 32 + static_cast<unsigned>(address / bytes % 32));
    own(address).tag(address % kLine, bytes, v);
    return v;
}

void PastMemory::Line::put(std::uint64_t in_line, unsigned count, const Known& value, std::uint64_t step) {
    tag(in_line, count, value);
    const std::uint64_t all = bits_of(in_line, count);
    known = value.known ? known | all : known & ~all;
    for (unsigned i = 0; i < count; ++i) {
        bytes[in_line + i] = static_cast<std::uint8_t>(value.value >> (8 * i));
        set_at[in_line + i] = step;
    }
}

void PastMemory::Line::lose(std::uint64_t in_line, unsigned count) {
    tag(in_line, count, {});
    known &= ~bits_of(in_line, count);
}

std::uint64_t PastMemory::last_write(std::uint64_t address) const {
    const Line* line = find(address);
    std::uint64_t last = line != nullptr ? line->set_at[address % kLine] : Known::kNever;
    if (last == Known::kNever) last = forgotten_at_;
    for (const auto& [range, step] : spoiled_)
        if (address >= range.first && address < range.second && (last == Known::kNever || step > last)) last = step;
    return last;
}

// Nobody wrote there up to the end: it is what it was then.
std::optional<std::uint8_t> PastMemory::at_the_end(std::uint64_t address) const {
    if (!end_) return std::nullopt;
    const std::uint64_t last = end_->last_write(address);
    if (last != Known::kNever && last >= now_) return std::nullopt;
    for (const Stopped& s : *stopped_)
        if (address - s.begin < s.bytes.size()) return s.bytes[address - s.begin];
    return std::nullopt;
}

std::uint64_t PastMemory::each_known(const std::function<void(std::uint64_t address, std::uint8_t byte)>& each) const {
    PastMemory all = *this;  // with the stack's pages as ranges
    for (const std::uint64_t page : stack_pages_) all.add_memory(page * kPage, (page + 1) * kPage);
    std::uint64_t unknown = 0;
    for (const auto& [begin, end] : all.memory_)
        for (std::uint64_t at = begin; at < end;) {
            const std::uint64_t page_end = std::min(end, (at / kPage + 1) * kPage);
            // Of a page that nobody wrote, little is known: only the end tells of it.
            if (!end_ && pages_.count(at / kPage) == 0 && fixed(at) == nullptr && fixed(page_end - 1) == nullptr) {
                unknown += page_end - at;
                at = page_end;
                continue;
            }
            for (; at < page_end; ++at)
                if (const auto b = byte(at))
                    each(at, *b);
                else
                    ++unknown;
        }
    return unknown;
}

void PastMemory::add_began(std::uint64_t begin, std::span<const std::uint8_t> bytes) {
    add_memory(begin, begin + bytes.size());
    for (std::size_t i = 0; i < bytes.size(); ++i) write(begin + i, 1, {bytes[i], true}, Known::kNever);
}

void PastMemory::add_stopped(std::uint64_t begin, std::vector<std::uint8_t> bytes) {
    add_memory(begin, begin + bytes.size());
    stopped_->push_back({begin, std::move(bytes)});
}

void PastMemory::learn_from(const PastMemory& end, std::uint64_t step) {
    end_ = std::make_shared<const PastMemory>(end);
    now_ = step;
}

Known PastMemory::read(std::uint64_t address, unsigned bytes) const {
    const std::uint64_t in_line = address % kLine;
    const Line* line = find(address);
    const std::uint64_t all = in_line + bytes <= kLine ? bits_of(in_line, bytes) : 0;
    if (line == nullptr || in_line + bytes > kLine || (line->known & all) != all) return read_with_care(address, bytes);
    Known out{0, true, Known::kNever};
    for (unsigned i = 0; i < bytes; ++i) {  // nearly always
        out.value |= std::uint64_t{line->bytes[in_line + i]} << (8 * i);
        const std::uint64_t set = line->set_at[in_line + i];
        if (set != Known::kNever && (out.set_at == Known::kNever || set > out.set_at)) out.set_at = set;
    }
    if (out.set_at == Known::kNever && forgotten_at_ != Known::kNever) return read_with_care(address, bytes);
    return out;
}

// Of what is not known, or not all there.
Known PastMemory::read_with_care(std::uint64_t address, unsigned bytes) const {
    Known out{0, true, Known::kNever};
    std::array<std::uint64_t, 8> set_at{};
    for (unsigned i = 0; i < bytes; ++i) {
        const std::uint64_t at = address + i;
        const auto b = byte(at);
        if (b) out.value |= std::uint64_t{*b} << (8 * i);
        out.known = out.known && b.has_value();
        const std::uint64_t set = set_at[i] = last_write(at);
        if (set != Known::kNever && (out.set_at == Known::kNever || set > out.set_at) && fixed(at) == nullptr) out.set_at = set;
    }
    if (out.known) return out;
    out.value = 0;
    if (const Line* line = find(address); line != nullptr && (bytes == 4 || bytes == 8) && address % bytes == 0) {
        const std::uint64_t w = address % kLine / 4;
        if (line->origin[w] != kUpper && line->has_eight(w) == (bytes == 8)) {
            out.origin = line->origin[w];
            out.plus = line->plus[w];
        }
    }
    // Bounds hold as long as nobody has written a part of the word since.
    const auto found = bytes == 4 && !bounds_.empty() ? bounds_.find(address) : bounds_.end();
    if (found == bounds_.end() || found->second.age != age_) return out;
    for (unsigned i = 0; i < 4; ++i)
        if (set_at[i] != found->second.step) return out;
    out.low = found->second.low;
    out.high = found->second.high;
    return out;
}

void PastMemory::write(std::uint64_t address, unsigned bytes, const Known& value, std::uint64_t step) {
    spoil_fixed(address, address + bytes);
    if (bytes == 4 && !value.known && value.bounded() && is_memory(address)) {
        if (bounds_.size() >= kMostBounds) bounds_.clear();
        bounds_[address] = {static_cast<std::uint32_t>(value.low), static_cast<std::uint32_t>(value.high), step, age_};
    }
    const std::uint64_t in_line = address % kLine;
    if (in_line + bytes <= kLine && (address / kPage == noted_ || (is_memory(address) && is_memory(address + bytes - 1)))) {
        own(address).put(in_line, bytes, value, step);
        return;
    }
    for (unsigned i = 0; i < bytes; ++i)
        if (is_memory(address + i)) own(address + i).put((address + i) % kLine, 1, {value.value >> (8 * i), value.known}, step);
}

void PastMemory::spoil_fixed(std::uint64_t begin, std::uint64_t end) {
    for (Fixed& f : fixed_)
        if (f.begin < end && begin < f.begin + f.bytes.size()) f.spoiled = true;
}

// In no time: what little is known is often forgotten again.
void PastMemory::forget(std::uint64_t step) {
    ++age_;
    if (!spoiled_.empty()) spoiled_.clear();
    forgotten_at_ = step;
}

void PastMemory::forget(const Known& address, unsigned bytes, std::uint64_t step) {
    const std::uint64_t begin = address.least(), end = address.most() + bytes;
    if (end < begin) return forget(step);
    const bool narrow = end - begin <= kNarrow;
    if (end - begin > kWide || (!narrow && spoiled_.size() >= kMostSpoiled)) return forget(step);
    spoil_fixed(begin, end);
    for (std::uint64_t at = begin, next = 0; at < end; at = next) {
        next = std::min((at / kLine + 1) * kLine, end);
        // What is written down of a narrow range need not be asked of all that is read.
        if (narrow ? !is_memory(at) && !is_memory(next - 1) : find(at) == nullptr) continue;
        Line& line = own(at);
        line.lose(at % kLine, static_cast<unsigned>(next - at));
        if (narrow) std::fill_n(line.set_at.begin() + static_cast<std::ptrdiff_t>(at % kLine), next - at, step);
    }
    if (!narrow) spoiled_[{begin, end}] = step;
}

Known bounds_of_sum(const Known& a, const Known& b, std::uint64_t carry) {
    constexpr std::uint64_t kWrap = std::uint64_t{1} << 32;
    const std::uint64_t least = a.least() + b.least() + carry, most = a.most() + b.most() + carry;
    Known out;
    if (most < kWrap) out = Known::between(least, most);
    if (least >= kWrap) out = Known::between(least - kWrap, most - kWrap);
    if (a.known == b.known) return out;
    const Known& unknown = a.known ? b : a;
    out.origin = unknown.origin;
    out.plus = (unknown.plus + (a.known ? a : b).value + carry) & 0xFFFF'FFFF;
    return out;
}

Known either(const Known& a, const Known& b) {
    return Known::between(std::min(a.least(), b.least()), std::max(a.most(), b.most()));
}

}  // namespace mt
