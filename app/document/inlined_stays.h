// Stays in functions that the compiler put into others, decoded where somebody looks closely enough.
#pragma once

#include <memory>
#include <vector>

#include <QObject>

#include "document/job_queue.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt::app {

/// One stay; what it is inlined in stays around it.
struct InlinedStay {
    Time begin, end;
    std::uint32_t inlined = 0;  ///< of the stream's table: the innermost
    std::uint16_t level = 0;    ///< of the call that holds it
};

/// `get` answers at once: the stays, or nothing yet (then `arrived` follows), or nothing because too many instructions
/// are in view. Only the window's thread may call its members.
class InlinedStays : public QObject {
    Q_OBJECT
  public:
    static constexpr std::uint64_t kMostSteps = 20'000;
    using Stays = std::vector<InlinedStay>;

    explicit InlinedStays(QObject* parent = nullptr);
    ~InlinedStays() override;

    /// Stays of a stream that touch [from, to); REQUIRES: the stream is one of `trail`.
    std::shared_ptr<const Stays> get(const std::shared_ptr<const Recording>& recording,
                                     const std::shared_ptr<const Trail>& trail, std::size_t stream, Time from, Time to);

  signals:
    void arrived();

  private:
    struct Window {
        const Trail* trail = nullptr;
        Time from, to;
        std::shared_ptr<const Stays> stays;  ///< null: asked for
    };
    std::vector<Window> windows_;  ///< per stream
    JobQueue jobs_;                ///< last: its end waits for jobs that use the rest
};

/// About how many instructions ran in [from, to).
std::uint64_t steps_between(const StepTrail& trail, Time from, Time to);

}  // namespace mt::app
