// The program that a process runs, beside what all see.
#pragma once

#include <cstdint>
#include <memory>
#include <string>

#include "target/code.h"
#include "target/image.h"

namespace mt {

struct ProcessImage {
    std::uint32_t context = 0;  ///< the number that trace tells of the process (CONTEXTIDR, satp.ASID)
    std::shared_ptr<const Image> image;
    std::string name{};         ///< of the process

    /// Where an address of it stands in `code`, if that is code of its own; else kNowhere.
    std::uint32_t slot_of(const Code& code, std::uint64_t address) const {
        const std::uint32_t slot = code.slot_in(context, address);
        return slot != Code::kNowhere && code.context(slot) == context ? slot : Code::kNowhere;
    }
};

}  // namespace mt
