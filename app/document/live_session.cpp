#include "document/live_session.h"

namespace mt::app {
namespace {
constexpr int kRenewMs = 250;
constexpr double kListenSeconds = 1.0;
}  // namespace

LiveSession::LiveSession(Document& document, QObject* parent) : QObject(parent), document_(document) {
    timer_.setInterval(kRenewMs);
    connect(&timer_, &QTimer::timeout, this, &LiveSession::renew);
}

LiveSession::~LiveSession() {
    if (test_progress_) test_progress_->cancel();
    if (tester_.joinable()) tester_.join();
    live_.reset();
}

bool LiveSession::choose(const Recipe& recipe) {
    if (active()) return false;
    auto live = LiveRecording::prepare(recipe, save_path(recipe));
    if (!live) {
        emit failed(live.error());
        return false;
    }
    recipe_ = recipe;
    state_ = (*live)->state();
    health_.clear();
    figures_.clear();
    emit chosen();
    emit renewed();
    return true;
}

void LiveSession::start() {
    if (!recipe_ || active()) return;
    auto live = LiveRecording::prepare(*recipe_, save_path(*recipe_));
    if (!live) {
        emit failed(live.error());
        return;
    }
    live_ = std::move(*live);
    began_ = held_ = false;
    next_health_.clear();
    looked_ = {};
    // `live_` may be let go of while its threads still end: they hold the recording itself.
    live_->on_grew = [this, live = live_.get()](std::shared_ptr<const Recording> recording,
                                                std::shared_ptr<const Trail> trail) {
        // On the decoding thread: the window's own is not to look at the recording for this.
        const auto now = std::chrono::steady_clock::now();
        if (now - looked_ >= std::chrono::milliseconds(kRenewMs)) {
            looked_ = now;
            auto health = live_health(*recording, trail.get(), live->state(), live->figures());
            const std::lock_guard guard(lock_);
            next_health_ = std::move(health);
        }
        const std::lock_guard guard(lock_);
        next_recording_ = std::move(recording);
        next_trail_ = std::move(trail);
        if (posted_) return;  // the window has not yet taken the one before
        posted_ = true;
        QMetaObject::invokeMethod(this, &LiveSession::take, Qt::QueuedConnection);
    };
    live_->on_end = [this](const Result<void>& outcome) {
        QMetaObject::invokeMethod(
            this,
            [this, outcome] {
                take();
                renew();
                timer_.stop();
                live_->wait();
                const QString folder = outcome && !state_.discarded ? QString::fromStdString(state_.folder) : QString();
                live_.reset();
                held_ = false;
                document_.end_live();
                if (!outcome) emit failed(outcome.error());
                emit ended(folder);
                emit renewed();
            },
            Qt::QueuedConnection);
    };
    live_->start();
    timer_.start();
    renew();
}

void LiveSession::stop(bool keep) {
    if (live_) live_->run().stop(tr("stopped by hand").toStdString(), keep);
}
void LiveSession::note(const QString& text) {
    if (live_) live_->run().note(text.toStdString());
}
void LiveSession::halt(const QString& core, bool on) {
    if (!live_) return;
    if (on)
        live_->run().halt(core.toStdString());
    else
        live_->run().resume(core.toStdString());
}

void LiveSession::ask(const QString& command, Answered done) {
    if (!live_) return;
    auto parsed = parse_hand_command(command.toStdString());
    if (!parsed) {
        if (done) done(tl::make_unexpected(parsed.error()));
        return;
    }
    ask(std::move(*parsed), std::move(done));
}

void LiveSession::ask(HandCommand command, Answered done) {
    if (!live_) return;
    live_->run().ask(std::move(command), [this, done = std::move(done)](const Result<std::vector<HandAnswer>>& answers) {
        QMetaObject::invokeMethod(
            this,
            [this, done, answers] {
                renew();
                if (done) done(answers);
            },
            Qt::QueuedConnection);
    });
}

void LiveSession::allow_writing(bool on) {
    if (live_) live_->run().allow_writing(on);
}

void LiveSession::hold(bool on) {
    held_ = on && active();
    if (!held_) take();
    emit renewed();
}

// The newest snapshot goes to the views, unless the picture is held.
void LiveSession::take() {
    std::shared_ptr<const Recording> recording;
    std::shared_ptr<const Trail> trail;
    {
        const std::lock_guard guard(lock_);
        posted_ = false;
        if (held_ || !next_trail_) return;
        recording = std::exchange(next_recording_, nullptr);
        trail = std::exchange(next_trail_, nullptr);
    }
    if (began_ && trail == document_.trail()) return;  // nothing came
    document_.take_live(recording, trail, !began_);
    if (!began_) {
        began_ = true;
        emit began();
    }
}

void LiveSession::renew() {
    if (!live_) return;
    state_ = live_->state();
    figures_ = live_->figures();
    {
        const std::lock_guard guard(lock_);
        if (!next_health_.empty()) health_ = next_health_;
    }
    emit renewed();
}

void LiveSession::test(const Recipe& recipe) {
    if (testing_ || active()) return;
    if (tester_.joinable()) tester_.join();
    testing_ = true;
    test_progress_ = std::make_shared<Progress>();
    tester_ = std::thread([this, recipe, progress = test_progress_] {
        auto reports = test_connections(recipe, kListenSeconds, *progress);
        QMetaObject::invokeMethod(
            this,
            [this, reports] {
                testing_ = false;
                if (reports)
                    emit tested(*reports);
                else
                    emit tested({{"",
                                  false,
                                  {reports.error().what + " (" + reports.error().where + ")"},
                                  reports.error().advice}});
            },
            Qt::QueuedConnection);
    });
}

}  // namespace mt::app
