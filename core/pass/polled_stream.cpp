#include <algorithm>

#include "base/text.h"
#include "pass/device_stream.h"
#include "pass/stream_sorts.h"

// Values that were read through a debug server while the target ran: a record for each (docs/formats/polled.md). What
// was read held at some moment between the question and the answer; times are those of the recording computer.
namespace mt {
namespace {

constexpr std::size_t kRecord = PolledParameters::kRecord;
constexpr double kShort = 0.9;  ///< of the rate that was asked for: less is said

std::uint64_t little_endian(const std::uint8_t* from, unsigned bytes) {
    std::uint64_t v = 0;
    for (unsigned i = 0; i < bytes; ++i) v |= std::uint64_t{from[i]} << 8 * i;
    return v;
}

class PolledStream final : public DeviceStream {
  public:
    explicit PolledStream(const Place& place) : DeviceStream(place, "polled", kRecord), values_(spec().polled.values) {}
    Result<bool> start(Bytes, std::uint64_t first, const Arrival&, bool) override {
        begin_at(first);
        for (const PolledParameters::Value& v : values_) {
            ValueLane lane = blank_lane(v.name, static_cast<std::uint16_t>(core()));
            types_.push_back(ValueType::named(v.type).value_or(ValueType{}).with(v.mask, v.shift));
            lane.sort = types_.back().read(0).sort;
            lane.value_names = v.names;
            keep(std::move(lane));
        }
        return true;
    }
    void doubt() override {
        const SampleTrail& t = mine();
        if (t.odd_bytes > 0)
            trail().doubts.push_back(
                {bytes_text(t.odd_bytes) + " of the polled values make no whole record, or belong to none of them.", ""});
        for (std::size_t v = 0; v < t.lanes.size(); ++v) {
            const ValueLane& lane = trail().tasks.values[t.lanes[v]];
            const double n = static_cast<double>(lane.samples.size());
            if (n < 10) continue;
            const double rate = (n - 1) / (lane.samples.back().time - lane.samples.time(0)).seconds();
            if (rate < kShort * values_[v].rate_hz)
                trail().doubts.push_back({lane.name + " was read " + count_text(static_cast<std::uint64_t>(rate + 0.5)) +
                                              " times a second, not " +
                                              count_text(static_cast<std::uint64_t>(values_[v].rate_hz + 0.5)) +
                                              " as was asked for: the debug server answers no faster.",
                                          ""});
        }
        const StreamJournal& journal = stream()->journal;
        if (journal.halts > 0)
            trail().doubts.push_back({"The core was halted " + plural(journal.halts, "time", "times") + ", for " +
                                          duration_text(Time::from_ns(journal.halted_s * 1e9)) +
                                          " in all, to be read: its debug server cannot read while it runs.",
                                      "Poll less often where that disturbs."});
    }
    Time reached() const override {
        Time t{};
        for (const std::size_t i : mine().lanes)
            if (const auto& samples = trail().tasks.values[i].samples; !samples.empty())
                t = std::max(t, samples.back().time);
        return t;
    }
    std::size_t core() const override { return stream()->core; }

  protected:
    void take(Bytes raw, std::size_t& at) override {
        for (; raw.size() - at >= kRecord; at += kRecord) take_record(raw.data() + at, raw.subspan(at + kRecord));
    }

  private:
    static Time time_of(const std::uint8_t* record) {
        return Time{static_cast<std::int64_t>((little_endian(record, 8) + little_endian(record + 8, 4)) * 1000)};
    }
    /// `behind`: what follows it.
    void take_record(const std::uint8_t* record, Bytes behind) {
        const std::uint64_t sent = little_endian(record, 8), which = little_endian(record + 12, 4);
        const auto took = static_cast<std::uint32_t>(little_endian(record + 8, 4));
        constexpr std::uint64_t kFarthest = std::uint64_t{1} << 52;  // ns
        if (which >= types_.size() || sent > kFarthest) {
            mine().odd_bytes += kRecord;
            return;
        }
        ValueLane& lane = trail().tasks.values[mine().lanes[which]];
        const Time t = time_of(record), last = lane.samples.empty() ? Time{} : lane.samples.back().time;
        // Times ascend: one that lies behind the next is damaged, and would take all that follow with it.
        const bool ahead = behind.size() >= kRecord && little_endian(behind.data(), 8) <= kFarthest &&
                           time_of(behind.data()) < t && !(time_of(behind.data()) < last);
        if (t < last || ahead) {
            mine().odd_bytes += kRecord;
            return;
        }
        ValueOrigin origin;
        origin.access = ValueAccess::sampled;
        origin.slack_ns = took;
        lane.append(t, types_[which].read(little_endian(record + 16, 8)).bits, origin);
        ++mine().samples;
    }

    const std::vector<PolledParameters::Value>& values_;
    std::vector<ValueType> types_;
};

}  // namespace

std::unique_ptr<StreamDecoder> make_polled_stream(const StreamDecoder::Place& place) {
    return std::make_unique<PolledStream>(place);
}

}  // namespace mt
