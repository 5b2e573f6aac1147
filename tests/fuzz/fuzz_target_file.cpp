// Any text as a target file, a project or an ORTI file: a value or a problem with a place, never a crash. What is
// changed in a text says afterwards what it was to say.
#include <cstdint>
#include <cstdlib>
#include <string_view>
#include <vector>

#include "target/hex_image.h"
#include "target/orti.h"
#include "target/target_edit.h"
#include "target/target_file.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* bytes, std::size_t size) {
    const auto target = mt::parse_target_file({reinterpret_cast<const char*>(bytes), size}, "/x/fuzz.target.toml");
    if (!target && (target.error().what.empty() || target.error().where.empty())) std::abort();
    const std::string_view text(reinterpret_cast<const char*>(bytes), size);
    for (const mt::KeyChange& change : std::vector<mt::KeyChange>{{"", 0, "name", "\"other\""},
                                                                  {"core", 0, "clock_hz", "72000000"},
                                                                  {"stream", 0, "framing", "\"tpiu\""},
                                                                  {"stream.itm", 0, "timestamp_prescaler", "16"},
                                                                  {"core", 0, "image", ""},
                                                                  {"watch", 0, "", ""}}) {
        const auto changed = mt::changed_target(text, {change});
        if (changed && !change.key.empty() &&
            mt::stated_value(*changed, change.table, change.index, change.key) != change.value &&
            mt::toml_quoted(mt::toml_unquoted(mt::stated_value(*changed, change.table, change.index, change.key))) !=
                change.value)
            std::abort();
    }
    const auto hex = mt::read_hex_image(text, "/x/fuzz.hex");
    if (!hex && (hex.error().what.empty() || hex.error().where.empty())) std::abort();
    const auto orti = mt::parse_orti({reinterpret_cast<const char*>(bytes), size}, "/x/fuzz.orti", nullptr);
    if (!orti && (orti.error().what.empty() || orti.error().where.empty())) std::abort();
    return 0;
}
