// Any text as a target file: a value or a problem with a place, never a crash.
#include <cstdint>
#include <cstdlib>
#include <string_view>

#include "target/target_file.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
    const auto target = mt::parse_target_file({reinterpret_cast<const char*>(bytes), size}, "/x/fuzz.target.toml");
    if (!target && (target.error().what.empty() || target.error().where.empty())) std::abort();
    return 0;
}
