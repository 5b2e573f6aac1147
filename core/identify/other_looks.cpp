#include "base/text.h"
#include "identify/looks.h"

namespace mt {
namespace {

// CTF 2 specification, 6.1: the magic number that packets of a data stream begin with.
bool is_ctf(std::span<const std::uint8_t> bytes) {
    if (bytes.size() < 8) return false;
    const bool little = bytes[0] == 0xC1 && bytes[1] == 0x1F && bytes[2] == 0xFC && bytes[3] == 0xC1;
    const bool big = bytes[0] == 0xC1 && bytes[1] == 0xFC && bytes[2] == 0x1F && bytes[3] == 0xC1;
    return little || big;
}

// Program trace of ETMv3 (IHI 0014, 7.4) and PFT (IHI 0035, 4): five zeros or more and 0x80, and behind that an
// instruction synchronisation, 0x08 and an address.
struct OlderTrace {
    std::uint64_t alignments = 0, instruction_syncs = 0;
};
OlderTrace older_trace(std::span<const std::uint8_t> bytes) {
    OlderTrace t;
    std::size_t zeros = 0;
    for (std::size_t i = 0; i < bytes.size(); ++i) {
        if (bytes[i] == 0) {
            ++zeros;
            continue;
        }
        if (bytes[i] == 0x80 && zeros >= 5 && zeros < 11) {
            ++t.alignments;
            for (std::size_t k = i + 1; k < bytes.size() && k < i + 12; ++k)
                if (bytes[k] == 0x08) {
                    ++t.instruction_syncs;
                    break;
                }
        }
        zeros = 0;
    }
    return t;
}

}  // namespace

std::vector<Guess> look_others(const StreamSpec& spec, std::span<const std::uint8_t> bytes, const LookedWith& with) {
    std::vector<Guess> all;
    Guess g;
    g.stream = spec;
    g.isa = with.isa;
    if (is_ctf(bytes) && spec.framing == Framing::none) {
        g.stream.protocol = Protocol::ctf;
        g.fit = 0.95;
        g.why = "it begins with the magic number of packets";
        g.questions = {
            "Where is the metadata that says how events are laid out? A file named like this one with "
            ".metadata behind it, or named metadata beside it, is found by itself."};
        all.push_back(g);
    }
    if (const OlderTrace t = older_trace(bytes);
        t.instruction_syncs >= 2 && !is_riscv(isa_of(with.isa).value_or(Isa::thumb))) {
        const bool m_profile = isa_of(with.isa) == Isa::thumb;
        g.known_as = m_profile ? "ETMv3" : "ETMv3 or PFT";
        g.fit = 0.9 * static_cast<double>(t.instruction_syncs) / static_cast<double>(t.alignments);
        g.why = plural(t.alignments, "alignment", "alignments") + ", " + count_text(t.instruction_syncs) +
                " of them with an instruction synchronisation behind; this version does not read it";
        g.questions.clear();
        all.push_back(g);
    }
    return all;
}

}  // namespace mt
