// The recording that is being made, for the window: a LiveRecording whose news arrive as signals.
#pragma once

#include <chrono>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <thread>

#include <QObject>
#include <QTimer>

#include "document/document.h"
#include "doubt/connection_test.h"
#include "judge/live_health.h"
#include "pass/live_recording.h"

namespace mt::app {

/// Only the window's thread may call its members. One recording at a time.
class LiveSession : public QObject {
    Q_OBJECT
  public:
    explicit LiveSession(Document& document, QObject* parent = nullptr);
    ~LiveSession() override;

    /// Reads the recipe and what it names; false and `failed` if that does not work.
    bool choose(const Recipe& recipe);
    const std::optional<Recipe>& recipe() const { return recipe_; }
    void start();
    void stop(bool keep);
    void note(const QString& text);
    void halt(const QString& core, bool on);
    using Answered = std::function<void(const Result<std::vector<HandAnswer>>&)>;
    /// Does this with the target in hand ("main: step over"), as long as a recording is made; `done` is told here what came
    /// of it, if the recording has not ended before.
    void ask(const QString& command, Answered done = {});
    void ask(HandCommand command, Answered done = {});
    void allow_writing(bool on);
    /// While held, the picture stands still; recording goes on.
    void hold(bool on);
    bool held() const { return held_; }
    /// True from `start` until the recording is on disk and closed.
    bool active() const { return live_ != nullptr; }
    bool recording() const { return live_ != nullptr && state_.recording; }
    /// Tries the connections on a worker; `tested` follows.
    void test(const Recipe& recipe);
    bool testing() const { return testing_; }

    const RunState& state() const { return state_; }
    const std::vector<HealthLine>& health() const { return health_; }
    const std::vector<LiveFigures>& figures() const { return figures_; }

  signals:
    void chosen();
    void began();                       ///< the first snapshot is there
    void renewed();                     ///< the state, four times a second and at each change of station
    void ended(const QString& folder);  ///< closed and on disk; empty: nothing was kept
    void failed(const mt::Problem& problem);
    void tested(const std::vector<mt::ConnectionReport>& reports);

  private:
    void renew();
    void take();

    Document& document_;
    std::optional<Recipe> recipe_;
    std::unique_ptr<LiveRecording> live_;
    QTimer timer_;
    RunState state_;
    std::vector<HealthLine> health_;
    std::vector<LiveFigures> figures_;
    bool held_ = false, began_ = false, testing_ = false;
    std::thread tester_;
    std::shared_ptr<Progress> test_progress_;
    std::mutex lock_;  ///< guards what the decoding thread hands over
    std::shared_ptr<const Recording> next_recording_;
    std::shared_ptr<const Trail> next_trail_;
    std::vector<HealthLine> next_health_;
    std::chrono::steady_clock::time_point looked_{};  ///< of the decoding thread alone
    bool posted_ = false;
};

}  // namespace mt::app
