#include "trail/live_recording.h"

#include <algorithm>

#include "trail/doubts.h"
#include "trail/reading.h"

namespace mt {
namespace {
using Steady = std::chrono::steady_clock;
constexpr std::size_t kTurn = 1 << 20;  ///< bytes decoded of one stream before the next has its turn
constexpr std::size_t kEnoughForFrames = 1 << 16;
double seconds(Steady::duration d) { return std::chrono::duration<double>(d).count(); }
}  // namespace

Result<std::unique_ptr<LiveRecording>> LiveRecording::prepare(Recipe recipe, const std::string& folder) {
    auto base = open_without_streams(recipe.target);
    if (!base) return tl::make_unexpected(base.error());
    std::unique_ptr<LiveRecording> live(new LiveRecording);
    live->base_ = *base;
    if (!recipe.name.empty()) live->base_->title = recipe.name;
    live->run_ = std::make_unique<RecordRun>(std::move(recipe), (*base)->target, (*base)->images, folder);
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
    auto r = std::make_shared<Recording>(*base_);
    r->input = run_->folder();
    for (const auto& s : run_->streams()) {
        Recording::Stream stream;
        stream.spec = s.spec;
        stream.path = s.path;
        while (r->target.cores[stream.core].name != r->target.streams[s.spec].core) ++stream.core;
        if (auto file = MappedFile::follow(s.path)) stream.file = *file;
        const bool taken = std::any_of(r->streams.begin(), r->streams.end(),
                                       [&](const Recording::Stream& o) { return o.core == stream.core; });
        if (r->target.streams[s.spec].protocol == Protocol::itm && stream.file && !taken) r->streams.push_back(stream);
    }
    growing_ = std::make_unique<GrowingTrail>(*r);
    if (const auto& mark = run_->recipe().mark) growing_->watch_port(mark->port, mark->value);
    taken_.assign(r->streams.size(), 0);
    breaks_taken_.assign(r->streams.size(), 0);
    before_.assign(r->streams.size(), {});
    for (auto& b : before_) b.at = b.history_at = Steady::now();
    {
        const std::lock_guard guard(lock_);
        recording_ = r;
        figures_.assign(r->streams.size(), {});
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

// Settles how a stream begins once enough of it is there. While a recording grows, only synchronised data is
// believed; whether a stream without any can be trusted is decided when the finished recording is opened.
bool LiveRecording::try_start(std::size_t i, std::span<const std::uint8_t> raw, bool last) {
    const StreamSpec& spec = recording_->target.streams[recording_->streams[i].spec];
    StartPlan plan;
    if (spec.framing == Framing::tpiu) {
        const bool marked = tpiu_has_full_sync(raw.first(std::min(raw.size(), kEnoughForFrames)));
        if (!marked && raw.size() < kEnoughForFrames && !last) return false;
        plan.deframer = TpiuDeframer(spec.trace_id, !marked);
    }
    growing_->start(i, std::move(plan));
    return true;
}

// Decodes what has come since; true if there was anything.
bool LiveRecording::decode_some(std::size_t i, const ReceiverState& received, bool last) {
    const auto& stream = recording_->streams[i];
    if (received.bytes == 0) return false;
    stream.file->renew(static_cast<std::size_t>(received.bytes));
    const auto raw = stream.bytes();
    if (!growing_->started(i)) {
        if (!try_start(i, raw, last)) return false;
        taken_[i] = 0;
    }
    if (received.first > taken_[i]) {
        growing_->skip_to(i, received.first);
        taken_[i] = received.first;
    }
    while (breaks_taken_[i] < received.breaks.size() && received.breaks[breaks_taken_[i]] <= taken_[i]) {
        if (taken_[i] > 0) growing_->lose(i);
        ++breaks_taken_[i];
    }
    std::uint64_t until = std::min<std::uint64_t>(raw.size(), taken_[i] + kTurn);
    if (breaks_taken_[i] < received.breaks.size()) until = std::min(until, received.breaks[breaks_taken_[i]]);
    if (until <= taken_[i]) return false;
    growing_->feed(i, raw.subspan(taken_[i], until - taken_[i]));
    taken_[i] = until;
    stream.file->let_go(until);
    return true;
}

void LiveRecording::decode() {
    auto published = Steady::now();
    for (;;) {
        const bool last = over_;
        const RunState state = run_->state();
        bool any = false;
        for (std::size_t i = 0; i < recording_->streams.size(); ++i)
            for (const auto& s : state.streams)
                if (s.stream == recording_->streams[i].spec) any = decode_some(i, s.received, last) || any;
        if (const auto& mark = run_->recipe().mark)
            for (std::size_t i = 0; i < recording_->streams.size(); ++i)
                if (growing_->seen_on_port(i, mark->port, mark->value) > 0) run_->stop("the stop mark appeared");
        const auto now = Steady::now();
        if (seconds(now - published) >= kPublishSeconds || (last && !any)) {
            published = now;
            renew_figures(state);
            if (last && !any) break;
            publish(growing_->snapshot());
        }
        if (state.discarded) return;
        if (!any && !last) std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    for (std::size_t i = 0; i < recording_->streams.size(); ++i)
        if (growing_->started(i)) growing_->finish(i);
    publish(growing_->snapshot());
}

void LiveRecording::publish(std::shared_ptr<Trail> trail) {
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
        Before& b = before_[i];
        const StreamTrail& s = growing_->trail().streams[i];
        std::uint64_t bytes = 0;
        for (const auto& r : state.streams)
            if (r.stream == recording_->streams[i].spec) bytes = r.received.bytes;
        const std::uint64_t syncs = s.counts[static_cast<std::size_t>(ItmKind::sync)];
        if (syncs > b.syncs) {
            b.syncs = syncs;
            b.sync_at = now;
        }
        f.sync_age_s = b.syncs == 0 ? -1 : seconds(now - b.sync_at);
        f.decoded = s.read_bytes;
        if (const double past = seconds(now - b.at); past >= 0.9) {
            f.bytes_per_s = static_cast<double>(bytes - b.bytes) / past;
            f.packets_per_s = static_cast<double>(s.packets - b.packets) / past;
            b.at = now;
            b.bytes = bytes;
            b.packets = s.packets;
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
