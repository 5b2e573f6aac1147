#include "flow/step_pipe.h"

#include "base/text.h"

namespace mt {
namespace {

std::string_view kind_name(const EtracePacket& p) { return etrace_kind_name(p.kind); }
std::string_view kind_name(const Etm4Packet& p) { return etm4_kind_name(p.kind); }
std::string_view kind_name(const PftPacket& p) { return pft_kind_name(p.kind); }
std::string_view kind_name(const Etm3Packet& p) { return etm3_kind_name(p.kind); }
std::string_view kind_name(const NtraceMessage& p) { return ntrace_kind_name(p.kind); }
std::string_view kind_name(const MtbPacket&) { return "branch"; }
std::string detail(const EtracePacket& p) { return etrace_detail(p); }
std::string detail(const Etm4Packet& p) { return etm4_detail(p); }
std::string detail(const PftPacket& p) { return pft_detail(p); }
std::string detail(const Etm3Packet& p) { return etm3_detail(p); }
std::string detail(const NtraceMessage& p) { return ntrace_detail(p); }
std::string detail(const MtbPacket& p) {
    return "from " + hex_text(p.source, 8) + " to " + hex_text(p.destination, 8) + (p.atomic ? ", exception" : "") +
           (p.start ? ", tracing started" : "");
}
std::uint64_t length(const MtbPacket&) { return 8; }
template <class P>
std::uint64_t length(const P& p) {
    return p.length;
}

}  // namespace

StepPipe::Any StepPipe::make(const StreamSpec& spec, std::shared_ptr<const Code> code,
                             std::map<std::uint64_t, unsigned> handlers) {
    switch (spec.protocol) {
        case Protocol::etrace:
            return Etrace{EtraceDecoder(spec.etrace), EtraceFlow(std::move(code), spec.etrace)};
        case Protocol::ntrace:
            return Ntrace{NtraceDecoder(spec.ntrace), NtraceFlow(std::move(code), spec.ntrace)};
        case Protocol::pft:
            return Pft{PftDecoder(spec.pft), PftFlow(std::move(code), spec.pft)};
        case Protocol::etm3: {
            const bool m_profile = code->isa() == Isa::thumb;
            return Etm3{Etm3Decoder(spec.etm3, m_profile), Etm3Flow(std::move(code))};
        }
        case Protocol::mtb:
            return Mtb{MtbDecoder([code](const MtbPacket& p) { return MtbFlow::possible(p, *code); }),
                       MtbFlow(code, std::move(handlers))};
        default:
            return Etm4{Etm4Decoder(spec.etm4), Etm4Flow(std::move(code), spec.etm4)};
    }
}

StepPipe::StepPipe(const StreamSpec& spec, std::shared_ptr<const Code> code, std::map<std::uint64_t, unsigned> handlers,
                   bool frames_aligned)
    : stage_(make(spec, std::move(code), std::move(handlers))) {
    if (spec.framing == Framing::tpiu) deframer_.emplace(spec.trace_id, frames_aligned);
}

void StepPipe::unframed(std::span<const std::uint8_t> raw,
                        const std::function<void(std::span<const std::uint8_t>)>& take,
                        const std::function<void()>& broken) {
    if (!deframer_) {
        unframed_ += raw.size();
        take(raw);
        return;
    }
    std::vector<std::uint8_t> bytes;
    std::vector<TpiuDeframer::Break> breaks;
    deframer_->feed(raw, bytes, breaks);
    unframed_ += bytes.size();
    std::size_t at = 0;
    for (const auto& b : breaks) {
        take(std::span(bytes).subspan(at, b.at - at));
        at = b.at;
        broken();
    }
    take(std::span(bytes).subspan(at));
}

void StepPipe::list(std::span<const std::uint8_t> raw, bool last,
                    const std::function<void(const StepPacketText&)>& each) {
    const auto tell = [&](auto& stage) {
        for (const auto& p : stage.packets) each({p.offset, length(p), kind_name(p), detail(p)});
        stage.packets.clear();
    };
    unframed(
        raw,
        [&](std::span<const std::uint8_t> bytes) {
            std::visit(
                [&](auto& stage) {
                    stage.decoder.feed(bytes, stage.packets);
                    tell(stage);
                },
                stage_);
        },
        [&] {
            std::visit(
                [&](auto& stage) {
                    if constexpr (requires { stage.decoder.lose_source(stage.packets); })
                        stage.decoder.lose_source(stage.packets);
                    tell(stage);
                },
                stage_);
        });
    if (!last) return;
    std::visit(
        [&](auto& stage) {
            if constexpr (requires { stage.decoder.finish(stage.packets); }) stage.decoder.finish(stage.packets);
            tell(stage);
        },
        stage_);
}

std::optional<StepPipe::Entry> StepPipe::enter(std::span<const std::uint8_t> bytes, std::size_t from,
                                               std::uint64_t position) {
    constexpr std::size_t kLongestEntry = 128;
    const auto at = std::visit(
        [&](auto& s) -> std::optional<std::size_t> {
            if constexpr (requires { s.decoder.find_entry(bytes, from); }) return s.decoder.find_entry(bytes, from);
            return std::nullopt;
        },
        stage_);
    if (!at) return std::nullopt;
    Entry entry{*this, 0};
    std::visit(
        [&](auto& s) {
            if constexpr (requires { s.decoder.find_entry(bytes, from); }) {
                s.decoder.begin_at(position + *at);
                if constexpr (requires { s.flow.set_options(s.decoder.options()); })
                    s.flow.set_options(s.decoder.options());
                NoSteps out;
                for (std::size_t i = *at; i < std::min(bytes.size(), *at + kLongestEntry); ++i) {
                    s.decoder.feed(bytes.subspan(i, 1), s.packets);
                    s.flow.feed(s.packets, out);
                    s.packets.clear();
                    if (s.flow.waiting()) continue;
                    s.decoder.entered();
                    s.flow.entered();
                    entry.before = i + 1;
                    return;
                }
            }
        },
        entry.pipe.stage_);
    if (entry.before == 0) return std::nullopt;
    return entry;
}

void StepPipe::learn_from(const StepPipe& other) {
    auto* mine = std::get_if<Etrace>(&stage_);
    const auto* theirs = std::get_if<Etrace>(&other.stage_);
    if (mine != nullptr && theirs != nullptr) mine->decoder.set_options(theirs->decoder.options());
}

bool StepPipe::agrees(const StepPipe& guess, const StepPipe& end) const {
    return std::visit(
        [&](const auto& s) {
            using Same = std::decay_t<decltype(s)>;
            if constexpr (requires { s.flow.agrees(s.flow, s.flow); }) {
                const Same *g = std::get_if<Same>(&guess.stage_), *e = std::get_if<Same>(&end.stage_);
                return g != nullptr && e != nullptr && s.decoder.agrees(g->decoder) && s.flow.agrees(g->flow, e->flow);
            } else {
                return false;
            }
        },
        stage_);
}

void StepPipe::continue_from(const StepPipe& before) {
    std::visit(
        [&](auto& s) {
            const auto* b = std::get_if<std::decay_t<decltype(s)>>(&before.stage_);
            if (b == nullptr) return;
            for (std::size_t i = 0; i < s.counts.size(); ++i) s.counts[i] += b->counts[i];
            s.bad += b->bad + (b->any ? s.lead_in : 0);
            s.lead_in = b->any ? b->lead_in : b->lead_in + s.lead_in;
            s.any = s.any || b->any;
            if constexpr (requires { s.decoder.continue_from(b->decoder); }) s.decoder.continue_from(b->decoder);
            if constexpr (requires { s.flow.continue_from(b->flow); }) s.flow.continue_from(b->flow);
        },
        stage_);
    unframed_ += before.unframed_;
}

std::uint64_t StepPipe::last_stamp() const {
    return std::visit(
        [](const auto& s) -> std::uint64_t {
            if constexpr (requires { s.decoder.last_stamp(); }) return s.decoder.last_stamp();
            return 0;
        },
        stage_);
}

std::map<unsigned, SourceIds::Others> StepPipe::other_sources() const {
    return std::visit(
        [](const auto& stage) -> std::map<unsigned, SourceIds::Others> {
            if constexpr (requires { stage.decoder.sources(); }) return stage.decoder.sources().others();
            return {};
        },
        stage_);
}

std::map<std::string, std::uint64_t> StepPipe::counts() const {
    std::map<std::string, std::uint64_t> all;
    std::visit(
        [&](const auto& stage) {
            for (std::size_t i = 0; i < stage.counts.size(); ++i) {
                if (stage.counts[i] == 0) continue;
                using Packets = std::decay_t<decltype(stage.packets)>;
                typename Packets::value_type p;
                if constexpr (requires { p.kind; }) p.kind = static_cast<decltype(p.kind)>(i);
                all[std::string(kind_name(p))] += stage.counts[i];
            }
        },
        stage_);
    return all;
}

}  // namespace mt
