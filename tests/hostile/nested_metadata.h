// Metadata of a Common Trace Format trace as a stranger could write it: little text that stands for much.
#pragma once

#include <string>

namespace mt::hostile {

/// Sixteen names, each of which stands for ten of the one before: 10^16 fields.
inline std::string names_of_names() {
    std::string text =
        "/* CTF 1.8 */\ntrace { major = 1; minor = 8; byte_order = le; };\n"
        "typealias integer { size = 8; } := t0;\n";
    for (int i = 1; i <= 16; ++i) {
        text += "typealias struct {";
        for (int k = 0; k < 10; ++k) text += " t" + std::to_string(i - 1) + " f" + std::to_string(k) + ";";
        text += " } := t" + std::to_string(i) + ";\n";
    }
    return text + "stream { packet.context := t16; };\n";
}

}  // namespace mt::hostile
