#include "flow/step_pipe.h"

#include "base/text.h"

namespace mt {
namespace {

std::string_view kind_name(const EtracePacket& p) { return etrace_kind_name(p.kind); }
std::string_view kind_name(const Etm4Packet& p) { return etm4_kind_name(p.kind); }
std::string_view kind_name(const NtraceMessage& p) { return ntrace_kind_name(p.kind); }
std::string_view kind_name(const MtbPacket&) { return "branch"; }
std::string detail(const EtracePacket& p) { return etrace_detail(p); }
std::string detail(const Etm4Packet& p) { return etm4_detail(p); }
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
        case Protocol::mtb:
            return Mtb{MtbDecoder(), MtbFlow(std::move(code), std::move(handlers))};
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
