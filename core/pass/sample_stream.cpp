#include <algorithm>

#include "base/text.h"
#include "pass/stream_sorts.h"

// Samples at a fixed rate, channel after channel, of a device with a clock of its own (docs/formats/samples.md). Its
// zero is the first sample, which is put where its first byte came; lay_beside brings its clock to the recording's.
namespace mt {
namespace {

using Parameters = SamplesParameters;

constexpr std::size_t kSampleTurn = 1 << 20;

EvenReading reading_of(const Parameters& p, const Parameters::Channel& channel) {
    EvenReading r;
    switch (p.type) {
        case Parameters::Type::u8:
        case Parameters::Type::u16:
        case Parameters::Type::u24:
        case Parameters::Type::u32:
            r.word = EvenReading::Word::whole;
            break;
        case Parameters::Type::f32:
            r.word = EvenReading::Word::real32;
            break;
        case Parameters::Type::f64:
            r.word = EvenReading::Word::real64;
            break;
        default:
            r.word = EvenReading::Word::signed_whole;
    }
    r.raw = channel.is_raw();
    r.scale = channel.scale;
    r.offset = channel.offset;
    return r;
}

class SampleStream final : public StreamDecoder {
  public:
    explicit SampleStream(const Place& place)
        : StreamDecoder(place), parameters_(spec().samples), bytes_each_(parameters_.sample_bytes()),
          frame_(parameters_.frame_bytes()) {
        is_signed_ = parameters_.type == Parameters::Type::i8 || parameters_.type == Parameters::Type::i16 ||
                     parameters_.type == Parameters::Type::i24;
        if (trail().measured.size() <= index()) trail().measured.resize(index() + 1);
        SampleTrail& t = mine();
        const Recording::Stream& s = *stream();
        t.spec = s.spec;
        t.file = s.path;
        t.name = !parameters_.name.empty() ? parameters_.name : "samples";
        t.rate_hz = parameters_.rate_hz;
        t.bytes = s.bytes().size();
    }

    Result<bool> start(Bytes, std::uint64_t first, const Arrival& arrival, bool) override {
        SampleTrail& t = mine();
        t.begin = Time::from_ns(std::max(0.0, arrival(0)) * 1e9);
        t.arrived = stream()->journal.present;
        given_ = first;
        const auto lost = static_cast<long double>((first + frame_ - 1) / frame_);
        for (const Parameters::Channel& channel : parameters_.channels) {
            ValueLane lane;
            lane.id = static_cast<std::uint32_t>(kBesideNumbers + trail().tasks.values.size());
            lane.name = channel.name;
            lane.unit = channel.unit;
            lane.source = t.name;
            lane.core = ValueLane::kNoCore;
            const EvenReading reading = reading_of(parameters_, channel);
            lane.sort = reading.sort();
            lane.samples.make_even(1e12L / static_cast<long double>(parameters_.rate_hz), reading);
            lane.set_usual_origin(measured_origin());
            lane.samples.begin_stretch(
                Time{t.begin.ps + static_cast<std::int64_t>(lost * lane.samples.period_ps())});
            t.lanes.push_back(trail().tasks.values.size());
            trail().tasks.values.push_back(std::move(lane));
        }
        skip_ = (frame_ - first % frame_) % frame_;  // what was given up may end within a sample
        return true;
    }

    Result<std::size_t> feed(Bytes raw, bool last) override {
        const std::size_t skipped = std::min(skip_, raw.size());
        skip_ -= skipped;
        mine().odd_bytes += skipped;
        std::size_t at = skipped;
        if (raw.size() - at >= frame_) take(raw, at);
        if (last && at < raw.size()) {
            mine().odd_bytes += raw.size() - at;
            at = raw.size();
        }
        given_ += at;
        mine().taken = given_;
        return at;
    }

    // What came before is no whole sample; a device that is connected again begins with one. How much is missing is
    // told by the recording computer's clock alone.
    void lose(std::uint64_t offset) override {
        SampleTrail& t = mine();
        ++t.breaks;
        given_ = std::max(given_, offset);
        skip_ = 0;
        double missing_s = 0;
        for (const StreamJournal::Break& b : stream()->journal.breaks)
            if (b.offset == offset) missing_s = std::max(0.0, b.missing_s);
        for (const std::size_t i : t.lanes) {
            ValueLane& lane = trail().tasks.values[i];
            if (lane.samples.empty()) continue;
            const Time next = behind(lane), to = next + Time::from_ns(missing_s * 1e9);
            lane.holes.push_back({next, to});
            lane.samples.begin_stretch(to);
        }
    }

    Result<void> finish() override { return {}; }

    void doubt() override {
        const SampleTrail& t = mine();
        if (t.samples == 0)
            trail().doubts.push_back({"The stream of samples of " + t.name + " holds no whole sample: " +
                                          bytes_text(t.bytes) + ", and one of all channels has " + bytes_text(frame_) +
                                          ".",
                                      "Check type and channels in its [stream.samples]."});
        else if (t.odd_bytes > 0)
            trail().doubts.push_back({"The stream of samples of " + t.name + " has " + bytes_text(t.odd_bytes) +
                                          " that make no whole sample of its " +
                                          plural(parameters_.channels.size(), "channel", "channels") + ".",
                                      "If the values look wrong, check type and channels in its [stream.samples]."});
        if (t.breaks > 0)
            trail().doubts.push_back({"The connection to " + t.name + " was lost " +
                                          plural(t.breaks, "time", "times") +
                                          ": samples behind that are placed by when their bytes came.",
                                      ""});
        // Without any trace the samples are all there is.
        if (recording().streams.empty() && recording().step_streams.empty() && recording().events == nullptr)
            trail().end = std::max(trail().end, reached());
    }

    Time reached() const override {
        const SampleTrail& t = mine();
        return t.samples == 0 ? Time{} : trail().tasks.values[t.lanes[0]].samples.back().time;
    }
    Facts facts() const override { return {mine().samples, mine().samples}; }
    std::size_t turn() const override { return kSampleTurn; }
    std::size_t core() const override { return 0; }
    std::uint64_t bytes() const override { return stream()->bytes().size(); }
    void add_open(Trail& copy) const override {
        if (recording().streams.empty() && recording().step_streams.empty() && recording().events == nullptr)
            copy.end = std::max(copy.end, reached());
    }

  protected:
    const Recording::Stream* stream() const override { return &recording().sample_streams[index()]; }

  private:
    SampleTrail& mine() { return trail().measured[index()]; }
    const SampleTrail& mine() const { return trail().measured[index()]; }

    static Time behind(const ValueLane& lane) {
        return lane.samples.back().time + Time{static_cast<std::int64_t>(lane.samples.period_ps())};
    }

    // Whole samples of all channels, a channel after another: each lane's end stays in reach of the processor.
    void take(Bytes raw, std::size_t& at) {
        constexpr std::size_t kFrames = 512;
        std::array<std::uint64_t, kFrames> words;
        SampleTrail& t = mine();
        while (raw.size() - at >= frame_) {
            const std::size_t n = std::min(kFrames, (raw.size() - at) / frame_);
            for (std::size_t c = 0; c < t.lanes.size(); ++c) {
                const std::uint8_t* from = raw.data() + at + c * bytes_each_;
                for (std::size_t i = 0; i < n; ++i, from += frame_) words[i] = word(from);
                ValueLane& lane = trail().tasks.values[t.lanes[c]];
                for (std::size_t i = 0; i < n; ++i) lane.append_word(words[i]);
            }
            at += n * frame_;
            t.samples += n;
        }
    }

    std::uint64_t word(const std::uint8_t* from) const {
        std::uint64_t w = 0;
        if (parameters_.big_endian)
            for (std::size_t i = 0; i < bytes_each_; ++i) w = w << 8 | from[i];
        else
            for (std::size_t i = 0; i < bytes_each_; ++i) w |= std::uint64_t{from[i]} << 8 * i;
        if (is_signed_ && (w >> (8 * bytes_each_ - 1)) != 0) w |= ~std::uint64_t{0} << 8 * bytes_each_;
        return w;
    }

    const Parameters& parameters_;
    const std::size_t bytes_each_, frame_;
    bool is_signed_ = false;
    std::size_t skip_ = 0;     ///< bytes up to the next whole sample
    std::uint64_t given_ = 0;  ///< up to here of the file
};

}  // namespace

std::unique_ptr<StreamDecoder> make_sample_stream(const StreamDecoder::Place& place) {
    return std::make_unique<SampleStream>(place);
}

}  // namespace mt
