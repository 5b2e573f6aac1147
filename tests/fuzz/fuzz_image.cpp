// Damaged ELF and DWARF: whatever stands in the file, symbols, code, functions, what is inlined and source lines are
// read or refused. The input says which bytes of a real image are changed: three bytes of place and one of value each.
#include <sys/mman.h>
#include <unistd.h>

#include <cstdlib>
#include <fstream>
#include <iterator>

#include "target/functions.h"
#include "target/inlines.h"
#include "target/locals.h"
#include "target/source_map.h"

namespace {

using namespace mt;

std::vector<std::uint8_t> read(const char* path) {
    std::ifstream in(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), {}};
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    static const std::vector<std::uint8_t> bases[] = {read(MT_DATA "/steps/paddle.elf"),
                                                      read(MT_DATA "/steps/mount-cop.elf")};
    static const int file = ::memfd_create("image", 0);
    if (size < 1) return 0;
    const std::size_t which = data[0] & 1;
    std::vector<std::uint8_t> bytes = bases[which];
    if (bytes.empty()) std::abort();
    for (std::size_t at = 1; at + 4 <= size; at += 4) {
        const std::size_t place = data[at] | data[at + 1] << 8 | data[at + 2] << 16;
        bytes[place % bytes.size()] = data[at + 3];
    }
    if ((data[0] & 2) != 0) bytes.resize(bytes.size() / 2 + size % (bytes.size() / 2));
    if (::ftruncate(file, 0) != 0 || ::pwrite(file, bytes.data(), bytes.size(), 0) < 0) std::abort();
    const std::string path = "/proc/self/fd/" + std::to_string(file);
    const auto image = Image::open(path);
    if (!image) return 0;
    const auto code = Code::of(**image, which == 0 ? "armv6-m" : "rv32imac");
    const auto functions = FunctionTable::of(**image, *code);
    const auto inlines = InlineTable::of(**image, *code);
    if (code->slot_count() > 1 << 20) return 0;
    for (std::uint32_t slot = 1; slot < code->slot_count(); slot += 64) {
        if (functions->at(slot) >= functions->size()) std::abort();
        const std::uint32_t in = inlines->at(slot);
        if (in != InlineTable::kNone && in >= inlines->size()) std::abort();
        (void)inlines->names_at(slot);
        (void)(*image)->line_at(code->address(slot));
    }
    const auto map = SourceMap::of(**image, *code);
    for (std::uint32_t f = 0; f < map->files().size(); ++f)
        for (const auto& begin : map->line_begins(f))
            if (!map->is_instruction(begin.slot)) std::abort();
    // Variables of functions, wherever one stands: places, frames and types of damaged debug information.
    const Locals locals({path});
    FrameState frame = frame_convention(which == 0 ? Isa::thumb : Isa::rv32);
    frame.reg = [](unsigned n) { return FrameWord::of(0x2000'0000U + 64 * n); };
    frame.byte = [](std::uint64_t address) { return FrameWord{address * 7 & 0xFF, address % 5 != 0}; };
    frame.at_entry = [](unsigned, std::uint64_t, unsigned n) { return FrameWord::of(n); };
    for (std::uint32_t slot = 1; slot < code->slot_count(); slot += 509)
        for (const LocalFrame& f : locals.frames(code->address(slot), frame, 4))
            for (const LocalValue& v : f.values)
                for (const LocalValue& part : locals.parts(v, frame)) (void)part.text();
    (void)locals.named("s->next[3].x", code->address(code->slot_count() / 2), frame);
    (void)(*image)->address_of("main.c:10");
    (void)(*image)->vector_table();
    return 0;
}
