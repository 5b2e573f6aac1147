#include <cstring>

#include "base/text.h"
#include "pass/device_stream.h"
#include "pass/stream_sorts.h"
#include "base/console_piece.h"

// What the target showed on its console, piece by piece, each with when it came (docs/formats/console.md).
namespace mt {
namespace {

class ConsoleStream final : public DeviceStream {
  public:
    explicit ConsoleStream(const Place& place) : DeviceStream(place, "console", 1) {}
    Result<bool> start(Bytes, std::uint64_t first, const Arrival&, bool) override {
        begin_at(first);
        for (const char* name : {"console", "console errors"}) {
            logs_.push_back(trail().texts.size());
            TextLog log;
            log.core = static_cast<std::uint16_t>(core());
            log.port = TextLog::kConsole;
            log.name = name;
            log.stated = true;
            trail().texts.push_back(std::move(log));
        }
        return true;
    }
    void lose(std::uint64_t offset) override {
        DeviceStream::lose(offset);
        for (const std::size_t l : logs_) trail().texts[l].lose();
    }
    void doubt() override {
        if (mine().odd_bytes > 0)
            trail().doubts.push_back({bytes_text(mine().odd_bytes) + " of the console's stream are no whole piece of text.", ""});
        if (wrong_times_ > 0)
            trail().doubts.push_back({"The times of " + plural(wrong_times_, "piece", "pieces") +
                                          " of the console's text cannot be right: they are shown with the text before.",
                                      ""});
        if (recording().streams.empty() && recording().step_streams.empty()) trail().end = std::max(trail().end, reached_);
    }
    Time reached() const override { return reached_; }
    std::size_t core() const override { return stream()->core; }

  protected:
    void take(Bytes raw, std::size_t& at) override {
        while (at < raw.size()) {
            ConsolePiece piece;
            const std::size_t length = read_console_piece(raw.subspan(at), piece);
            if (length == 0) {
                if (raw.size() - at < kMostConsolePiece) return;  // more may follow
                skip_one(at);
            } else if (length == kNoConsolePiece) {
                skip_one(at);
            } else {
                at += length;
                show(piece, raw.subspan(at));
            }
        }
    }

  private:
    void skip_one(std::size_t& at) {
        for (const std::size_t l : logs_) trail().texts[l].lose();
        ++mine().odd_bytes;
        ++at;
    }
    // Times ascend: one that lies behind that of the pieces that follow is damaged, and would take all of them with it.
    void show(const ConsolePiece& piece, Bytes behind) {
        const auto time_of = [](const ConsolePiece& p) { return Time{static_cast<std::int64_t>(p.time_ns) * 1000}; };
        const Time t = time_of(piece);
        constexpr std::size_t kFar = 4 * kMostConsolePiece;
        bool ahead = false;
        for (std::size_t at = 0, seen = 0; t > reached_ && seen < 3 && at < std::min(behind.size(), kFar) && !ahead;) {
            ConsolePiece next;
            const std::size_t length = read_console_piece(behind.subspan(at), next);
            if (length == 0) break;
            if (length == kNoConsolePiece) {
                ++at;
                continue;
            }
            at += length;
            ++seen;
            ahead = time_of(next) < t && reached_ <= time_of(next);
        }
        if (ahead || t < reached_) ++wrong_times_;
        if (!ahead) reached_ = std::max(reached_, t);
        TextLog& log = trail().texts[logs_[piece.channel == ConsolePiece::kErrors ? 1 : 0]];
        for (const std::uint8_t byte : piece.text) log.put(static_cast<char>(byte), reached_);
        mine().samples += piece.text.size();
    }

    std::vector<std::size_t> logs_;
    Time reached_;
    std::uint64_t wrong_times_ = 0;
};

}  // namespace

std::unique_ptr<StreamDecoder> make_console_stream(const StreamDecoder::Place& place) {
    return std::make_unique<ConsoleStream>(place);
}

}  // namespace mt
