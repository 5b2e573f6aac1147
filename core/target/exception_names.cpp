#include "base/read_file.h"
#include "target/exception_names.h"

#include <array>
#include <cctype>
#include <string_view>

#include <pugixml.hpp>

namespace mt {

namespace {

constexpr std::array<std::string_view, 16> kArm = {
    "thread mode", "Reset",        "NMI", "HardFault", "MemManage", "BusFault", "UsageFault", "SecureFault", "", "", "",
    "SVCall",      "DebugMonitor", "",    "PendSV",    "SysTick"};
// Types of exceptions of A and R profile in PFT and ETMv3 (IHI 0035B 4.3.4, IHI 0014Q 7.4.4), and in ETMv4 (IHI 0064 6.4.7).
constexpr std::array<std::string_view, 16> kPftTypes = {"", "debug halt", "SMC", "Hyp entry", "asynchronous data abort", "Jazelle",
                                                        "", "", "Reset", "undefined instruction", "SVC", "prefetch abort",
                                                        "data abort", "generic exception", "IRQ", "FIQ"};
constexpr std::array<std::string_view, 16> kEtm4Types = {"Reset", "debug halt", "call", "trap", "system error", "",
                                                         "instruction debug event", "data debug event", "", "", "alignment fault",
                                                         "instruction fault", "data fault", "", "IRQ", "FIQ"};
// RISC-V privileged architecture, table "mcause values after trap"; what is empty is left to the platform, or reserved.
constexpr std::array<std::string_view, 14> kRiscvInterrupts = {"",
                                                               "supervisor software",
                                                               "virtual supervisor software",
                                                               "machine software",
                                                               "",
                                                               "supervisor timer",
                                                               "virtual supervisor timer",
                                                               "machine timer",
                                                               "",
                                                               "supervisor external",
                                                               "virtual supervisor external",
                                                               "machine external",
                                                               "supervisor guest external",
                                                               "counter overflow"};
constexpr std::array<std::string_view, 24> kRiscvExceptions = {"instruction address misaligned",
                                                               "instruction access fault",
                                                               "illegal instruction",
                                                               "breakpoint",
                                                               "load address misaligned",
                                                               "load access fault",
                                                               "store address misaligned",
                                                               "store access fault",
                                                               "environment call from U-mode",
                                                               "environment call from S-mode",
                                                               "environment call from VS-mode",
                                                               "environment call from M-mode",
                                                               "instruction page fault",
                                                               "load page fault",
                                                               "",
                                                               "store page fault",
                                                               "double trap",
                                                               "",
                                                               "software check",
                                                               "hardware error",
                                                               "instruction guest-page fault",
                                                               "load guest-page fault",
                                                               "virtual instruction",
                                                               "store guest-page fault"};

}  // namespace

std::string_view outside_handlers_name(bool m_profile) { return m_profile ? kArm[0] : "outside handlers"; }

std::string architectural_exception_name(ExceptionId id) {
    const auto named = [&id](auto& names, const char* other, unsigned less = 0) {
        return id.number < names.size() && !names[id.number].empty() ? std::string(names[id.number])
                                                                     : other + std::to_string(id.number - less);
    };
    const auto type = [&id](const auto& names, unsigned first) {
        const unsigned n = id.number - first;
        return n < names.size() && !names[n].empty() ? std::string(names[n]) : "exception type " + std::to_string(n);
    };
    if (id.space == ExceptionId::Space::arm && id.number >= ExceptionId::kPftTypes && id.number < ExceptionId::kTypesEnd)
        return id.number < ExceptionId::kEtm4Types ? type(kPftTypes, ExceptionId::kPftTypes) : type(kEtm4Types, ExceptionId::kEtm4Types);
    switch (id.space) {
        case ExceptionId::Space::riscv_interrupt:
            return named(kRiscvInterrupts, "interrupt cause ");
        case ExceptionId::Space::riscv_exception:
            return named(kRiscvExceptions, "exception cause ");
        case ExceptionId::Space::system:
            return "interrupt " + std::to_string(id.number);
        default:
            return id.number < 16 ? named(kArm, "exception ") : named(kArm, "interrupt ", 16);
    }
}

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
            if (value < 496 && !name.empty()) found.names.emplace(value, name);
        }
    }
    return found;
}

std::map<unsigned, std::string> exception_names(const Image* image, const SvdNames* svd) {
    std::map<unsigned, std::string> names;
    const bool riscv = image != nullptr && image->machine() == Image::Machine::riscv;
    if (svd != nullptr)
        for (const auto& [number, name] : svd->names)
            names.emplace(riscv ? ExceptionId::riscv(number, true).code() : 16 + number, name);
    if (image == nullptr || riscv) return names;
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
        names[n] = served[handler] == 1 ? symbol->name
                                        : architectural_exception_name(ExceptionId::of(n)) + " (" + symbol->name + ")";
    }
    return names;
}

}  // namespace mt
