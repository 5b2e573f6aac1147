// Any bytes as a file that nobody knows: guesses between 0 and 1, or what it is instead; what is written for a guess
// can be read as a target file.
#include <cstdint>
#include <cstdlib>
#include <span>

#include "identify/identify.h"
#include "target/target_file.h"

namespace {
std::shared_ptr<const mt::Image> image(const char* name) {
    auto opened = mt::Image::open(std::string(MT_DATA) + "/steps/" + name);
    if (!opened) std::abort();
    return *opened;
}
}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
    static const std::shared_ptr<const mt::Image> images[] = {nullptr, image("mount-main.elf"), image("mount-cop.elf"),
                                                              image("paddle.elf")};
    if (size == 0) return 0;
    const mt::Progress progress;
    const mt::Identified found = mt::identify({bytes + 1, size - 1}, images[bytes[0] % 4], "", progress);
    if (found.verdict().empty()) std::abort();
    for (const mt::Guess& g : found.guesses) {
        if (!(g.fit >= 0 && g.fit <= 1) || g.why.empty() || g.name().empty()) std::abort();
        if (g.readable() &&
            !mt::parse_target_file(target_text(g, {"x \"y\".bin"}, "", "any\nname"), "/x/found.target.toml"))
            std::abort();
    }
    return 0;
}
