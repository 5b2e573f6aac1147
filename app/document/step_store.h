// Executed instructions decoded again where somebody looks: on a worker, kept while recent.
#pragma once

#include <functional>
#include <list>
#include <map>
#include <memory>

#include <QObject>
#include <QString>

#include "document/job_queue.h"
#include "replay/backtrace.h"
#include "replay/step_window.h"

namespace mt::app {

/// One executed instruction as it is shown.
struct StepLine {
    Time time;
    std::uint32_t slot = 0;
    std::uint16_t depth = 0;  ///< of the stack, with what is inlined
    std::uint16_t calls = 0;  ///< of the stack, calls alone
    Time took;                ///< until the next instruction
    bool told = false;        ///< the trace tells `time`; else it is interpolated
    QString address, function, place, text;
    QString within;  ///< the function that holds this one, which is inlined; empty as a rule
    QString file;    ///< of the source line, as the image names it
    int line = 0;
    QString before;  ///< what happened before it: an exception, a gap; empty as a rule
};

/// `get` answers at once: the chunk, or nothing yet (then `arrived` follows). Only the window's thread may call its
/// members.
class StepStore : public QObject {
    Q_OBJECT
  public:
    static constexpr std::uint64_t kChunk = 1024;  ///< steps in a chunk
    using Chunk = std::vector<StepLine>;

    explicit StepStore(QObject* parent = nullptr);
    ~StepStore() override;

    /// From now on steps of this snapshot's stream; forgets others.
    void use(std::shared_ptr<const Recording> recording, std::shared_ptr<const Trail> trail, std::size_t stream);
    std::shared_ptr<const Chunk> get(std::uint64_t chunk);
    /// Finds the step that runs at `t`, then calls `done` on the window's thread. A later question replaces it.
    void find(Time t, std::function<void(std::uint64_t)> done);

    /// Looks for the next (1) or previous (-1) execution of one of these instructions, from `from`; `done` gets the
    /// step, or nothing. A later search cancels it.
    void search(std::vector<std::uint32_t> wanted, std::uint64_t from, int direction,
                std::function<void(std::optional<std::uint64_t>)> done);
    /// The same for the first execution behind `from` of a source line that had not run before.
    void search_new_line(std::uint64_t from, std::function<void(std::optional<std::uint64_t>)> done);
    /// The call stack at a step; `done` gets it on the window's thread. A later question replaces it.
    void stack(std::uint64_t step, std::function<void(std::vector<TraceFrame>)> done);
    void cancel_search();
    bool searching() const { return search_ != nullptr; }

  signals:
    void arrived();

  private:
    static constexpr std::size_t kMostChunks = 64;
    using Search = std::function<std::optional<std::uint64_t>(const Recording&, const StepTrail&, const Progress&)>;
    void fetch(std::uint64_t chunk);
    void search(Search how, std::function<void(std::optional<std::uint64_t>)> done);

    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const Trail> trail_;
    std::size_t stream_ = 0;
    std::map<std::uint64_t, std::shared_ptr<const Chunk>> chunks_;
    std::list<std::uint64_t> recent_;
    std::map<std::uint64_t, bool> asked_;
    quint64 turn_ = 0, question_ = 0, stack_question_ = 0;
    std::shared_ptr<Progress> search_;
    JobQueue searches_;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
