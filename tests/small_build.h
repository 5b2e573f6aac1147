// Builds of a few functions, put together from their bytes.
#pragma once

#include <span>
#include <string>
#include <utility>
#include <vector>

#include "measure/coverage.h"
#include "target/code.h"
#include "target/functions.h"

namespace mt::test {

using CodeBytes = std::vector<std::uint8_t>;
inline const CodeBytes kAddCode = {0x40, 0x18, 0x70, 0x47};  // adds r0, r0, r1; bx lr
inline const CodeBytes kSubCode = {0x40, 0x1A, 0x70, 0x47};  // subs r0, r0, r1; bx lr

/// Functions one behind the other from 0x100 on, without any counts.
inline CoverOf small_build(const std::vector<std::pair<std::string, CodeBytes>>& parts) {
    CodeBytes bytes;
    for (const auto& [name, code] : parts) bytes.insert(bytes.end(), code.begin(), code.end());
    const Image::Piece piece{0x100, 0x100, bytes, false};
    CoverOf of;
    of.code = Code::of(std::span(&piece, 1), "armv7e-m");
    std::vector<Function> functions;
    std::uint64_t at = 0x100;
    for (const auto& [name, code] : parts) {
        Function f;
        f.name = name;
        f.address = at;
        f.entry = of.code->slot_of(f.address);
        f.end = f.entry + static_cast<std::uint32_t>(code.size() / 2);
        functions.push_back(f);
        at += code.size();
    }
    of.table = FunctionTable::of(functions, *of.code);
    for (auto* list : {&of.counts.executions, &of.counts.taken, &of.counts.undecided}) list->resize(of.code->slot_count());
    return of;
}

}  // namespace mt::test
