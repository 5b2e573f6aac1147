// Words of a target's memory, as trace units are reached: through a debug server, or only thought of.
#pragma once

#include <cstdint>
#include <map>
#include <span>

#include "base/problem.h"
#include "base/progress.h"

namespace mt {

class DebugServer;

/// Registers are words of 32 bits, little-endian, at addresses divisible by four. One thread at a time.
class TargetMemory {
  public:
    virtual ~TargetMemory() = default;
    virtual Result<std::uint32_t> read(std::uint64_t address) = 0;
    virtual Result<void> write(std::uint64_t address, std::uint32_t value) = 0;
    /// Plain memory, of any address and length; word by word unless there is a better way.
    virtual Result<void> read_bytes(std::uint64_t address, std::span<std::uint8_t> into, Progress* progress = nullptr);
};

/// The target's own. `server` must outlive it.
class ServerMemory : public TargetMemory {
  public:
    explicit ServerMemory(DebugServer& server) : server_(server) {}
    Result<std::uint32_t> read(std::uint64_t address) override;
    Result<void> write(std::uint64_t address, std::uint32_t value) override;
    Result<void> read_bytes(std::uint64_t address, std::span<std::uint8_t> into, Progress* progress) override;

  private:
    DebugServer& server_;
};

/// What another memory would be after some writes: those are kept here and do not reach it.
class PlannedMemory : public TargetMemory {
  public:
    explicit PlannedMemory(TargetMemory& below) : below_(below) {}
    Result<std::uint32_t> read(std::uint64_t address) override {
        const auto known = written_.find(address);
        return known != written_.end() ? Result<std::uint32_t>(known->second) : below_.read(address);
    }
    Result<void> write(std::uint64_t address, std::uint32_t value) override {
        written_[address] = value;
        return {};
    }

  private:
    TargetMemory& below_;
    std::map<std::uint64_t, std::uint32_t> written_;
};

/// Keeps what is read, so that it can be looked at without the target.
class NotedMemory : public TargetMemory {
  public:
    using Words = std::map<std::uint64_t, std::uint32_t>;
    explicit NotedMemory(TargetMemory& below) : below_(below) {}
    Result<std::uint32_t> read(std::uint64_t address) override {
        auto value = below_.read(address);
        if (value) words_[address] = *value;
        return value;
    }
    Result<void> write(std::uint64_t address, std::uint32_t value) override { return below_.write(address, value); }
    const Words& words() const { return words_; }

  private:
    TargetMemory& below_;
    Words words_;
};

/// Those words again; others are not known.
class KnownMemory : public TargetMemory {
  public:
    explicit KnownMemory(const NotedMemory::Words& words) : words_(words) {}
    Result<std::uint32_t> read(std::uint64_t address) override {
        const auto known = words_.find(address);
        return known != words_.end() ? Result<std::uint32_t>(known->second) : failure("not looked at");
    }
    Result<void> write(std::uint64_t, std::uint32_t) override { return failure("the target is not connected"); }

  private:
    const NotedMemory::Words& words_;
};

}  // namespace mt
