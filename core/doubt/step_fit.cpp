#include "doubt/step_fit.h"

#include "base/text.h"
#include "doubt/encoder_changes.h"

namespace mt {
namespace {

// What a flow tells, added up.
struct Tally {
    struct Enough {};
    std::uint64_t steps = 0, syncs = 0, contradictions = 0, most_steps;
    void run(const StepRun& r) {
        steps += r.count;
        if (steps > most_steps) throw Enough();
    }
    void trap(const StepTrap&) {}
    void trap_return() {}
    void gap(const StepGap& g) {
        contradictions += g.kind == StepGapKind::contradiction || g.kind == StepGapKind::not_in_image ? 1u : 0u;
    }
    void time(const StepTime&) {}
    void sync(std::uint64_t) { ++syncs; }
};

// What is wrong, in one number: a byte that is no packet is a little trouble, since damage is counted in stretches.
std::uint64_t trouble(const StepFit& f) { return f.contradictions * 16 + f.bad_bytes; }

std::string told(const StepFit& f) {
    return count_text(f.steps) + " instructions with " +
           (f.good() ? std::string("nothing that contradicts them")
                     : plural(f.contradictions, "contradiction", "contradictions") + " and " +
                           plural(f.bad_bytes, "bad byte", "bad bytes"));
}

}  // namespace

StepFit step_fit(const StreamSpec& spec, std::shared_ptr<const Code> code, std::span<const std::uint8_t> raw,
                 std::uint64_t most_steps) {
    Tally tally;
    tally.most_steps = most_steps;
    StepFit fit;
    StepPipe pipe(spec, std::move(code), {}, spec.framing == Framing::tpiu && !tpiu_has_full_sync(raw));
    try {
        pipe.feed(raw, tally);
    } catch (const Tally::Enough&) {
        fit.endless = true;
    }
    fit.bytes = raw.size();
    fit.bad_bytes = pipe.bad_bytes();
    fit.lead_in = pipe.lead_in();
    fit.steps = tally.steps;
    fit.syncs = tally.syncs;
    fit.contradictions = tally.contradictions;
    return fit;
}

bool is_noise(const StreamSpec& spec, const std::shared_ptr<const Code>& code, std::span<const std::uint8_t> raw,
              std::uint64_t from) {
    constexpr std::size_t kPlaces = 32, kLength = 64 * 1024;
    if (from + kPlaces * kLength > raw.size()) return false;
    for (std::size_t i = 0; i < kPlaces; ++i) {
        const std::uint64_t at = from + (raw.size() - from - kLength) / kPlaces * i;
        const StepFit fit = step_fit(spec, code, raw.subspan(at / 16 * 16, kLength));
        if (fit.syncs > 0 && fit.contradictions * 2 < fit.syncs) return false;
        if (fit.steps * 1000 > fit.bytes) return false;
    }
    return true;
}

std::string SuspectParameter::text() const {
    return "Is " + name + " " + fits + " rather than " + stated + "? Read so, the first " + bytes_text(after.bytes) +
           " give " + told(after) + "; as the target file says, " + told(before) + ".";
}

std::optional<SuspectParameter> suspect_parameter(const StreamSpec& spec, const std::shared_ptr<const Code>& code,
                                                  std::span<const std::uint8_t> raw) {
    const StepFit before = step_fit(spec, code, raw);
    if (before.good()) return std::nullopt;
    // Where much of it fits, only what makes all of it fit is no accident, and the framing is right.
    const bool strict = !before.hopeless();
    std::optional<SuspectParameter> best;
    (strict ? each_encoder_change : each_change)(
        spec, [&](const StreamSpec& changed, const char* name, const std::string& stated, const std::string& fits) {
            const StepFit after = step_fit(changed, code, raw);
            // Much less is wrong, and no less was followed: no accident.
            if (strict && !after.good()) return;
            if (after.hopeless() || after.steps < before.steps || trouble(after) * 8 > trouble(before)) return;
            if (best && (trouble(best->after) < trouble(after) ||
                         (trouble(best->after) == trouble(after) && best->after.steps >= after.steps)))
                return;
            best = SuspectParameter{name, stated, fits, before, after};
        });
    return best;
}

}  // namespace mt
