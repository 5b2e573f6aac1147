// What stimulus ports and data trace tell of the program: the running task, values and marks, as the target file
// describes them.
#pragma once

#include <array>
#include <map>
#include <string>

#include "flow/local_time.h"
#include "pass/growing_tasks.h"
#include "recording/recording.h"
#include "target/value_type.h"

namespace mt {

/// One ITM stream. One thread at a time; the recording and the tasks must outlive it.
class ItmTasks {
  public:
    /// True if the target file describes anything of this stream that becomes a task, a value or a mark.
    static bool wanted(const Recording& recording, std::size_t core);
    ItmTasks(const Recording& recording, GrowingTasks& tasks, std::size_t core);

    void write_port(unsigned port, std::uint64_t value, Time earliest, Time latest);
    /// A comparator tells the address of an instruction: that of the access whose value it tells next.
    void instruction(unsigned comparator, std::uint64_t address);
    void watched(unsigned comparator, std::uint64_t value, ValueAccess access, Time earliest, Time latest);
    void enter(unsigned number, Time t) {
        if (!runs_) return;
        ++open_;
        tasks_.enter_interrupt(core_, number, t);
    }
    void exit(Time t) {
        if (!runs_ || open_ == 0) return;
        --open_;
        tasks_.leave_interrupt(core_, t);
    }
    /// A handler that interrupted thread mode and returns to it.
    void visit(unsigned number, Time entry, Time left, Time back) {
        if (runs_ && open_ == 0) {
            tasks_.pass_interrupt(core_, entry, left);
            return;
        }
        enter(number, entry);
        exit(left);
        back_in_thread(back);
    }
    void back_in_thread(Time t) {
        for (; runs_ && open_ > 0; --open_) tasks_.leave_interrupt(core_, t);
    }
    /// Packets are missing.
    void lose(Time earliest, Time latest);

  private:
    struct Meaning {
        enum class Kind : std::uint8_t { none, running_task, value, mark } kind = Kind::none;
        std::uint32_t id = 0;
        std::string name;
        ValueType type;
        const std::map<std::uint64_t, std::string>* names = nullptr;
    };
    void told(const Meaning& meaning, std::uint64_t raw, ValueOrigin origin, Time earliest, Time t);
    void switched(const Meaning& meaning, std::uint64_t value, Time earliest, Time t);
    std::string task_name(const Meaning& meaning, std::uint64_t value) const;

    const Recording& recording_;
    GrowingTasks& tasks_;
    std::size_t core_;
    bool runs_ = false;  ///< the running task is told
    std::array<Meaning, 16> watches_{};
    std::array<Meaning, 256> ports_{};
    std::map<std::uint64_t, std::uint32_t> task_of_;
    unsigned open_ = 0;  ///< interrupts
    Time last_switch_;
    OsBlock block_;
    std::array<std::optional<std::uint64_t>, 16> instruction_{};  ///< of each comparator, until its value comes
};

}  // namespace mt
