#include <algorithm>
#include <array>

#include "base/text.h"
#include "doubt/doubts.h"
#include "pass/stream_sorts.h"

// ITM and DWT packets, with formatter frames around them or not.
namespace mt {
namespace {

using Bytes = StreamDecoder::Bytes;

bool has_sync(Bytes bytes) {
    constexpr std::array<std::uint8_t, 6> mark = {0, 0, 0, 0, 0, 0x80};
    return std::search(bytes.begin(), bytes.end(), mark.begin(), mark.end()) != bytes.end();
}

std::string ids_text(const TpiuCounts& counts) {
    std::string all;
    for (std::size_t id = 1; id <= 111; ++id)
        if (counts.bytes_of_id[id] > 0)
            all += (all.empty() ? "" : ", ") + std::to_string(id) + " (" + bytes_text(counts.bytes_of_id[id]) + ")";
    return all;
}

// The first unframed bytes of the source, at most `most`; stops early once a synchronisation is in them.
std::vector<std::uint8_t> unframed_start(Bytes raw, TpiuDeframer deframer, TpiuCounts& counts) {
    std::vector<std::uint8_t> out;
    std::vector<TpiuDeframer::Break> breaks;
    constexpr std::size_t step = 1 << 20;
    for (std::size_t at = 0; at < raw.size(); at += step) {
        if (out.size() > 64) out.erase(out.begin(), out.end() - 64);
        deframer.feed(raw.subspan(at, std::min(step, raw.size() - at)), out, breaks);
        if (has_sync(out)) break;
    }
    counts = deframer.counts();
    return out;
}

Result<StartPlan> plan_start(const StreamSpec& spec, const std::string& file, Bytes raw) {
    StartPlan plan;
    std::vector<std::uint8_t> unframed;
    Bytes start = raw;

    if (spec.framing == Framing::tpiu) {
        const bool marked = tpiu_has_full_sync(raw);
        TpiuCounts counts;
        unframed = unframed_start(raw, TpiuDeframer(spec.trace_id, !marked), counts);
        if (counts.bytes_of_id[spec.trace_id] == 0) {
            const std::string ids = ids_text(counts);
            if (!marked || ids.empty())
                return failure("no formatter frames found in the stream", file,
                               "check that framing = \"tpiu\" is right; for a bare stream it is \"none\"");
            return failure("trace ID " + std::to_string(spec.trace_id) + " is not in the stream", file,
                           "set trace_id to one that is: " + ids);
        }
        plan.deframer = TpiuDeframer(spec.trace_id, !marked);
        start = unframed;
    }
    if (has_sync(start)) return plan;
    // No synchronisation anywhere: believable only if the bytes decode without trouble from the first on.
    plan.start = ItmDecoder::Start::at_once;
    ItmDecoder trial(plan.start);
    std::vector<ItmPacket> packets;
    trial.feed(start.first(std::min<std::size_t>(start.size(), 64 * 1024)), packets);
    const auto bad =
        std::count_if(packets.begin(), packets.end(), [](const ItmPacket& p) { return p.kind == ItmKind::damage; });
    if (packets.empty() || static_cast<double>(bad) > 0.02 * static_cast<double>(packets.size())) {
        const std::string advice =
            spec.framing == Framing::none && tpiu_has_full_sync(raw)
                ? "it holds formatter synchronisations: set framing = \"tpiu\" and a trace_id"
                : "check protocol and framing in the target file, and the bit rate of the recording";
        return failure("the bytes are no ITM stream (no synchronisation, and " + std::to_string(bad) +
                           " of the first " + std::to_string(packets.size()) + " packets are impossible)",
                       file, advice);
    }
    return plan;
}

class ItmStream final : public StreamDecoder {
  public:
    explicit ItmStream(const Place& place) : StreamDecoder(place) { trail().streams[index()].raw_bytes = bytes(); }

    Result<bool> start(Bytes raw, std::uint64_t first, const Arrival& arrival, bool all) override {
        StartPlan plan;
        if (all) {
            auto planned = plan_start(spec(), recording().streams[index()].path, raw);
            if (!planned) return tl::make_unexpected(planned.error());
            plan = std::move(*planned);
        } else if (spec().framing == Framing::tpiu) {
            const bool marked = tpiu_has_full_sync(raw.first(std::min(raw.size(), kEnoughForFrames)));
            if (!marked && raw.size() < kEnoughForFrames) return false;
            plan.deframer = TpiuDeframer(spec().trace_id, !marked);
        }
        plan.first = position_ = first;
        plan.base = Time::from_ns(std::clamp(arrival(first), 0.0, 1e6) * 1e9);
        growing().start(index(), std::move(plan));
        return true;
    }
    Result<std::size_t> feed(Bytes raw, bool) override {
        growing().feed(index(), raw);
        position_ += raw.size();
        return raw.size();
    }
    void lose(std::uint64_t offset) override {
        if (offset > position_)
            growing().skip_to(index(), offset);
        else
            growing().lose(index());
        position_ = offset;
    }
    Result<void> finish() override {
        if (growing().started(index())) growing().finish(index());
        return {};
    }
    void doubt() override { doubt_stream(recording(), trail(), index()); }
    Time reached() const override { return trail().cores[core()].end; }
    Facts facts() const override {
        const StreamTrail& s = trail().streams[index()];
        return {s.packets, s.counts[static_cast<std::size_t>(ItmKind::sync)]};
    }
    std::size_t turn() const override { return kCheckpointBytes; }
    bool keeps_pace() const override { return true; }
    std::size_t core() const override { return recording().streams[index()].core; }
    std::uint64_t bytes() const override { return recording().streams[index()].bytes().size(); }

  protected:
    const Recording::Stream* stream() const override { return &recording().streams[index()]; }

  private:
    std::uint64_t position_ = 0;
};

}  // namespace

std::unique_ptr<StreamDecoder> make_itm_stream(const StreamDecoder::Place& place) {
    return std::make_unique<ItmStream>(place);
}

}  // namespace mt
