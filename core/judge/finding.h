// What is unusual in a recording, and why: the findings.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <type_traits>
#include <utility>
#include <variant>
#include <vector>

#include "base/finding_kinds.h"
#include "base/progress.h"
#include "judge/thresholds.h"
#include "measure/interrupts.h"
#include "measure/lane_kind.h"
#include "model/trail.h"
#include "recording/recording.h"

namespace mt {

/// The part that somebody plays in a finding.
enum class Role : std::uint8_t {
    subject,   ///< what it is about
    masker,    ///< kept interrupts masked
    function,  ///< was sampled meanwhile
    task,      ///< it happened in this task
    runner,    ///< had the core meanwhile
    victim,    ///< suffers too
    holder,    ///< has what the subject waits for
    lock,
    queue,
    resource,
    sender,
    nested,  ///< a handler below it
    caller,  ///< a call around it
    also     ///< another that the same happened to
};
/// "runner"; stable: it stands in files.
std::string_view role_name(Role role);

struct Involved {
    Role role = Role::subject;
    std::string name;
    LaneId lane{};  ///< none: it has no lane, or it is not known which
};

/// So many times another.
struct Factor {
    double value = 1;
};
struct Bytes {
    std::uint64_t value = 0;
};
struct Address {
    std::uint64_t value = 0;
};
struct Hertz {
    double value = 0;
};

/// One thing that a finding rests on: a number with its unit, words, or that something is so.
struct Fact {
    using Value = std::variant<bool, std::uint64_t, Time, Share, Factor, Bytes, Address, Hertz, std::string>;
    std::string_view key;  ///< "late_by"; stable: it stands in files
    Value value;
    std::string of;  ///< whom it is about, where that is not the subject

    /// As people read it: "64.3 µs".
    std::string text() const;
    /// "ns"; empty for words and for what is just so. Counts have "1", as shares and factors.
    std::string_view unit() const;
};

struct Finding {
    struct Evidence {
        Time time;
        std::string what;
    };
    FindingKind kind = FindingKind::gap;
    double severity = 0;      ///< 0 to 1; ranks the list
    std::vector<Fact> facts;  ///< what sentences are made of (judge/sentences.h); of one key the first counts most
    std::string title;        ///< a few words: "STEP_TIMER entered 71.8 µs late"
    std::string cause;        ///< what is unusual, against what is normal, and what made it so
    Time begin, end;          ///< the stretch to look at
    bool timed = true;        ///< false: the trace tells no time there; begin and end count an instruction as a cycle
    std::vector<Involved> involved;  ///< the subject first, if there is one
    std::string core;
    std::vector<Evidence> evidence;
    std::size_t core_index = 0;
    LaneId lane{};                 ///< what it is about; none if it concerns no lane first of all
    std::optional<SpanRef> about;  ///< … and which execution, job or call of it
    std::uint64_t alike = 1;       ///< how many such places there are; this is the worst

    void set_about(const SpanRef& span) {
        lane = span.lane;
        about = span;
    }
    void involve(Role role, std::string name, LaneId of = {}) { involved.push_back({role, std::move(name), of}); }
    /// Whole numbers are counts.
    template <class V>
    void fact(std::string_view key, V value, std::string whom = {}) {
        if constexpr (std::is_integral_v<V> && !std::is_same_v<V, bool>)
            facts.push_back({key, static_cast<std::uint64_t>(value), std::move(whom)});
        else
            facts.push_back({key, std::move(value), std::move(whom)});
    }
    /// The first of a key; null if there is none.
    const Fact* known(std::string_view key) const;
    /// Its text; empty if there is none.
    std::string told(std::string_view key) const;
    /// The subject's name, or that of the first in another role; empty if there is none.
    std::string who(Role role = Role::subject) const;
    /// The first in a role; null if nobody is.
    const Involved* with(Role role) const;
    bool names(std::string_view name) const;
};

/// Whether a steady tick of the core bears out the stated clock.
enum class ClockCheck : std::uint8_t { unchecked, agrees, contradicts };
/// `newest`: only so many ticks before the end are looked at, for a recording that still grows.
ClockCheck clock_check(const Trail& trail, std::size_t core, std::size_t newest = ~std::size_t{0});

/// Looks at the whole recording and ranks what it found, worst first. Needs no configuration. Blocks:
/// call it on a worker; a cancelled look gives what it found so far.
std::vector<Finding> find_all(const Recording& recording, const Trail& trail, const Progress* progress = nullptr,
                              const Thresholds& thresholds = {});

}  // namespace mt
