// A recipe being walked: connect, check, reset, run to, record, stop, save.
#pragma once

#include <atomic>
#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

#include "base/problem.h"
#include "base/progress.h"
#include "capture/core_states.h"
#include "capture/folder.h"
#include "capture/receiver.h"
#include "capture/recipe.h"
#include "control/debug_server.h"
#include "control/hand.h"
#include "control/units/plan.h"
#include "control/units/program.h"
#include "target/image.h"
#include "target/target_file.h"

namespace mt {

/// One stop on the way of a recipe.
struct Station {
    enum class Status : std::uint8_t { ahead, now, done, failed, passed_over };
    std::string name;
    Status status = Status::ahead;
    std::vector<std::string> lines;  ///< what was found, or what will be done
};

/// A snapshot of a run, for whoever watches it. Plain data.
struct RunState {
    enum Step : std::size_t { connect, check_image, reset, run_to, set_trace, record, stop, save, judge, kSteps };
    struct Core {
        std::string name;
        bool debug = false, running = false, lost = false;
        std::uint64_t pc = 0;  ///< where it stands, if it was asked
        std::string place;     ///< "board_init, main.c:41"
        double started_after_s = 0;
        std::string reason;        ///< why it stands, where that is known
        std::uint64_t stands = 0;  ///< how often it came to stand, each step counted
    };
    struct Stream {
        std::size_t stream = 0;  ///< index into the target file's streams
        std::string core, source;
        ReceiverState received;
        bool may_be_silent = false;  ///< a console, which need not print anything
    };
    std::vector<Station> stations;
    std::vector<Core> cores;
    std::vector<Stream> streams;
    bool recording = false, finished = false, discarded = false;
    double elapsed_s = 0;
    std::optional<double> planned_s;
    std::optional<std::uint64_t> planned_bytes;
    std::uint64_t bytes = 0, disk_free = 0;
    std::string folder, stop_reason;
    std::optional<Problem> problem;
    unsigned brief_halts = 0;
    double brief_halt_s = 0;
    std::vector<TracePlan> plans;       ///< what was set up for the trace, a core each
    std::vector<std::string> warnings;  ///< about that; a sentence each
    /// The target in hand while it is recorded.
    struct InHand {
        std::vector<HandPoint> points;
        std::vector<std::string> written, said, together;
        std::size_t undoable = 0;
        bool may_write = false;
        unsigned brief_halts = 0;  ///< only to look at a condition
        double brief_halt_s = 0;
    } hand;
};

/// `run` is called once, on a thread of its own; everything else by any thread.
class RecordRun {
  public:
    struct RecordedStream {
        std::size_t spec = 0;  ///< index into the target file's streams
        std::string path;
    };
    /// `images` as in the target file's order of cores; may hold null.
    /// `replace`: a recording that is at `folder` gives way once this one holds something; until then it stands beside.
    RecordRun(Recipe recipe, TargetFile target, std::vector<std::shared_ptr<const Image>> images, std::string folder,
              bool replace = false);
    ~RecordRun();

    /// Called once the folder stands and before the first byte is recorded, on the run's thread.
    std::function<void()> on_begin;

    /// Walks the recipe. A Problem means that there is no recording; what went wrong later is in the state
    /// and in the recording itself.
    Result<void> run();
    /// Ends the run: the recording is kept, or thrown away.
    void stop(const std::string& reason, bool keep = true);
    /// A person marks this moment.
    void note(const std::string& text);
    using HandDone = std::function<void(const Result<std::vector<HandAnswer>>&)>;
    /// Does this with the target in hand; one after the other, as long as the recording goes on. `done` is told what came
    /// of it on the run's thread, and not at all if the recording ends before.
    void ask(HandCommand command, HandDone done = {});
    /// Whether commands may change what the target holds; they may not at first.
    void allow_writing(bool on) { may_write_ = on; }
    void halt(const std::string& core) { request(core, HandCommand::Kind::halt); }
    void resume(const std::string& core) { request(core, HandCommand::Kind::go); }

    RunState state() const;
    /// A debugger changed something of the target since the recording began, or may have.
    bool touched() const { return touched_; }
    /// Where a core of the target file stood, and how it stands now; null: not known.
    struct Stand {
        std::shared_ptr<const StoodPlaces> stood;
        std::shared_ptr<const CoreState> stands;
        bool operator==(const Stand&) const = default;
    };
    Stand stand(std::size_t core) const;
    const std::vector<RecordedStream>& streams() const { return recorded_; }
    const std::string& folder() const { return folder_; }
    const Recipe& recipe() const { return recipe_; }
    const TargetFile& target() const { return target_; }
    const std::vector<std::shared_ptr<const Image>>& images() const { return images_; }

  private:
    struct End;  ///< one [[connect]]
    void request(const std::string& core, HandCommand::Kind kind);
    void begin_step(std::size_t step);
    void end_step(std::size_t step, Station::Status status, std::vector<std::string> lines);
    Result<void> walk();
    Result<void> connect_all();
    Result<void> connect_debug(End& end);
    Result<void> check_images();
    Result<void> reset_all();
    Result<void> run_to_place();
    Result<void> run_core_to(End& end, const std::string& where, std::uint64_t times, RunState::Step step);
    Result<void> run_core_to_access(End& end, const TraceWish::Trigger& trigger);
    Result<void> find_streams();
    Result<void> wake_units(End& end);
    Result<void> plan_traces();
    Result<void> set_traces();
    void put_back_traces();
    void finish_buffers();
    void reach_units();
    void warn(const std::string& text);
    bool reads_only() const;
    Result<void> start_all();
    void record();
    void watch_cores();
    void core_stopped(End& end, const DebugStop& stop);
    void take_in_hand();
    void serve_requests();
    void serve(const HandCommand& command, const HandDone& done);
    void take_answers(const std::vector<HandAnswer>& answers);
    void stop_all();
    void put_back();
    void look_after_folder();
    Result<std::unique_ptr<Source>> make_source(End& end);
    Result<void> plan_polling();
    Result<void> plan_consoles();
    Result<std::vector<HandAnswer>> type(const HandCommand& command);
    Result<std::unique_ptr<Source>> make_poll_source(End& end, End& with);
    Result<std::unique_ptr<Source>> make_console_source(End& end);
    Result<std::unique_ptr<Source>> make_buffer_source(End& end, End& with);
    Result<End*> end_of(const std::string& core);
    void renew_core(const End& end, bool ask_pc);
    /// How the cores stand whose instructions are recorded, if a debug server can tell: "began" or "stopped".
    void keep_states(const std::string& when);
    bool tells_core(const End& end, bool from_begin) const;
    StateReader state_reader(const End& end, bool tell);
    Result<CoreState> state_of(End& end, bool begins);
    bool others_changed(const End& end) const;
    void look_at_stands();
    /// What all servers may have changed of the target so far; a server that went counts as a change.
    std::uint64_t changes() const;
    std::string place_text(const End& end, std::uint64_t pc) const;
    bool stopping() const { return stop_asked_; }

    Recipe recipe_;
    std::deque<Recipe::Connect> polling_;  ///< for [[sample]], a core each
    TargetFile target_;       ///< with what the trace was set to
    const TargetFile given_;  ///< as it was read
    std::uint64_t changes_at_begin_ = 0, lost_servers_ = 0;
    std::atomic<bool> touched_{false};
    std::vector<std::shared_ptr<const Image>> images_;
    std::string folder_, replaced_;  ///< replaced_: where the recording that was here stands meanwhile
    bool replace_ = false, folder_gone_ = false;
    std::optional<FolderLock> lock_of_folder_;
    std::chrono::steady_clock::time_point looked_{};
    std::vector<std::unique_ptr<End>> ends_;
    std::vector<RecordedStream> recorded_;
    std::chrono::steady_clock::time_point started_{};
    std::uint64_t reached_ = 0;
    std::vector<std::string> read_;      ///< what was polled, and how often; a sentence each
    std::vector<std::string> read_out_;  ///< what came out of the chip's buffers; a sentence each
    Progress progress_;
    std::atomic<bool> stop_asked_{false}, keep_{true};
    mutable std::mutex lock_;
    std::deque<std::pair<HandCommand, HandDone>> requests_;
    std::atomic<std::size_t> waiting_{0};  ///< of requests_ those that let a core run, or stop one
    std::atomic<bool> may_write_{false};
    std::unique_ptr<Hand> hand_;  ///< while it is recorded
    RunState state_;
    std::map<std::size_t, Stand> stands_;  ///< by core
};

}  // namespace mt
