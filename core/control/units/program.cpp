#include "control/units/program.h"

#include <set>
#include <thread>

#include "base/text.h"

namespace mt {
namespace {

std::string register_text(const PlanStep& s) { return s.reg + " of the " + s.unit + " (" + hex_text(s.address) + ")"; }

}  // namespace

Result<void> TraceProgram::await(const PlanStep& s) {
    const auto until = std::chrono::steady_clock::now() + patience_;
    for (;;) {
        auto now = memory_.read(s.address);
        if (!now) return tl::make_unexpected(now.error());
        if ((*now & s.checked) == (s.value & s.checked)) return {};
        if (std::chrono::steady_clock::now() >= until) {
            const bool lock = s.reg == "LSR" || s.reg == "TRCOSLSR";
            return failure(lock ? "the lock of the " + s.unit + " stays shut"
                                : "the " + s.unit + " of core " + s.core + " does not get ready: " + s.reg + " reads " +
                                      hex_text(*now) + ", so not “" + s.why + "”",
                           hex_text(s.address), lock ? "does somebody else hold it?" : "has it power and a clock?");
        }
        std::this_thread::sleep_for(Milliseconds(1));
    }
}

Result<void> TraceProgram::do_writes(const TracePlan& plan) {
    for (const PlanStep& s : plan.steps) {
        if (s.waits) {
            if (auto ready = await(s); !ready) return ready;
            continue;
        }
        if (!s.put_back && found_.count(s.address) == 0) {
            auto before = memory_.read(s.address);
            if (!before)
                return failure(register_text(s) + " cannot be read: " + before.error().what, "core " + s.core,
                               before.error().advice);
            found_[s.address] = *before;
        }
        done_.push_back(s);
        if (auto ok = memory_.write(s.address, s.value); !ok)
            return failure(register_text(s) + " cannot be written: " + ok.error().what, "core " + s.core,
                           "may the debug server write there while the core runs?");
        ++written_;
        if (s.checked == 0) continue;
        last_[s.address] = s.value;
        auto after = memory_.read(s.address);
        if (!after) return tl::make_unexpected(after.error());
        if (((*after ^ s.value) & s.checked) != 0)
            return failure("a write to " + register_text(s) + " does not stick: it reads " + hex_text(*after) +
                               " after " + hex_text(s.value),
                           "core " + s.core,
                           "has the unit power, and is its access not locked or owned by the firmware?");
    }
    return {};
}

Result<void> TraceProgram::apply(const TracePlan& plan) {
    auto done = do_writes(plan);
    if (done) return {};
    const bool any = !done_.empty();
    Problem why = done.error();
    if (auto back = put_back(); !back)
        why.what += "; and not everything could be put back: " + back.error().what;
    else if (any)
        why.what += "; the target is as it was found";
    return tl::make_unexpected(why);
}

Result<void> TraceProgram::put_back() {
    using Phase = PlanStep::Phase;
    std::string trouble;
    std::size_t failed = 0;
    const auto write = [&](const PlanStep& s, std::uint32_t value) {
        if (auto ok = memory_.write(s.address, value); !ok) {
            if (trouble.empty()) trouble = register_text(s) + ": " + ok.error().what;
            ++failed;
        }
    };
    // Quiet first, sources before sinks as they were silenced; then the settings; then what switches on; locks last.
    std::set<std::uint64_t> quiet, set;
    for (const PlanStep& s : done_)
        if (s.phase == Phase::start || s.phase == Phase::quiet) {
            const bool control = quiet.insert(s.address).second;
            for (const PlanStep& q : done_)
                if (control && q.phase == Phase::quiet && q.address == s.address) {
                    write(q, q.value);
                    break;
                }
        }
    for (auto s = done_.rbegin(); s != done_.rend(); ++s)
        if (s->phase == Phase::set && quiet.count(s->address) == 0 && set.insert(s->address).second &&
            found_.count(s->address) != 0)
            write(*s, found_[s->address]);
    set.clear();
    for (const PlanStep& s : done_)  // sinks were started first
        if (quiet.count(s.address) != 0 && set.insert(s.address).second && found_.count(s.address) != 0)
            write(s, found_[s.address]);
    for (auto s = done_.rbegin(); s != done_.rend(); ++s)
        if (s->phase == Phase::open && set.insert(s->address).second) {
            if (s->put_back)
                write(*s, *s->put_back);
            else if (found_.count(s->address) != 0)
                write(*s, found_[s->address]);
        }
    done_.clear();
    found_.clear();
    last_.clear();
    if (failed == 0) return {};
    return failure(plural(failed, "register", "registers") + " could not be put back as found, the first " + trouble,
                   "", "the target may have vanished; reset it to be sure");
}

std::vector<std::string> TraceProgram::overwritten() {
    std::vector<std::string> all;
    std::set<std::uint64_t> seen;
    for (auto s = done_.rbegin(); s != done_.rend(); ++s) {
        if (s->checked == 0 || s->waits || !seen.insert(s->address).second) continue;
        const auto now = memory_.read(s->address);
        if (now && ((*now ^ last_[s->address]) & s->checked) != 0)
            all.push_back(register_text(*s) + " was set to " + hex_text(last_[s->address]) + " and reads " +
                          hex_text(*now) + " now: the firmware sets it too");
    }
    return all;
}

}  // namespace mt
