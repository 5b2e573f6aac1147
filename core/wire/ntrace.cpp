#include "wire/ntrace.h"

#include <algorithm>
#include <array>

#include "base/text.h"

namespace mt {
namespace {

constexpr std::size_t kMostSlices = 64;

// The fields of one message. A fixed field takes its bits from what the slices give in order; a variable one takes
// the rest up to the slice that ends it (4.2).
class Fields {
  public:
    explicit Fields(std::span<const std::uint8_t> slices) : slices_(slices) {}

    std::uint64_t fixed(unsigned width) {
        std::uint64_t v = 0;
        for (unsigned i = 0; i < width;) {
            if (bit_ == 6) step();
            if (at_ >= slices_.size()) {
                missing_ = true;
                return v;
            }
            const unsigned n = std::min(width - i, 6 - bit_);
            v |= std::uint64_t{slices_[at_] >> (2 + bit_) & ((1u << n) - 1)} << i;
            bit_ += n;
            i += n;
        }
        return v;
    }
    std::uint64_t variable() {
        std::uint64_t v = 0;
        for (unsigned shift = 0;;) {
            if (at_ >= slices_.size()) {
                missing_ = true;
                return v;
            }
            if (shift < 64) v |= std::uint64_t{static_cast<unsigned>(slices_[at_]) >> (2 + bit_)} << shift;
            shift += 6 - bit_;
            bit_ = 0;
            if ((slices_[at_++] & 1) != 0) return v;
        }
    }
    bool more() const { return at_ < slices_.size(); }
    bool missing() const { return missing_; }

  private:
    void step() {
        // A fixed field never crosses the end of a variable one.
        if (at_ < slices_.size() && (slices_[at_] & 1) != 0) missing_ = true;
        ++at_;
        bit_ = 0;
    }
    std::span<const std::uint8_t> slices_;
    std::size_t at_ = 0;
    unsigned bit_ = 0;
    bool missing_ = false;
};

NtraceMessage damage(std::uint64_t offset, std::size_t length, NtraceDamage why) {
    NtraceMessage m;
    m.offset = offset;
    m.length = static_cast<std::uint32_t>(length);
    m.history = static_cast<std::uint64_t>(why);
    return m;
}

}  // namespace

void NtraceDecoder::message(std::span<const std::uint8_t> slices, std::uint64_t offset,
                            std::vector<NtraceMessage>& out) {
    NtraceMessage m;
    m.offset = offset;
    m.length = static_cast<std::uint32_t>(slices.size());
    const auto bad = [&](NtraceDamage why) { out.push_back(damage(offset, slices.size(), why)); };
    if (std::any_of(slices.begin(), slices.end(), [](std::uint8_t s) { return (s & 3) == 2; }))
        return bad(NtraceDamage::reserved);
    Fields f(slices);
    const auto tcode = static_cast<std::uint8_t>(f.fixed(6));
    m.source = static_cast<std::uint16_t>(f.fixed(parameters_.src_bits));
    m.kind = static_cast<NtraceKind>(tcode);
    if (parameters_.src_bits > 0 && sources_.foreign(m.source)) {
        if (!f.missing()) (void)sources_.take(m.source, slices.size());
        return;
    }
    const auto history = [&] {
        m.history = f.variable();
        m.has_history = true;
    };
    switch (m.kind) {
        case NtraceKind::ownership:
            m.history = f.variable();
            break;
        case NtraceKind::direct_branch:
            m.icount = f.variable();
            break;
        case NtraceKind::indirect_branch:
        case NtraceKind::history:
            m.code = static_cast<std::uint8_t>(f.fixed(2));
            m.icount = f.variable();
            m.address = f.variable() << 1;
            if (m.kind == NtraceKind::history) history();
            break;
        case NtraceKind::data_acquisition:
            m.icount = f.variable();
            m.history = f.variable();
            break;
        case NtraceKind::error:
            m.code = static_cast<std::uint8_t>(f.fixed(4));
            (void)f.variable();
            break;
        case NtraceKind::sync:
        case NtraceKind::direct_branch_sync:
        case NtraceKind::indirect_branch_sync:
        case NtraceKind::history_sync:
            m.sync = static_cast<std::uint8_t>(f.fixed(4));
            if (m.kind == NtraceKind::indirect_branch_sync || m.kind == NtraceKind::history_sync)
                m.code = static_cast<std::uint8_t>(f.fixed(2));
            m.icount = f.variable();
            m.address = f.variable() << 1;
            if (m.kind == NtraceKind::history_sync) history();
            break;
        case NtraceKind::resource_full:
            m.code = static_cast<std::uint8_t>(f.fixed(4));
            m.history = f.variable();
            if (m.code == 2) m.icount = f.variable();
            break;
        case NtraceKind::repeat:
            m.icount = f.variable();
            break;
        case NtraceKind::correlation: {
            m.code = static_cast<std::uint8_t>(f.fixed(4));
            const auto fields = f.fixed(2);
            m.icount = f.variable();
            if (fields == 1) history();
            break;
        }
        default:
            return bad(NtraceDamage::unknown);
    }
    if (parameters_.timestamps && f.more()) {
        m.timestamp = f.variable();
        m.has_timestamp = true;
    }
    if (f.missing() || f.more()) return bad(NtraceDamage::short_of_fields);
    if (parameters_.src_bits > 0) (void)sources_.take(m.source, slices.size());
    out.push_back(m);
}

void NtraceDecoder::feed(std::span<const std::uint8_t> bytes, std::vector<NtraceMessage>& out) {
    std::size_t begin = 0;
    const auto end_of_message = [&](std::size_t i) {
        const std::size_t before = held_.size();
        if (skipping_) {
            skipping_ = false;
        } else if (before == 0) {
            message(bytes.subspan(begin, i + 1 - begin), position_ + begin, out);
        } else {
            held_.insert(held_.end(), bytes.begin() + static_cast<std::ptrdiff_t>(begin),
                         bytes.begin() + static_cast<std::ptrdiff_t>(i + 1));
            message(held_, position_ + begin - before, out);
        }
        held_.clear();
        begin = i + 1;
    };
    for (std::size_t i = 0; i < bytes.size(); ++i) {
        if (bytes[i] == 0xFF && begin == i && held_.empty() && !skipping_) {  // idle between messages
            begin = i + 1;
            continue;
        }
        if ((bytes[i] & 3) == 3) {
            end_of_message(i);
        } else if (i + 1 - begin + held_.size() >= kMostSlices && !skipping_) {
            out.push_back(
                damage(position_ + begin - held_.size(), i + 1 - begin + held_.size(), NtraceDamage::too_long));
            held_.clear();
            skipping_ = true;
            begin = i + 1;
        } else if (skipping_) {
            begin = i + 1;
        }
    }
    held_.insert(held_.end(), bytes.begin() + static_cast<std::ptrdiff_t>(begin), bytes.end());
    position_ += bytes.size();
}

void NtraceDecoder::finish(std::vector<NtraceMessage>& out) {
    if (!held_.empty()) out.push_back(damage(position_ - held_.size(), held_.size(), NtraceDamage::cut_short));
    held_.clear();
    skipping_ = false;
}

void NtraceDecoder::lose_source(std::vector<NtraceMessage>& out) {
    out.push_back(damage(position_ - held_.size(), held_.size(), NtraceDamage::not_received));
    held_.clear();
    skipping_ = true;  // the first message behind the loss may have lost its beginning
}

std::string_view ntrace_kind_name(NtraceKind kind) {
    switch (kind) {
        case NtraceKind::ownership:
            return "ownership";
        case NtraceKind::direct_branch:
            return "direct_branch";
        case NtraceKind::indirect_branch:
            return "indirect_branch";
        case NtraceKind::data_acquisition:
            return "data_acquisition";
        case NtraceKind::error:
            return "error";
        case NtraceKind::sync:
            return "sync";
        case NtraceKind::direct_branch_sync:
            return "direct_branch_sync";
        case NtraceKind::indirect_branch_sync:
            return "indirect_branch_sync";
        case NtraceKind::resource_full:
            return "resource_full";
        case NtraceKind::history:
            return "history";
        case NtraceKind::history_sync:
            return "history_sync";
        case NtraceKind::repeat:
            return "repeat";
        case NtraceKind::correlation:
            return "correlation";
        case NtraceKind::damage:
            break;
    }
    return "damage";
}

std::string_view ntrace_damage_text(NtraceDamage reason) {
    constexpr std::array<std::string_view, 7> texts = {"no message begins here yet",
                                                       "unknown message",
                                                       "longer than any message",
                                                       "fields are missing",
                                                       "message cut short by the end of the stream",
                                                       "reserved MSEO value",
                                                       "bytes missing in the source"};
    return texts[static_cast<std::size_t>(reason)];
}

std::string ntrace_detail(const NtraceMessage& m) {
    const std::string ran = plural(m.icount, "halfword", "halfwords");
    const std::string history = m.has_history ? ", history " + hex_text(m.history) : std::string();
    const auto time = m.has_timestamp
                          ? ", time " + std::string(m.full_address() ? "" : "+") + std::to_string(m.timestamp)
                          : std::string();
    constexpr std::array<std::string_view, 4> types = {"jump", "trap", "exception", "interrupt"};
    switch (m.kind) {
        case NtraceKind::direct_branch:
            return ran + time;
        case NtraceKind::indirect_branch:
        case NtraceKind::history:
            return std::string(types[m.code & 3]) + " after " + ran + ", address changes by " + hex_text(m.address) +
                   history + time;
        case NtraceKind::sync:
        case NtraceKind::direct_branch_sync:
        case NtraceKind::indirect_branch_sync:
        case NtraceKind::history_sync:
            return "reason " + std::to_string(m.sync) + ", after " + ran + " at " + hex_text(m.address) + history +
                   time;
        case NtraceKind::resource_full:
            return "resource " + std::to_string(m.code) + ", " + hex_text(m.history) + time;
        case NtraceKind::repeat:
            return std::to_string(m.icount) + " times" + time;
        case NtraceKind::correlation:
            return "event " + std::to_string(m.code) + " after " + ran + history + time;
        case NtraceKind::error:
            return "error " + std::to_string(m.code) + time;
        case NtraceKind::ownership: {
            const NtraceOwner o = ntrace_owner(m.history);
            std::string text = "privilege " + std::to_string(o.privilege) + (o.is_virtual ? ", virtual" : "");
            if (o.kind == NtraceOwner::Kind::process) text += ", process " + std::to_string(o.context);
            if (o.kind == NtraceOwner::Kind::machine) text += ", virtual machine " + std::to_string(o.context);
            if (o.kind == NtraceOwner::Kind::reserved) text += ", reserved";
            return text + " (" + hex_text(m.history) + ")" + time;
        }
        case NtraceKind::data_acquisition:
            return "tag " + std::to_string(m.icount) + ", value " + hex_text(m.history) + time;
        case NtraceKind::damage:
            return plural(m.length, "byte", "bytes") +
                   " given up: " + std::string(ntrace_damage_text(static_cast<NtraceDamage>(m.history)));
    }
    return {};
}

}  // namespace mt
