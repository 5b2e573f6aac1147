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
    return all;
}

}  // namespace mt
