// The board's trace units as a target's memory, without a server in between; what is written is kept.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <utility>
#include <vector>

#include "arm_units.h"
#include "control/units/target_memory.h"
#include "rv_units.h"

namespace mt::test {

class UnitMemory : public TargetMemory {
  public:
    explicit UnitMemory(board::UnitSpace& units) : units_(units) {}
    Result<std::uint32_t> read(std::uint64_t address) override {
        std::uint32_t value = 0;
        if (refuse_reads || !units_.read(static_cast<std::uint32_t>(address), value)) return failure("refused");
        return value;
    }
    Result<void> write(std::uint64_t address, std::uint32_t value) override {
        if (++tried == refuse_write || !units_.write(static_cast<std::uint32_t>(address), value))
            return failure("the debug server refused to write");
        writes.emplace_back(static_cast<std::uint32_t>(address), value);
        return {};
    }
    std::vector<std::pair<std::uint32_t, std::uint32_t>> writes;
    std::size_t tried = 0, refuse_write = 0;  ///< the how manyth write is refused; 0: none
    bool refuse_reads = false;

  private:
    board::UnitSpace& units_;
};

/// Words at addresses; a read register that gives one word after another.
class FakeMemory : public TargetMemory {
  public:
    Result<std::uint32_t> read(std::uint64_t address) override {
        if (address == queue_at && !queue_.empty()) {
            const std::uint32_t word = queue_.front();
            queue_.erase(queue_.begin());
            return word;
        }
        return words[address];
    }
    Result<void> write(std::uint64_t address, std::uint32_t value) override {
        words[address] = value;
        if (on_write) on_write(address, value);
        return {};
    }
    void fill(std::uint64_t address, const std::vector<std::uint8_t>& bytes) {
        for (std::size_t i = 0; i < bytes.size(); i += 4)
            words[address + i] = static_cast<std::uint32_t>(bytes[i] | bytes[i + 1] << 8 | bytes[i + 2] << 16) |
                                 static_cast<std::uint32_t>(bytes[i + 3]) << 24;
    }
    void queue(std::uint64_t at, std::vector<std::uint32_t> list) {
        queue_at = at;
        queue_ = std::move(list);
    }
    std::map<std::uint64_t, std::uint32_t> words;
    std::function<void(std::uint64_t, std::uint32_t)> on_write;

  private:
    std::uint64_t queue_at = ~std::uint64_t{0};
    std::vector<std::uint32_t> queue_;
};

}  // namespace mt::test
