#include "control/units/buffer.h"

#include <algorithm>
#include <set>
#include <thread>

#include "base/text.h"
#include "control/units/registers.h"

namespace mt {
namespace {

namespace tc = trace_control;
using Milliseconds = std::chrono::milliseconds;
constexpr std::uint64_t kPage = 4096;

struct Words {
    TargetMemory& memory;
    const Unit& unit;
    Milliseconds patience;

    Result<std::uint32_t> get(std::uint32_t offset) { return memory.read(unit.address + offset); }
    Result<void> put(std::uint32_t offset, std::uint32_t value) { return memory.write(unit.address + offset, value); }
    Result<void> until(std::uint32_t offset, std::uint32_t bits, std::uint32_t value, const char* what) {
        const auto end = std::chrono::steady_clock::now() + patience;
        for (;;) {
            auto now = get(offset);
            if (!now) return tl::make_unexpected(now.error());
            if ((*now & bits) == value) return {};
            if (std::chrono::steady_clock::now() >= end)
                return failure("the " + unit.name + " does not " + what, hex_text(unit.address + offset),
                               "has it a clock?");
            std::this_thread::sleep_for(Milliseconds(1));
        }
    }
    /// A software lock would let nothing in (IHI 0029 B2.3.10).
    Result<void> unlock() {
        auto lock = get(coresight::kLockStatus);
        if (lock && (*lock & 3) == 3) return put(coresight::kLockAccess, coresight::kUnlockKey);
        return {};
    }
};

void append_word(std::vector<std::uint8_t>& bytes, std::uint32_t word) {
    for (unsigned i = 0; i < 4; ++i) bytes.push_back(static_cast<std::uint8_t>(word >> (8 * i)));
}

tl::unexpected<Problem> cancelled_reading(const Unit& unit) {
    return failure("reading the " + unit.name + " was cancelled");
}

// Memory from `start` of `size` bytes, the oldest at `oldest`.
Result<std::vector<std::uint8_t>> unwrapped(TargetMemory& memory, std::uint64_t start, std::uint64_t size,
                                            std::uint64_t oldest, std::uint64_t length, Progress* progress) {
    std::vector<std::uint8_t> bytes(static_cast<std::size_t>(length));
    const std::uint64_t tail = std::min(length, start + size - oldest);
    const auto split = static_cast<std::size_t>(tail);
    if (auto ok = memory.read_bytes(oldest, std::span(bytes).first(split), progress); !ok)
        return tl::make_unexpected(ok.error());
    if (length > tail)
        if (auto ok = memory.read_bytes(start, std::span(bytes).subspan(split), progress); !ok)
            return tl::make_unexpected(ok.error());
    return bytes;
}

// DDI 0461 2.4.5: flushed by hand and stopped with the flush, the unit is ready when all of it is in memory.
Result<BufferContents> read_tmc(TargetMemory& memory, Words w, Progress* progress) {
    BufferContents out;
    const bool old = w.unit.kind == UnitKind::etb;
    auto control = w.get(tmc::kCtl), formatter = w.get(tmc::kFfcr);
    if (!control) return tl::make_unexpected(control.error());
    if (!formatter) return tl::make_unexpected(formatter.error());
    auto mode = old ? Result<std::uint32_t>(0u) : w.get(tmc::kMode);
    if (!mode) return tl::make_unexpected(mode.error());
    const bool fifo = (*mode & 3) == tmc::kSoftwareFifo;
    if ((*control & 1) != 0 && !fifo) {
        if (auto ok = w.put(tmc::kFfcr, *formatter | tmc::kStopOnFl | tmc::kFlushMan); !ok)
            return tl::make_unexpected(ok.error());
        auto stopped = old ? w.until(tmc::kFfsr, 2, 2, "stop") : w.until(tmc::kSts, tmc::kReady, tmc::kReady, "stop");
        if (!stopped) return tl::make_unexpected(stopped.error());
    }
    auto status = w.get(tmc::kSts), size = w.get(tmc::kRsz), write = w.get(tmc::kRwp);
    for (const auto* r : {&status, &size, &write})
        if (!*r) return tl::make_unexpected(r->error());
    const std::uint64_t bytes = std::uint64_t{*size} * 4;
    if (bytes == 0 || bytes > kMostBufferBytes)
        return failure("the " + w.unit.name + " says that it holds " + bytes_text(bytes), hex_text(w.unit.address),
                       "is it powered?");
    out.wrapped = (*status & tmc::kFull) != 0;
    const UnitFact::Value* form = w.unit.find("form");
    const bool router = form != nullptr && fact_text(*form) == "router to memory";
    if (router) {
        auto low = w.get(tmc::kDbaLo), high = w.get(tmc::kDbaHi), axi = w.get(tmc::kAxiCtl),
             write_high = w.get(tmc::kRwpHi);
        for (const auto* r : {&low, &high, &axi, &write_high})
            if (!*r) return tl::make_unexpected(r->error());
        const std::uint64_t base = std::uint64_t{*high & 0xFF} << 32 | *low,
                            at = std::uint64_t{*write_high & 0xFF} << 32 | *write;
        if ((*axi & tmc::kScatter) == 0) {
            if (at < base || at > base + bytes)
                return failure(
                    "the write pointer of the " + w.unit.name + " (" + hex_text(at) + ") is outside its buffer",
                    hex_text(base));
            const std::uint64_t oldest = out.wrapped && at < base + bytes ? at : base,
                                length = out.wrapped ? bytes : at - base;
            auto read = unwrapped(memory, base, bytes, oldest, length, progress);
            if (!read) return tl::make_unexpected(read.error());
            out.bytes = std::move(*read);
            return out;
        }
        auto pages = scatter_pages(w.memory, base, static_cast<std::size_t>(bytes / kPage) + 1);
        if (!pages) return tl::make_unexpected(pages.error());
        std::size_t first = 0;
        while (first < pages->size() && ((*pages)[first] > at || at - (*pages)[first] >= kPage)) ++first;
        if (first == pages->size())
            return failure(
                "the write pointer of the " + w.unit.name + " (" + hex_text(at) + ") is on no page of its list",
                hex_text(base));
        const std::uint64_t offset = at - (*pages)[first];
        const auto take = [&](std::uint64_t from, std::uint64_t length) -> Result<void> {
            const std::size_t before = out.bytes.size();
            out.bytes.resize(before + static_cast<std::size_t>(length));
            return memory.read_bytes(from, std::span(out.bytes).subspan(before), progress);
        };
        if (out.wrapped) {
            if (auto ok = take(at, kPage - offset); !ok) return tl::make_unexpected(ok.error());
            for (std::size_t i = first + 1; i < pages->size(); ++i)
                if (auto ok = take((*pages)[i], kPage); !ok) return tl::make_unexpected(ok.error());
        }
        for (std::size_t i = 0; i < first; ++i)
            if (auto ok = take((*pages)[i], kPage); !ok) return tl::make_unexpected(ok.error());
        if (auto ok = take((*pages)[first], offset); !ok) return tl::make_unexpected(ok.error());
        return out;
    }
    // Words come out of RRD one behind the other. A TMC that was full begins with its oldest by itself; the older ETB
    // has to be told (DDI 0314 9.4). What is behind the last word reads as 0xFFFFFFFF.
    const std::uint64_t per_word = old ? 1 : 4;  // RWP counts words there, bytes here
    std::uint64_t words = out.wrapped ? *size : *write / per_word;
    words = std::min<std::uint64_t>(words, *size);
    if (old)
        if (auto ok = w.put(tmc::kRrp, out.wrapped ? *write : 0); !ok) return tl::make_unexpected(ok.error());
    if (fifo) {
        auto level = w.get(tmc::kCbufLevel);
        words = level ? std::min<std::uint64_t>(*level, *size) : *size;
    }
    out.bytes.reserve(static_cast<std::size_t>(words * 4));
    for (std::uint64_t n = 0; n < words; ++n) {
        if (progress != nullptr && progress->cancelled()) return cancelled_reading(w.unit);
        auto word = w.get(tmc::kRrd);
        if (!word) return tl::make_unexpected(word.error());
        if (*word == 0xFFFF'FFFF && !old) {
            auto empty = w.get(tmc::kSts);
            if (empty && (*empty & tmc::kEmpty) != 0) break;
        }
        append_word(out.bytes, *word);
        if (progress != nullptr) progress->report(n + 1, words);
    }
    return out;
}

// Trace Control Interface 1.0, chapter 5: trRamWP points to where the next word goes; its bit 0 says that it was all
// over.
Result<BufferContents> read_ram_sink(TargetMemory& memory, Words w, Progress* progress) {
    BufferContents out;
    auto control = w.get(tc::kControl);
    if (!control) return tl::make_unexpected(control.error());
    if ((*control & tc::kEnable) != 0) {
        if (auto ok = w.put(tc::kControl, *control & ~tc::kEnable); !ok) return tl::make_unexpected(ok.error());
        if (auto ok = w.until(tc::kControl, tc::kEmpty, tc::kEmpty, "empty itself"); !ok)
            return tl::make_unexpected(ok.error());
    }
    const auto wide = [&](std::uint32_t low_at, std::uint32_t high_at) -> Result<std::uint64_t> {
        auto low = w.get(low_at), high = w.get(high_at);
        if (!low) return tl::make_unexpected(low.error());
        if (!high) return tl::make_unexpected(high.error());
        return std::uint64_t{*high} << 32 | *low;
    };
    auto start = wide(tc::kRamStartLow, tc::kRamStartHigh), limit = wide(tc::kRamLimitLow, tc::kRamLimitHigh),
         write = wide(tc::kRamWpLow, tc::kRamWpHigh);
    for (const auto* r : {&start, &limit, &write})
        if (!*r) return tl::make_unexpected(r->error());
    out.wrapped = (*write & tc::kRamWrapped) != 0;
    const std::uint64_t at = *write & ~std::uint64_t{3};
    if (*limit < *start || *limit - *start >= kMostBufferBytes || at < *start || at > *limit + 4)
        return failure("the pointers of the " + w.unit.name + " make no buffer (" + hex_text(*start) + " to " +
                           hex_text(*limit) + ", writing at " + hex_text(at) + ")",
                       hex_text(w.unit.address), "was it ever set up?");
    const std::uint64_t size = *limit - *start + 4;
    const std::uint64_t oldest = out.wrapped ? (at > *limit ? *start : at) : *start,
                        length = out.wrapped ? size : at - *start;
    if ((*control & tc::kRamSystemMemory) != 0) {
        auto read = unwrapped(memory, *start, size, oldest, length, progress);
        if (!read) return tl::make_unexpected(read.error());
        out.bytes = std::move(*read);
        return out;
    }
    if (auto ok = w.put(tc::kRamRpLow, static_cast<std::uint32_t>(oldest)); !ok) return tl::make_unexpected(ok.error());
    for (std::uint64_t n = 0; n < length / 4; ++n) {
        if (progress != nullptr && progress->cancelled()) return cancelled_reading(w.unit);
        auto word = w.get(tc::kRamData);
        if (!word) return tl::make_unexpected(word.error());
        append_word(out.bytes, *word);
        if (progress != nullptr) progress->report(n + 1, length / 4);
    }
    return out;
}

// DDI 0486 3.2.1: POSITION is relative to the buffer's memory, whose address is in BASE; it wraps within 2^(MASK + 4).
Result<BufferContents> read_mtb(TargetMemory& memory, Words w, Progress* progress) {
    BufferContents out;
    auto master = w.get(mtb::kMaster), base = w.get(mtb::kBase);
    if (!master) return tl::make_unexpected(master.error());
    if (!base) return tl::make_unexpected(base.error());
    if ((*master & mtb::kEnable) != 0)
        if (auto ok = w.put(mtb::kMaster, *master & ~mtb::kEnable); !ok) return tl::make_unexpected(ok.error());
    auto position = w.get(mtb::kPosition);
    if (!position) return tl::make_unexpected(position.error());
    const std::uint64_t size = std::uint64_t{16} << (*master & 0x1F), pointer = *position & ~7u;
    if (size > kMostBufferBytes)
        return failure("the MTB says that it holds " + bytes_text(size), hex_text(w.unit.address));
    const std::uint64_t block = *base + (pointer & ~(size - 1)), at = *base + pointer;
    out.wrapped = (*position & mtb::kWrap) != 0;
    auto read = unwrapped(memory, block, size, out.wrapped ? at : block, out.wrapped ? size : at - block, progress);
    if (!read) return tl::make_unexpected(read.error());
    out.bytes = std::move(*read);
    return out;
}

}  // namespace

const Unit* trace_buffer(const CoreUnits& units) {
    const Unit* only = nullptr;
    for (const Unit& u : units.units) {
        if (!u.trouble.empty() || (u.kind != UnitKind::tmc && u.kind != UnitKind::etb && u.kind != UnitKind::mtb &&
                                   u.kind != UnitKind::ram_sink))
            continue;
        if (u.flag("enabled")) return &u;
        if (only == nullptr) only = &u;
    }
    return only;
}

Result<std::vector<std::uint64_t>> scatter_pages(TargetMemory& memory, std::uint64_t table, std::size_t most) {
    std::vector<std::uint64_t> pages;
    std::set<std::uint64_t> tables{table};
    for (std::uint64_t at = table; pages.size() < most;) {
        auto entry = memory.read(at);
        if (!entry) return tl::make_unexpected(entry.error());
        const std::uint64_t place = std::uint64_t{*entry >> 4} << 12;
        switch (*entry & 3) {
            case 1:
                pages.push_back(place);
                return pages;
            case 2:
                pages.push_back(place);
                at += 4;
                break;
            case 3:
                if (!tables.insert(place).second)
                    return failure("the scatter list of the trace goes in a circle", hex_text(at));
                at = place;
                break;
            default:
                return failure("the scatter list of the trace has an entry that is none", hex_text(at));
        }
    }
    return pages;
}

Result<BufferContents> read_trace_buffer(TargetMemory& memory, const Unit& unit, const Unit* encoder,
                                         std::chrono::milliseconds patience, Progress* progress) {
    if (unit.kind == UnitKind::ram_sink && encoder != nullptr) {
        Words e{memory, *encoder, patience};
        auto control = e.get(tc::kControl);
        if (!control) return tl::make_unexpected(control.error());
        if ((*control & tc::kInstTracing) != 0) {
            if (auto ok = e.put(tc::kControl, *control & ~tc::kInstTracing); !ok)
                return tl::make_unexpected(ok.error());
            if (auto ok = e.until(tc::kControl, tc::kEmpty, tc::kEmpty, "empty itself"); !ok)
                return tl::make_unexpected(ok.error());
        }
    }
    Words w{memory, unit, patience};
    if (unit.kind != UnitKind::ram_sink)
        if (auto ok = w.unlock(); !ok) return tl::make_unexpected(ok.error());
    auto out = unit.kind == UnitKind::ram_sink ? read_ram_sink(memory, std::move(w), progress)
               : unit.kind == UnitKind::mtb    ? read_mtb(memory, std::move(w), progress)
                                               : read_tmc(memory, std::move(w), progress);
    if (out)
        out->text = bytes_text(out->bytes.size()) + " out of the " + unit.name +
                    (out->wrapped ? ", which had overwritten older trace" : "");
    return out;
}

Result<void> restart_trace_buffer(TargetMemory& memory, const Unit& unit, const Unit* encoder,
                                  std::chrono::milliseconds patience) {
    Words w{memory, unit, patience};
    const auto all = [&](std::initializer_list<std::pair<std::uint32_t, std::uint32_t>> writes) -> Result<void> {
        for (const auto& write : writes)
            if (auto ok = w.put(write.first, write.second); !ok) return ok;
        return {};
    };
    if (unit.kind == UnitKind::ram_sink) {
        auto control = w.get(tc::kControl), start = w.get(tc::kRamStartLow);
        if (!control) return tl::make_unexpected(control.error());
        if (!start) return tl::make_unexpected(start.error());
        if (auto ok = all({{tc::kRamWpLow, *start}, {tc::kRamRpLow, *start}, {tc::kControl, *control | tc::kEnable}});
            !ok)
            return ok;
        if (encoder == nullptr) return {};
        Words e{memory, *encoder, patience};
        auto before = e.get(tc::kControl);
        if (!before) return tl::make_unexpected(before.error());
        return (*before & tc::kEnable) == 0 ? Result<void>() : e.put(tc::kControl, *before | tc::kInstTracing);
    }
    if (unit.kind == UnitKind::mtb) {
        auto master = w.get(mtb::kMaster), position = w.get(mtb::kPosition);
        if (!master) return tl::make_unexpected(master.error());
        if (!position) return tl::make_unexpected(position.error());
        const std::uint32_t size = 16u << (*master & 0x1F);
        return all({{mtb::kPosition, *position & ~7u & ~(size - 1)}, {mtb::kMaster, *master | mtb::kEnable}});
    }
    auto formatter = w.get(tmc::kFfcr);
    if (!formatter) return tl::make_unexpected(formatter.error());
    if (auto ok = all({{tmc::kCtl, 0}, {tmc::kFfcr, *formatter & ~(tmc::kStopOnFl | tmc::kFlushMan)}}); !ok) return ok;
    std::uint32_t begin = 0;
    if (const auto* form = unit.find("form"); form != nullptr && fact_text(*form) == "router to memory") {
        auto low = w.get(tmc::kDbaLo);
        if (!low) return tl::make_unexpected(low.error());
        begin = *low;
    }
    return all({{tmc::kRwp, begin}, {tmc::kCtl, 1}});
}

}  // namespace mt
