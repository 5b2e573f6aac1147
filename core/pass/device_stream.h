// Streams of which each record, or each sample of all channels, has the same length, and whose values become lanes of
// their own: what a device measured, and what was read through a debug server.
#pragma once

#include <algorithm>

#include "pass/stream_decoder.h"

namespace mt {

class DeviceStream : public StreamDecoder {
  public:
    /// `whole`: bytes of a record.
    DeviceStream(const Place& place, std::string name, std::size_t whole) : StreamDecoder(place), whole_(whole) {
        if (trail().measured.size() <= index()) trail().measured.resize(index() + 1);
        SampleTrail& t = mine();
        const Recording::Stream& s = recording().sample_streams[index()];
        t.spec = s.spec;
        t.file = s.path;
        t.name = std::move(name);
        t.bytes = s.bytes().size();
    }
    Result<std::size_t> feed(Bytes raw, bool last) override {
        std::size_t at = std::min(skip_, raw.size());
        skip_ -= at;
        mine().odd_bytes += at;
        take(raw, at);
        if (last && at < raw.size()) {
            mine().odd_bytes += raw.size() - at;
            at = raw.size();
        }
        given_ += at;
        mine().taken = given_;
        return at;
    }
    /// What came before is no whole record; a device that is connected again begins with one.
    void lose(std::uint64_t offset) override {
        ++mine().breaks;
        given_ = std::max(given_, offset);
        skip_ = 0;
    }
    Result<void> finish() override { return {}; }
    Facts facts() const override { return {mine().samples, mine().samples}; }
    std::size_t turn() const override { return std::size_t{1} << 20; }
    std::uint64_t bytes() const override { return stream()->bytes().size(); }

  protected:
    /// Takes whole records from `at` on, and says by it how far that was.
    virtual void take(Bytes raw, std::size_t& at) = 0;
    /// The first byte is number `first` of the file: what was given up may end within a record.
    void begin_at(std::uint64_t first) {
        given_ = first;
        skip_ = (whole_ - first % whole_) % whole_;
    }
    /// A lane that tells what it came from; `keep` puts it into the trail.
    ValueLane blank_lane(const std::string& name, std::uint16_t core) {
        ValueLane lane;
        lane.id = static_cast<std::uint32_t>(kBesideNumbers + trail().tasks.values.size());
        lane.name = name;
        lane.source = mine().name;
        lane.core = core;
        return lane;
    }
    void keep(ValueLane lane) {
        mine().lanes.push_back(trail().tasks.values.size());
        trail().tasks.values.push_back(std::move(lane));
    }
    const Recording::Stream* stream() const override { return &recording().sample_streams[index()]; }
    SampleTrail& mine() { return trail().measured[index()]; }
    const SampleTrail& mine() const { return trail().measured[index()]; }

  private:
    std::size_t whole_, skip_ = 0;  ///< skip_: bytes up to the next whole record
    std::uint64_t given_ = 0;       ///< up to here of the file
};

}  // namespace mt
