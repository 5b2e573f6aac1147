#include <algorithm>

#include "base/text.h"
#include "pass/device_stream.h"
#include "pass/stream_sorts.h"

// Samples at a fixed rate, channel after channel, of a device with a clock of its own (docs/formats/samples.md). Its
// zero is the first sample, which is put where its first byte came; lay_beside brings its clock to the recording's.
namespace mt {
namespace {

using Parameters = SamplesParameters;

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

class SampleStream final : public DeviceStream {
  public:
    explicit SampleStream(const Place& place) : SampleStream(place, place.recording.target.streams[place.spec].samples) {}

    Result<bool> start(Bytes, std::uint64_t first, const Arrival& arrival, bool) override {
        SampleTrail& t = mine();
        t.begin = Time::from_ns(std::max(0.0, arrival(0)) * 1e9);
        t.arrived = stream()->journal.present;
        begin_at(first);
        const auto lost = static_cast<long double>((first + frame_ - 1) / frame_);
        for (const Parameters::Channel& channel : parameters_.channels) {
            ValueLane lane = blank_lane(channel.name, ValueLane::kNoCore);
            lane.unit = channel.unit;
            const EvenReading reading = reading_of(parameters_, channel);
            lane.sort = reading.sort();
            lane.samples.make_even(1e12L / static_cast<long double>(parameters_.rate_hz), reading);
            lane.set_usual_origin(measured_origin());
            lane.samples.begin_stretch(
                Time{t.begin.ps + static_cast<std::int64_t>(lost * lane.samples.period_ps())});
            keep(std::move(lane));
        }
        return true;
    }

    // How much is missing is told by the recording computer's clock alone.
    void lose(std::uint64_t offset) override {
        DeviceStream::lose(offset);
        double missing_s = 0;
        for (const StreamJournal::Break& b : stream()->journal.breaks)
            if (b.offset == offset) missing_s = std::max(0.0, b.missing_s);
        for (const std::size_t i : mine().lanes) {
            ValueLane& lane = trail().tasks.values[i];
            if (lane.samples.empty()) continue;
            const Time next = behind(lane), to = next + Time::from_ns(missing_s * 1e9);
            lane.holes.push_back({next, to});
            lane.samples.begin_stretch(to);
        }
    }

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
    std::size_t core() const override { return 0; }
    void add_open(Trail& copy) const override {
        if (recording().streams.empty() && recording().step_streams.empty() && recording().events == nullptr)
            copy.end = std::max(copy.end, reached());
    }

  protected:
    // Whole samples of all channels, a channel after another: each lane's end stays in reach of the processor.
    void take(Bytes raw, std::size_t& at) override {
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

  private:
    SampleStream(const Place& place, const Parameters& parameters)
        : DeviceStream(place, parameters.name.empty() ? "samples" : parameters.name, parameters.frame_bytes()),
          parameters_(parameters),
          bytes_each_(parameters.sample_bytes()),
          frame_(parameters.frame_bytes()),
          is_signed_(parameters.type == Parameters::Type::i8 || parameters.type == Parameters::Type::i16 ||
                     parameters.type == Parameters::Type::i24) {
        mine().rate_hz = parameters.rate_hz;
    }
    static Time behind(const ValueLane& lane) {
        return lane.samples.back().time + Time{static_cast<std::int64_t>(lane.samples.period_ps())};
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
    const bool is_signed_;
};

}  // namespace

std::unique_ptr<StreamDecoder> make_sample_stream(const StreamDecoder::Place& place) {
    return std::make_unique<SampleStream>(place);
}

}  // namespace mt
