// Rules files, and stores of coverage, from anywhere: refused in words, or read.
#include <sys/mman.h>
#include <unistd.h>

#include <string>
#include <string_view>

#include "judge/rules_file.h"
#include "share/cover_store.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    if (size == 0) return 0;
    const std::string_view text(reinterpret_cast<const char*>(data + 1), size - 1);
    if ((data[0] & 7) != 0) {
        const auto rules = mt::parse_rules(text, "/nowhere/fuzz.rules.toml");
        if (!rules) return 0;
        // What was accepted is written so that it is accepted again.
        if (!mt::parse_rules(mt::rules_text(rules->rules), "/nowhere/fuzz.rules.toml")) __builtin_trap();
        for (const mt::Rule& r : rules->rules) (void)r.limit_text();
        return 0;
    }
    static const int file = ::memfd_create("store", 0);
    if (::ftruncate(file, 0) != 0 || ::pwrite(file, text.data(), text.size(), 0) < 0) __builtin_trap();
    if (auto store = mt::CoverStore::open("/proc/self/fd/" + std::to_string(file))) {
        (void)store->contributions();
        (void)store->reasons();
    }
    return 0;
}
