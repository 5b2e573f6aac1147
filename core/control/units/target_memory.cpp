#include "control/units/target_memory.h"

#include <array>

#include "control/debug_server.h"

namespace mt {

Result<void> TargetMemory::read_bytes(std::uint64_t address, std::span<std::uint8_t> into, Progress* progress) {
    for (std::size_t i = 0; i < into.size(); ++i) {
        if (progress != nullptr && progress->cancelled()) return failure("reading memory was cancelled");
        auto word = read((address + i) & ~std::uint64_t{3});
        if (!word) return tl::make_unexpected(word.error());
        into[i] = static_cast<std::uint8_t>(*word >> (8 * ((address + i) & 3)));
    }
    return {};
}

Result<void> ServerMemory::read_bytes(std::uint64_t address, std::span<std::uint8_t> into, Progress* progress) {
    return server_.read_memory(address, into, progress);
}

Result<std::uint32_t> ServerMemory::read(std::uint64_t address) {
    std::array<std::uint8_t, 4> bytes{};
    if (auto ok = server_.read_memory(address, bytes); !ok) return tl::make_unexpected(ok.error());
    std::uint32_t value = 0;
    for (std::size_t i = 4; i-- > 0;) value = value << 8 | bytes[i];
    return value;
}

Result<void> ServerMemory::write(std::uint64_t address, std::uint32_t value) {
    std::array<std::uint8_t, 4> bytes{};
    for (std::size_t i = 0; i < 4; ++i) bytes[i] = static_cast<std::uint8_t>(value >> (8 * i));
    return server_.write_memory(address, bytes);
}

}  // namespace mt
