#include <algorithm>

#include "base/text.h"
#include "doubt/doubts.h"
#include "doubt/step_fit.h"
#include "pass/growing_steps.h"
#include "pass/stream_sorts.h"

// Instruction trace: what was executed, followed through the program.
namespace mt {
namespace {

constexpr std::size_t kTurnBytes = 64 * 1024;
constexpr std::uint64_t kSurelyTrace = 4 * 1024 * 1024;  // of so many bytes some can be followed, if any can

class StepStream final : public StreamDecoder {
  public:
    using StreamDecoder::StreamDecoder;

    Result<bool> start(Bytes raw, std::uint64_t first, const Arrival& arrival, bool all) override {
        if (!all && spec().framing == Framing::tpiu && raw.size() < kEnoughForFrames && !tpiu_has_full_sync(raw))
            return false;
        growing_.emplace(recording(), index(), trail(), arrival(first));
        whole_ = all;
        if (first > 0) growing_->lose(first);
        position_ = first;
        return true;
    }
    Result<std::size_t> feed(Bytes raw, bool) override {
        growing_->feed(raw);
        position_ += raw.size();
        const bool look = whole_ && !looked_ && position_ >= kSurelyTrace;
        if (look) {
            looked_ = true;
            settle();
            const StepTrail& t = steps();
            const Recording::Stream& s = *stream();
            if (t.bytes * 4 > position_ && t.steps * 1000 < t.bytes &&
                is_noise(spec(), recording().code[s.core], s.bytes(), position_))
                return failure("the bytes are no " + std::string(protocol_title(spec().protocol)) +
                                   " stream of this program: neither in the first " + bytes_text(position_) +
                                   " nor at 32 places behind them is there anything that can be followed",
                               s.path, "check protocol, framing and image in the target file");
        }
        return raw.size();
    }
    void lose(std::uint64_t offset) override {
        if (offset > 0) growing_->lose(offset);
        position_ = offset;
    }
    void settle() override {
        if (growing_) growing_->settle();
    }
    void add_open(Trail& copy) const override {
        if (growing_) growing_->add_open(copy.steps[index()]);
    }
    Result<void> finish() override {
        if (!growing_) return {};
        growing_->finish();
        const StepPipe pipe = growing_->pipe();
        growing_.reset();
        if (!whole_) return {};
        const StepTrail& t = steps();
        if (pipe.deframer() != nullptr && pipe.unframed_bytes() == 0)
            return failure("trace ID " + std::to_string(spec().trace_id) + " is not in the stream", stream()->path,
                           "set trace_id to one that is, or framing = \"none\" for a bare stream");
        if (!trail().cancelled && t.steps == 0 && t.packets == 0) {
            const auto raw = recording().step_streams[index()].bytes();
            const auto suspect =
                suspect_parameter(spec(), recording().code[core()], raw.first(std::min<std::size_t>(raw.size(), 64 << 10)));
            return failure("the bytes are no " + std::string(protocol_title(spec().protocol)) +
                               " stream: no packet in " + bytes_text(bytes()),
                           stream()->path, suspect ? suspect->text() : "check protocol and framing in the target file");
        }
        return {};
    }
    void doubt() override { doubt_steps(recording(), trail(), index()); }
    Time reached() const override { return steps().end; }
    Facts facts() const override { return {steps().packets, steps().syncs}; }
    std::size_t turn() const override { return kTurnBytes; }
    std::size_t core() const override { return recording().step_streams[index()].core; }
    std::uint64_t bytes() const override { return recording().step_streams[index()].bytes().size(); }

  protected:
    const Recording::Stream* stream() const override { return &recording().step_streams[index()]; }

  private:
    const StepTrail& steps() const { return trail().steps[index()]; }
    std::optional<GrowingSteps> growing_;
    std::uint64_t position_ = 0;
    bool whole_ = false;   ///< of a finished recording
    bool looked_ = false;  ///< whether it is noise
};

}  // namespace

std::unique_ptr<StreamDecoder> make_step_stream(const StreamDecoder::Place& place) {
    return std::make_unique<StepStream>(place);
}

}  // namespace mt
