#include "base/read_file.h"
#include "target/exception_names.h"

#include <array>
#include <cctype>
#include <string_view>

#include <pugixml.hpp>

namespace mt {

std::string architectural_exception_name(unsigned number) {
    constexpr std::array<std::string_view, 16> names = {
        "thread mode", "Reset",  "NMI", "HardFault", "MemManage", "BusFault",     "UsageFault",
        "SecureFault", "",       "",    "",          "SVCall",    "DebugMonitor", "",
        "PendSV",      "SysTick"};
    if (number < 16) return names[number].empty() ? "exception " + std::to_string(number) : std::string(names[number]);
    return "interrupt " + std::to_string(number - 16);
}

namespace {

// RISC-V privileged architecture, table "mcause values after trap". In packets that software on a RISC-V core
// writes, 16 + cause stands for an interrupt and 256 + cause for an exception.
void add_riscv_names(std::map<unsigned, std::string>& names) {
    for (const auto& [cause, name] : {std::pair{1u, "supervisor software"},
                                      {2u, "virtual supervisor software"},
                                      {3u, "machine software"},
                                      {5u, "supervisor timer"},
                                      {6u, "virtual supervisor timer"},
                                      {7u, "machine timer"},
                                      {9u, "supervisor external"},
                                      {10u, "virtual supervisor external"},
                                      {11u, "machine external"},
                                      {12u, "supervisor guest external"},
                                      {13u, "counter overflow"}})
        names.emplace(16 + cause, name);
    for (const auto& [cause, name] : {std::pair{0u, "instruction address misaligned"},
                                      {1u, "instruction access fault"},
                                      {2u, "illegal instruction"},
                                      {3u, "breakpoint"},
                                      {4u, "load address misaligned"},
                                      {5u, "load access fault"},
                                      {6u, "store address misaligned"},
                                      {7u, "store access fault"},
                                      {8u, "environment call from U-mode"},
                                      {9u, "environment call from S-mode"},
                                      {10u, "environment call from VS-mode"},
                                      {11u, "environment call from M-mode"},
                                      {12u, "instruction page fault"},
                                      {13u, "load page fault"},
                                      {15u, "store page fault"},
                                      {16u, "double trap"},
                                      {18u, "software check"},
                                      {19u, "hardware error"},
                                      {20u, "instruction guest-page fault"},
                                      {21u, "load guest-page fault"},
                                      {22u, "virtual instruction"},
                                      {23u, "store guest-page fault"}})
        names.emplace(256 + cause, name);
    // Causes that the architecture leaves to the platform, or reserves.
    for (unsigned cause = 0; cause < 240; ++cause)
        names.emplace(16 + cause, "interrupt cause " + std::to_string(cause));
    for (unsigned cause = 0; cause < 256; ++cause)
        names.emplace(256 + cause, "exception cause " + std::to_string(cause));
}

}  // namespace

Result<SvdNames> read_svd(const std::string& path) {
    pugi::xml_document document;
    const auto text = read_small_file(path, 256'000'000, "SVD file");
    if (!text) return tl::make_unexpected(text.error());
    const auto outcome = document.load_buffer(text->data(), text->size());
    if (!outcome)
        return failure(std::string("cannot read the SVD file: ") + outcome.description(), path,
                       "correct 'svd' in the target file");
    const auto device = document.child("device");
    if (!device) return failure("not a CMSIS-SVD file: it has no <device>", path, "correct 'svd' in the target file");
    SvdNames found;
    found.priority_bits = device.child("cpu").child("nvicPrioBits").text().as_uint(0);
    for (const auto peripheral : device.child("peripherals").children("peripheral")) {
        for (const auto interrupt : peripheral.children("interrupt")) {
            const unsigned value = interrupt.child("value").text().as_uint(9999);
            const std::string name = interrupt.child("name").text().as_string();
            if (value < 496 && !name.empty()) found.names.emplace(16 + value, name);
        }
    }
    return found;
}

std::map<unsigned, std::string> exception_names(const Image* image, const SvdNames* svd) {
    std::map<unsigned, std::string> names;
    if (svd != nullptr) names = svd->names;
    if (image == nullptr) return names;
    if (image->machine() == Image::Machine::riscv) {
        add_riscv_names(names);
        return names;
    }
    const auto table = image->vector_table();
    if (!table) return names;
    std::map<std::uint32_t, unsigned> served;
    std::map<unsigned, std::uint32_t> handlers;
    for (unsigned n = 1; n < 512; ++n) {
        const auto word = image->word_at(*table + 4 * n);
        if (!word) break;
        if (*word == 0) continue;
        // Behind the table's end other things follow: what is no odd address of code ends it.
        if ((*word & 1) == 0 || !image->is_code(*word & ~1u)) {
            if (n >= 16) break;
            continue;
        }
        handlers[n] = *word & ~1u;
        ++served[*word & ~1u];
    }
    for (const auto& [n, handler] : handlers) {
        const Symbol* symbol = image->function_at(handler);
        if (n < 16 || symbol == nullptr || symbol->address != handler || names.count(n) != 0) continue;
        names[n] = served[handler] == 1 ? symbol->name : architectural_exception_name(n) + " (" + symbol->name + ")";
    }
    return names;
}

}  // namespace mt
