// Any text as a target file or an ORTI file: a value or a problem with a place, never a crash.
#include <cstdint>
#include <cstdlib>
#include <string_view>

#include "target/orti.h"
#include "target/target_file.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
    const auto target = mt::parse_target_file({reinterpret_cast<const char*>(bytes), size}, "/x/fuzz.target.toml");
    if (!target && (target.error().what.empty() || target.error().where.empty())) std::abort();
    const auto orti = mt::parse_orti({reinterpret_cast<const char*>(bytes), size}, "/x/fuzz.orti", nullptr);
    if (!orti && (orti.error().what.empty() || orti.error().where.empty())) std::abort();
    return 0;
}
