#include <algorithm>
#include <optional>

#include "base/text.h"
#include "doubt/encoder_changes.h"
#include "doubt/step_fit.h"
#include "flow/step_pipe.h"
#include "identify/looks.h"

namespace mt {
namespace {

constexpr std::size_t kProbe = 24 * 1024, kLong = 256 * 1024;
constexpr int kMostRounds = 6;
constexpr double kGood = 0.97;
constexpr std::uint64_t kMostStepsEach = 256;  // instructions to a byte: more are seldom what was executed

// A stream that was cut begins in the midst of packets, but not for longer than from one synchronisation to the next.
std::uint64_t unread_lead_in(const StepFit& f) {
    const std::uint64_t between = 2 * (f.bytes - f.lead_in) / (f.syncs + 1) + 1024;
    return f.lead_in > between ? f.lead_in - between : 0;
}

// One number for how well trace and program go together, 0 to 1.
double quality(const StepFit& f, Protocol protocol) {
    if (f.steps == 0 || f.bytes == 0) return 0;
    if (f.endless) return 0.01;
    const double bytes = static_cast<double>(f.bytes);
    const double good = std::max(0.0, 1 - 8 * static_cast<double>(f.bad_bytes + unread_lead_in(f)) / bytes);
    // Everything is a synchronisation where each packet tells both ends of a branch.
    const double checks = static_cast<double>(protocol == Protocol::mtb ? f.bytes / 8 : f.syncs + f.steps / 2000);
    return good * checks / (checks + 6 * static_cast<double>(f.contradictions) + 0.5);
}

struct Fitted {
    StreamSpec spec;
    StepFit fit;
    double q = 0;
};

Fitted fitted(const StreamSpec& spec, const LookedWith& with, std::span<const std::uint8_t> raw) {
    Fitted f{spec, step_fit(spec, with.code, raw, raw.size() * kMostStepsEach), 0};
    f.q = quality(f.fit, spec.protocol);
    return f;
}

// From the usual parameters, the one change that makes most better, again and again.
Fitted climbed(Fitted best, const LookedWith& with, std::span<const std::uint8_t> probe, const Progress& progress) {
    for (int round = 0; round < kMostRounds && best.q < kGood && !progress.cancelled(); ++round) {
        Fitted better = best;
        each_encoder_change(best.spec,
                            [&](const StreamSpec& changed, const char*, const std::string&, const std::string&) {
                                if (progress.cancelled()) return;
                                Fitted now = fitted(changed, with, probe);
                                // What makes no difference stays as it is usual.
                                if (now.q > better.q + 0.004) better = std::move(now);
                            });
        if (better.q <= best.q) break;
        best = std::move(better);
    }
    return best;
}

Fitted best_parameters(const StreamSpec& spec, const LookedWith& with, std::span<const std::uint8_t> raw,
                       const Progress& progress) {
    const auto probe = raw.subspan(0, std::min(raw.size(), kProbe));
    Fitted best = climbed(fitted(spec, with, probe), with, probe, progress);
    // These three shape the same packets (format 0): one alone makes nothing better.
    if (spec.protocol == Protocol::etrace && best.q < kGood) {
        const StreamSpec usual = spec;
        for (const unsigned cache : {0u, 4u, 5u, 6u, 7u, 8u})
            for (const unsigned predictor : {0u, 4u, 5u, 6u, 7u, 8u, 9u})
                for (const unsigned width : {0u, 1u, 2u}) {
                    if (progress.cancelled() || best.q >= kGood) break;
                    StreamSpec changed = usual;
                    changed.etrace.cache_size = cache;
                    changed.etrace.bpred_size = predictor;
                    changed.etrace.f0s_width = width;
                    if (Fitted now = fitted(changed, with, probe); now.q > best.q + 0.004) best = std::move(now);
                }
        best = climbed(std::move(best), with, probe, progress);
    }
    // The same of what shapes synchronisations and atoms of PFT and ETMv3.
    if ((spec.protocol == Protocol::pft || spec.protocol == Protocol::etm3) && best.q < kGood) {
        const StreamSpec usual = spec;
        for (const unsigned context : {0u, 1u, 2u, 4u})
            for (const unsigned on : {0u, 1u, 2u, 3u}) {
                if (progress.cancelled() || best.q >= kGood) break;
                StreamSpec changed = usual;
                changed.pft.context_id_bytes = changed.etm3.context_id_bytes = context;
                changed.pft.cycle_accurate = changed.etm3.cycle_accurate = (on & 1) != 0;
                changed.pft.return_stack = (on & 2) != 0;
                changed.etm3.alternative_branch = (on & 2) == 0;
                if (Fitted now = fitted(changed, with, probe); now.q > best.q + 0.004) best = std::move(now);
            }
        best = climbed(std::move(best), with, probe, progress);
    }
    const StreamSpec spec_found = best.spec;
    best = fitted(spec_found, with, raw.subspan(0, std::min(raw.size(), kLong)));
    // Behind it there may be something else.
    if (raw.size() > 2 * kLong) {
        const Fitted end = fitted(spec_found, with, raw.subspan((raw.size() - kLong) / 16 * 16));
        if (end.q < best.q) best = end;
    }
    return best;
}

// Without the program: whether the bytes are packets, and of the sorts that such streams have.
double as_packets(const StreamSpec& spec, std::span<const std::uint8_t> raw, std::string& why) {
    const auto part = raw.subspan(0, std::min(raw.size(), 2 * kProbe));
    StepPipe pipe(spec, Code::of(std::span<const Image::Piece>(), "rv32ima"), {},
                  spec.framing == Framing::tpiu && !tpiu_has_full_sync(raw));
    NoSteps none;
    pipe.feed(part, none);
    const auto counts = pipe.counts();
    std::uint64_t packets = 0, syncs = 0, damaged = 0;
    for (const auto& [kind, n] : counts) {
        packets += n;
        if (kind.find("sync") != std::string::npos || kind == "trace_info" || kind == "support") syncs += n;
        if (kind == "damage") damaged = n;
    }
    const double bytes = static_cast<double>(std::max<std::uint64_t>(1, pipe.unframed_bytes()));
    const double good = std::max(0.0, 1 - static_cast<double>(pipe.bad_bytes() + pipe.lead_in()) / bytes);
    why = plural(packets - damaged, "packet", "packets") + ", " + plural(syncs, "synchronisation", "synchronisations") +
          ", " +
          (pipe.bad_bytes() == 0 ? std::string("no bad bytes") : plural(pipe.bad_bytes(), "bad byte", "bad bytes"));
    if (syncs == 0 || packets - damaged < 8) return 0;
    const double often = std::min(1.0, static_cast<double>(syncs) * 8192 / bytes);
    const bool older = spec.protocol == Protocol::pft || spec.protocol == Protocol::etm3;
    return good * good * (spec.protocol == Protocol::etm4 ? 0.85 : older ? 0.75 : 0.55) * (0.4 + 0.6 * often);
}

// What only the program tells: a micro trace buffer's bytes are addresses of halfwords in pairs.
double as_pairs(std::span<const std::uint8_t> raw, std::string& why) {
    const std::size_t n = std::min<std::size_t>(raw.size() / 8, 8192);
    if (n < 16) return 0;
    const auto word = [&](std::size_t i) {
        return static_cast<std::uint32_t>(raw[4 * i] | raw[4 * i + 1] << 8 | raw[4 * i + 2] << 16) |
               std::uint32_t{raw[4 * i + 3]} << 24;
    };
    std::size_t near = 0;
    for (std::size_t i = 0; i + 1 < n; ++i) {
        // The next branch stands at or behind where the last one led.
        const std::uint32_t to = word(2 * i + 1) & ~1u, next = word(2 * i + 2) & ~1u;
        near += next >= to && next - to < 0x400 ? 1 : 0;
    }
    why = count_text(near) + " of " + count_text(n - 1) + " branches begin behind where the one before led";
    const double share = static_cast<double>(near) / static_cast<double>(n - 1);
    return share > 0.8 ? share * 0.85 : 0;
}

}  // namespace

std::vector<Guess> look_steps(const StreamSpec& spec, std::span<const std::uint8_t> raw, const LookedWith& with,
                              const Progress& progress) {
    std::vector<Guess> all;
    const bool riscv = is_riscv(isa_of(with.isa).value_or(Isa::thumb));
    for (const Protocol protocol : {Protocol::etm4, Protocol::pft, Protocol::etm3, Protocol::etrace, Protocol::ntrace, Protocol::mtb}) {
        const bool for_riscv = protocol == Protocol::etrace || protocol == Protocol::ntrace;
        if (!with.isa.empty() && for_riscv != riscv) continue;
        // Program flow trace is of A profile; A64 has no trace of those versions.
        const auto isa = isa_of(with.isa);
        if (isa && protocol == Protocol::pft && *isa != Isa::arm) continue;
        if (isa && protocol == Protocol::etm3 && *isa == Isa::a64) continue;
        if (protocol == Protocol::mtb && spec.framing == Framing::tpiu) continue;
        Guess g;
        g.stream = spec;
        g.stream.protocol = protocol;
        g.isa = with.isa;
        if (with.code != nullptr && with.code->riscv() && with.code->xlen() == 64) g.stream.etrace.iaddress_width = 64;
        if (with.code != nullptr) {
            const Fitted best = best_parameters(g.stream, with, raw, progress);
            if (progress.cancelled()) return all;
            g.stream = best.spec;
            g.fit = best.q;
            g.why = count_text(best.fit.steps) + " instructions follow the image, " +
                    plural(best.fit.contradictions, "contradiction", "contradictions") + ", " +
                    (best.fit.bad_bytes == 0 ? std::string("no bad bytes")
                                             : plural(best.fit.bad_bytes, "bad byte", "bad bytes"));
            if (const auto unread = unread_lead_in(best.fit); unread > 0)
                g.why += ", but the first " + bytes_text(best.fit.lead_in) + " hold nothing of its";
        } else {
            std::string why;
            if (protocol == Protocol::mtb) {
                g.fit = as_pairs(raw, why);
            } else {
                g.fit = as_packets(g.stream, raw, why);
                // What shapes synchronisations and atoms of PFT and ETMv3 goes together.
                const bool older = protocol == Protocol::pft || protocol == Protocol::etm3;
                for (unsigned i = 1; older && i < 8 && !progress.cancelled(); ++i) {
                    constexpr unsigned bytes[] = {0, 1, 2, 4};
                    StreamSpec changed = spec;
                    changed.protocol = protocol;
                    changed.pft.context_id_bytes = changed.etm3.context_id_bytes = bytes[i / 2];
                    changed.pft.cycle_accurate = changed.etm3.cycle_accurate = i % 2 != 0;
                    std::string now_why;
                    const double now = as_packets(changed, raw, now_why);
                    if (now <= g.fit + 0.02) continue;
                    g.fit = now;
                    g.stream = changed;
                    why = std::move(now_why);
                }
                for (int round = 0; round < 2 && !progress.cancelled(); ++round) {
                    const StreamSpec from = g.stream;
                    each_encoder_change(
                        from, [&](const StreamSpec& changed, const char*, const std::string&, const std::string&) {
                            std::string now_why;
                            const double now = as_packets(changed, raw, now_why);
                            if (now <= g.fit + 0.02) return;
                            g.fit = now;
                            g.stream = changed;
                            why = std::move(now_why);
                        });
                }
            }
            g.why = why;
            if (with.image == nullptr)
                g.questions.push_back("Which image ran? Instruction trace cannot be followed without the program.");
        }
        if (g.fit > 0.02) {
            if (protocol != Protocol::mtb)
                g.questions.push_back("How fast do the trace's timestamps count, if it has any (in Hz)?");
            all.push_back(std::move(g));
        }
    }
    return all;
}

}  // namespace mt
