#include "doubt/step_fit.h"

#include <functional>
#include <vector>

#include "base/text.h"

namespace mt {
namespace {

// What a flow tells, added up.
struct Tally {
    std::uint64_t steps = 0, syncs = 0, contradictions = 0;
    void run(const StepRun& r) { steps += r.count; }
    void trap(const StepTrap&) {}
    void trap_return() {}
    void gap(const StepGap& g) {
        contradictions += g.kind == StepGapKind::contradiction || g.kind == StepGapKind::not_in_image ? 1u : 0u;
    }
    void time(const StepTime&) {}
    void sync(std::uint64_t) { ++syncs; }
};

// One parameter, and what else it might be.
struct Knob {
    const char* name;
    std::function<unsigned&(StreamSpec&)> at;
    std::vector<unsigned> values;
};
struct Switch {
    const char* name;
    std::function<bool&(StreamSpec&)> at;
    const char *on = "true", *off = "false";
};

std::vector<Knob> knobs_of(Protocol protocol) {
    switch (protocol) {
        case Protocol::etrace:
            return {
                {"iaddress_width",
                 [](StreamSpec& s) -> unsigned& { return s.etrace.iaddress_width; },
                 {32, 39, 48, 64}},
                {"iaddress_lsb", [](StreamSpec& s) -> unsigned& { return s.etrace.iaddress_lsb; }, {1, 2}},
                {"privilege_width", [](StreamSpec& s) -> unsigned& { return s.etrace.privilege_width; }, {1, 2, 3}},
                {"ecause_width", [](StreamSpec& s) -> unsigned& { return s.etrace.ecause_width; }, {3, 4, 5, 6, 7, 8}},
                {"time_width", [](StreamSpec& s) -> unsigned& { return s.etrace.time_width; }, {0, 32, 40, 48, 56, 64}},
                {"context_width", [](StreamSpec& s) -> unsigned& { return s.etrace.context_width; }, {0, 1, 8, 16, 32}},
                {"return_stack_size",
                 [](StreamSpec& s) -> unsigned& { return s.etrace.return_stack_size; },
                 {0, 1, 2, 3, 4, 5, 6, 7, 8}},
                {"call_counter_size",
                 [](StreamSpec& s) -> unsigned& { return s.etrace.call_counter_size; },
                 {0, 1, 2, 3, 4, 5, 6, 7, 8}},
                {"encoder_mode_width", [](StreamSpec& s) -> unsigned& { return s.etrace.encoder_mode_width; }, {1, 2}},
                {"cache_size", [](StreamSpec& s) -> unsigned& { return s.etrace.cache_size; }, {0, 4, 5, 6, 7, 8}},
                {"bpred_size", [](StreamSpec& s) -> unsigned& { return s.etrace.bpred_size; }, {0, 4, 5, 6, 7, 8, 9}},
                {"f0s_width", [](StreamSpec& s) -> unsigned& { return s.etrace.f0s_width; }, {0, 1, 2}},
                {"src_id_bits",
                 [](StreamSpec& s) -> unsigned& { return s.etrace.src_id_bits; },
                 {0, 1, 2, 3, 4, 5, 6, 7, 8}},
            };
        case Protocol::ntrace:
            return {{"src_bits",
                     [](StreamSpec& s) -> unsigned& { return s.ntrace.src_bits; },
                     {0, 1, 2, 3, 4, 5, 6, 7, 8, 10, 12}}};
        case Protocol::etm4:
            return {
                {"context_id_bytes", [](StreamSpec& s) -> unsigned& { return s.etm4.context_id_bytes; }, {0, 4}},
                {"trcidr2, bytes of VMIDSIZE,",
                 [](StreamSpec& s) -> unsigned& { return s.etm4.virtual_id_bytes; },
                 {0, 1, 2, 4}},
                {"trcidr8", [](StreamSpec& s) -> unsigned& { return s.etm4.max_speculation; }, {0, 1, 4, 8, 16}},
            };
        default:
            return {};
    }
}

std::vector<Switch> switches_of(Protocol protocol) {
    switch (protocol) {
        case Protocol::etrace:
            return {{"full_address", [](StreamSpec& s) -> bool& { return s.etrace.full_address; }},
                    {"implicit_return", [](StreamSpec& s) -> bool& { return s.etrace.implicit_return; }}};
        case Protocol::ntrace:
            return {{"timestamps", [](StreamSpec& s) -> bool& { return s.ntrace.timestamps; }},
                    {"implicit_return", [](StreamSpec& s) -> bool& { return s.ntrace.implicit_return; }}};
        case Protocol::etm4:
            return {{"return_stack", [](StreamSpec& s) -> bool& { return s.etm4.return_stack; }},
                    {"cycle_count", [](StreamSpec& s) -> bool& { return s.etm4.cycle_count; }},
                    {"commopt", [](StreamSpec& s) -> bool& { return s.etm4.commit_in_cycles; }, "0", "1"}};
        default:
            return {};
    }
}

using Change =
    std::function<void(const StreamSpec&, const char* name, const std::string& stated, const std::string& fits)>;

// The same with one thing stated otherwise, for all such things.
void each_change(const StreamSpec& spec, const Change& change) {
    for (const Knob& knob : knobs_of(spec.protocol)) {
        StreamSpec changed = spec;
        const unsigned stated = knob.at(changed);
        for (const unsigned value : knob.values) {
            if (value == stated) continue;
            knob.at(changed) = value;
            change(changed, knob.name, std::to_string(stated), std::to_string(value));
        }
    }
    for (const Switch& s : switches_of(spec.protocol)) {
        StreamSpec changed = spec;
        const bool stated = s.at(changed);
        s.at(changed) = !stated;
        change(changed, s.name, stated ? s.on : s.off, stated ? s.off : s.on);
    }
    StreamSpec changed = spec;
    if (spec.framing == Framing::tpiu) {
        changed.framing = Framing::none;
        change(changed, "framing", "\"tpiu\"", "\"none\"");
    }
    changed.framing = Framing::tpiu;
    for (std::uint8_t id = 1; id < 0x70; ++id) {
        changed.trace_id = id;
        if (spec.framing == Framing::none)
            change(changed, "framing", "\"none\"", "\"tpiu\" with trace_id " + std::to_string(id));
        else if (id != spec.trace_id)
            change(changed, "trace_id", std::to_string(spec.trace_id), std::to_string(id));
    }
}

// What is wrong, in one number: a byte that is no packet is a little trouble, since damage is counted in stretches.
std::uint64_t trouble(const StepFit& f) { return f.contradictions * 16 + f.bad_bytes; }

std::string told(const StepFit& f) {
    return count_text(f.steps) + " instructions with " +
           (f.good() ? std::string("nothing that contradicts them")
                     : plural(f.contradictions, "contradiction", "contradictions") + " and " +
                           plural(f.bad_bytes, "bad byte", "bad bytes"));
}

}  // namespace

StepFit step_fit(const StreamSpec& spec, std::shared_ptr<const Code> code, std::span<const std::uint8_t> raw) {
    Tally tally;
    StepPipe pipe(spec, std::move(code), {}, spec.framing == Framing::tpiu && !tpiu_has_full_sync(raw));
    pipe.feed(raw, tally);
    StepFit fit;
    fit.bytes = raw.size();
    fit.bad_bytes = pipe.bad_bytes();
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
    if (!before.hopeless()) return std::nullopt;
    std::optional<SuspectParameter> best;
    each_change(spec,
                [&](const StreamSpec& changed, const char* name, const std::string& stated, const std::string& fits) {
                    const StepFit after = step_fit(changed, code, raw);
                    // Much less is wrong, and no less was followed: no accident.
                    if (after.hopeless() || after.steps < before.steps || trouble(after) * 8 > trouble(before)) return;
                    if (best && (trouble(best->after) < trouble(after) ||
                                 (trouble(best->after) == trouble(after) && best->after.steps >= after.steps)))
                        return;
                    best = SuspectParameter{name, stated, fits, before, after};
                });
    return best;
}

}  // namespace mt
