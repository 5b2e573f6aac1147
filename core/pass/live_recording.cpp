#include "pass/live_recording.h"

#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <utility>

#include "pass/growing_steps.h"
#include "pass/reading.h"

namespace mt {
namespace {
using Steady = std::chrono::steady_clock;
constexpr std::size_t kMany = 1 << 18;  ///< bytes that wait: no rest then
constexpr double kRest = 0.4;           ///< s without a byte, or behind by so much: the pace is not measured over it
constexpr std::uint64_t kFarBehind = 8 << 20;  ///< bytes that are on the disk and not decoded
double seconds(Steady::duration d) { return std::chrono::duration<double>(d).count(); }
}  // namespace

Result<std::unique_ptr<LiveRecording>> LiveRecording::prepare(Recipe recipe, const std::string& folder, bool replace) {
    auto base = open_without_streams(recipe.target);
    if (!base) return tl::make_unexpected(base.error());
    std::unique_ptr<LiveRecording> live(new LiveRecording);
    live->base_ = *base;
    if (!recipe.name.empty()) live->base_->title = recipe.name;
    live->run_ = std::make_unique<RecordRun>(std::move(recipe), (*base)->target, (*base)->images, folder, replace);
    live->run_->on_begin = [l = live.get()] { l->begin(); };
    return live;
}

LiveRecording::~LiveRecording() {
    run_->stop("the program was closed");
    wait();
}

void LiveRecording::start() {
    runner_ = std::thread([this] {
        auto outcome = run_->run();
        over_ = true;
        if (decoder_.joinable()) decoder_.join();
        if (on_end) on_end(outcome);
    });
}

void LiveRecording::wait() {
    if (runner_.joinable()) runner_.join();
}

// On the run's thread, before the first byte: from now on there is a recording to look at.
void LiveRecording::begin() {
    // What the trace was set up to is in the target file now.
    if (run_->target().text != base_->target.text)
        if (auto again = open_without_streams(base_->target.path, {}, run_->target().text)) {
            (*again)->title = base_->title;
            base_ = std::move(*again);
        }
    auto r = std::make_shared<Recording>(*base_);
    r->input = run_->folder();
    for (std::size_t c = 0; c < r->target.cores.size(); ++c) {
        r->target.cores[c].began = run_->target().cores[c].began;
        r->target.cores[c].stopped = {};
        const auto& cores = run_->state().cores;
        r->target.cores[c].untouched = std::any_of(cores.begin(), cores.end(), [&](const auto& core) { return core.name == r->target.cores[c].name && core.debug; });
    }
    for (const auto& s : run_->streams()) {
        if (s.spec >= r->target.streams.size()) continue;
        const StreamSpec& spec = r->target.streams[s.spec];
        if (spec.protocol == Protocol::ctf) {
            if (r->events) continue;
            if (auto followed = follow_events(*r, s.spec, s.path); !followed)
                r->doubts.push_back({"The event trace is recorded, but not decoded meanwhile: " +
                                         followed.error().what + " (" + followed.error().where + ").",
                                     followed.error().advice});
            continue;
        }
        Recording::Stream stream;
        stream.spec = s.spec;
        stream.path = s.path;
        if (auto file = MappedFile::follow(s.path)) stream.file = *file;
        const bool steps = tells_instructions(spec.protocol);
        if (!stream.file) continue;
        if (spec.protocol == Protocol::samples) {
            r->sample_streams.push_back(stream);
            continue;
        }
        while (r->target.cores[stream.core].name != spec.core) ++stream.core;
        if (timed_by_recorder(spec.protocol)) {
            r->sample_streams.push_back(stream);
            continue;
        }
        if (steps && r->code[stream.core] == nullptr) continue;  // cannot be followed: recorded all the same
        auto& list = steps ? r->step_streams : r->streams;
        if (std::any_of(list.begin(), list.end(), [&](const Recording::Stream& o) { return o.core == stream.core; }))
            continue;
        list.push_back(stream);
    }
    const PortSpec* tapped = nullptr;
    std::size_t tapped_stream = 0;
    for (const PortSpec& port : r->target.ports)
        for (std::size_t i = 0; port.kind == "ctf" && i < r->streams.size() && !r->events; ++i) {
            auto tap = PortTap::make();
            const auto followed = tap ? follow_events(*r, r->streams[i].spec, (*tap)->path(), &port)
                                      : Result<void>(tl::make_unexpected(tap.error()));
            if (!followed) {
                r->doubts.push_back({"What comes through port " + std::to_string(port.number) +
                                         " is recorded, but not decoded meanwhile: " + followed.error().what + " (" +
                                         followed.error().where + ").",
                                     followed.error().advice});
                continue;
            }
            tap_ = std::move(*tap);
            tapped = &port;
            tapped_stream = i;
        }
    growing_ = std::make_unique<GrowingTrail>(*r);
    if (tapped != nullptr) growing_->tap_port(tapped_stream, tapped->number, *tap_);
    prepare_steps(*r, growing_->trail());
    if (const auto& mark = run_->recipe().mark) growing_->watch_port(mark->port, mark->value);
    std::vector<const Recording::Stream*> streams;  // in the order of the decoders; events come last
    for (const auto* list : {&r->streams, &r->step_streams, &r->sample_streams})
        for (const auto& s : *list) streams.push_back(&s);
    for (auto& decoder : make_decoders(*r, *growing_)) {
        Feed feed;
        feed.decoder = std::move(decoder);
        const Recording::Stream* stream = feeds_.size() < streams.size() ? streams[feeds_.size()] : nullptr;
        feed.spec = stream != nullptr ? stream->spec : r->live_events->spec;
        feed.file = stream != nullptr ? stream->file : r->live_events->files[0].file;
        feed.before.at = feed.before.history_at = Steady::now();
        feeds_.push_back(std::move(feed));
    }
    if (tapped != nullptr) feeds_.back().tap = tap_.get();
    {
        const std::lock_guard guard(lock_);
        recording_ = r;
        figures_.assign(feeds_.size() - (tapped != nullptr ? 1 : 0), {});  // a port's are those of its stream
    }
    decoder_ = std::thread([this] { decode(); });
}

std::shared_ptr<const Recording> LiveRecording::recording() const {
    const std::lock_guard guard(lock_);
    return recording_;
}
std::shared_ptr<const Trail> LiveRecording::trail() const {
    const std::lock_guard guard(lock_);
    return trail_;
}
std::vector<LiveFigures> LiveRecording::figures() const {
    const std::lock_guard guard(lock_);
    return figures_;
}

// Decodes what has come since; true if there was anything.
bool LiveRecording::decode_some(Feed& f, const ReceiverState& received, bool last) {
    if (received.bytes == 0) return false;
    f.file->renew(static_cast<std::size_t>(received.bytes));
    const auto raw = f.file->bytes();
    if (!f.started) {
        const auto arrival = [tap = f.tap, after = received.first_byte_after_s](std::uint64_t offset) {
            return tap != nullptr ? tap->written_by(offset).seconds() : after;
        };
        // Only synchronised data is believed meanwhile; whether a stream without any can be trusted is decided when the
        // finished recording is opened.
        const auto started = f.decoder->start(raw, 0, arrival, false);
        if (!last && (!started || !*started)) return false;
        f.started = started && *started;
        if (!f.started) return false;
    }
    if (received.first > f.taken) {
        f.decoder->lose(received.first);
        f.taken = received.first;
    }
    for (; f.breaks_taken < received.breaks.size() && received.breaks[f.breaks_taken] <= f.taken; ++f.breaks_taken)
        if (f.taken > 0) f.decoder->lose(f.taken);
    std::uint64_t end = raw.size();
    if (f.breaks_taken < received.breaks.size()) end = std::min(end, received.breaks[f.breaks_taken]);
    for (const std::uint64_t most : {std::uint64_t{f.decoder->turn()}, end}) {
        const std::uint64_t until = std::min(end, f.taken + most);
        if (until <= f.taken) return false;
        // Up to a break all is there that there will be.
        const auto taken =
            f.decoder->feed(raw.subspan(f.taken, until - f.taken), until == end && (last || end < raw.size()));
        if (!taken) return false;
        f.taken += *taken;
        f.file->let_go(f.taken);
        if (*taken > 0) return true;
        if (until == end) break;
        // A packet longer than a turn is looked at again with more of it.
    }
    if (end == raw.size()) return false;
    f.taken = end;  // what no packet claims before a break
    return true;
}

// What came through a port since.
bool LiveRecording::decode_tapped(Feed& f, bool last) {
    if (!f.tap->flush()) {
        if (!std::exchange(f.tap_full, true))
            growing_->trail().doubts.push_back(
                {"Tasks do not go on while this is recorded: no room for temporary files beside " + f.tap->path(),
                 "Nothing is lost: the finished recording has them. Make room there, or set TMPDIR to another "
                 "folder."});
        return false;
    }
    ReceiverState received;
    received.bytes = f.tap->bytes();
    received.breaks = f.tap->breaks();
    return decode_some(f, received, last);
}

std::shared_ptr<Trail> LiveRecording::snapshot() {
    for (Feed& f : feeds_)
        if (f.started) f.decoder->settle();
    auto copy = growing_->snapshot();
    for (Feed& f : feeds_)
        if (f.started) f.decoder->add_open(*copy);
    for (StepTrail& steps : copy->steps) {
        if (run_->touched()) steps.untouched = false;
        const RecordRun::Stand stand = run_->stand(steps.core_index);
        steps.stood = stand.stood;
        steps.stands = stand.stands;
    }
    return copy;
}

void LiveRecording::decode() {
    // What receives and what draws goes first where there are few cores: bytes wait on the disk.
    ::setpriority(PRIO_PROCESS, static_cast<id_t>(::gettid()), 10);
    auto published = Steady::now();
    std::vector<RecordRun::Stand> stands;
    bool grew = true, touched = false;
    for (;;) {
        const bool last = over_;
        const RunState state = run_->state();
        bool any = false;
        std::uint64_t behind = 0;
        for (Feed& f : feeds_) {
            if (f.tap != nullptr) any = decode_tapped(f, last) || any;
            for (const auto& s : state.streams)
                if (s.stream == f.spec && f.tap == nullptr) {
                    any = decode_some(f, s.received, last) || any;
                    behind += s.received.bytes - std::min<std::uint64_t>(s.received.bytes, f.taken);
                }
        }
        if (const auto& mark = run_->recipe().mark)
            for (std::size_t i = 0; i < recording_->streams.size(); ++i)
                if (growing_->seen_on_port(i, mark->port, mark->value) > 0) run_->stop("the stop mark appeared");
        grew = grew || any;
        const auto now = Steady::now();
        // Where decoding cannot keep up, drawing gives way to it.
        const double each = behind > kFarBehind ? 4 * kPublishSeconds : kPublishSeconds;
        if (seconds(now - published) >= each || (last && !any)) {
            published = now;
            renew_figures(state);
            if (last && !any) break;
            // Where nothing came the trail stays the same one: what was worked out of it holds.
            std::vector<RecordRun::Stand> now_stand;
            for (const auto& s : recording_->step_streams) now_stand.push_back(run_->stand(s.core));
            const bool touched_now = run_->touched();
            grew = grew || now_stand != stands || touched_now != touched;
            touched = touched_now;
            publish(grew ? std::shared_ptr<const Trail>(snapshot()) : trail());
            stands = std::move(now_stand);
            grew = false;
        }
        if (state.discarded) return;
        // What has come is decoded; a little more is waited for, since many small pieces cost more than one.
        if (behind < kMany && !last) std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    for (Feed& f : feeds_) {
        while (f.tap != nullptr && decode_tapped(f, true)) {  // what waited for its time until the stream's end
        }
        if (f.started) static_cast<void>(f.decoder->finish());  // what is wrong is said when it is opened again
    }
    if (growing_->has_tasks()) growing_->tasks().finish();
    publish(snapshot());
}

void LiveRecording::publish(std::shared_ptr<const Trail> trail) {
    {
        const std::lock_guard guard(lock_);
        trail_ = trail;
    }
    if (on_grew) on_grew(recording_, trail);
}

void LiveRecording::renew_figures(const RunState& state) {
    const auto now = Steady::now();
    const std::lock_guard guard(lock_);
    for (std::size_t i = 0; i < figures_.size(); ++i) {
        LiveFigures& f = figures_[i];
        Feed& feed = feeds_[i];
        Before& b = feed.before;
        std::uint64_t bytes = 0;
        for (const auto& r : state.streams)
            if (r.stream == feed.spec) bytes = r.received.bytes;
        const auto [packets, syncs] = feed.started ? feed.decoder->facts() : StreamDecoder::Facts{};
        if (syncs > b.syncs) {
            b.syncs = syncs;
            b.sync_at = now;
        }
        f.sync_age_s = b.syncs == 0 ? -1 : seconds(now - b.sync_at);
        f.decoded = feed.taken;
        if (const double past = seconds(now - b.at); past >= 0.9) {
            f.bytes_per_s = static_cast<double>(bytes - b.bytes) / past;
            f.packets_per_s = static_cast<double>(packets - b.packets) / past;
            b.at = now;
            b.bytes = bytes;
            b.packets = packets;
        }
        if (feed.decoder->keeps_pace()) {
            // The first second may bring what waited on the line before.
            const double end = feed.decoder->reached().seconds();
            bool rests = true;
            for (const auto& r : state.streams)
                if (r.stream == feed.spec)
                    rests = !r.received.connected || r.received.quiet_s > kRest ||
                            static_cast<double>(bytes - std::min<std::uint64_t>(bytes, feed.taken)) >
                                f.bytes_per_s * kRest + 4096;
            if (rests || !b.steady_at || f.bytes_per_s == 0) {
                b.steady_at = rests ? std::optional<Steady::time_point>() : now;
                b.steady_end = end;
                f.pace = 0;
            }
            if (const double past = b.steady_at ? seconds(now - *b.steady_at) : 0; past >= 2)
                f.pace = (end - b.steady_end) / past;
        }
        if (const double past = seconds(now - b.history_at); past >= 0.25) {
            f.history.push_back(static_cast<float>(static_cast<double>(bytes - b.history_bytes) / past));
            if (f.history.size() > LiveFigures::kHistory) f.history.pop_front();
            b.history_at = now;
            b.history_bytes = bytes;
        }
    }
}

}  // namespace mt
