// Which process had the core, and at which level, as trace tells by numbers.
#pragma once

#include <cstdint>
#include <optional>

#include "flow/steps.h"

namespace mt {

/// Of one stream. Copyable.
class Contexts {
  public:
    /// Tells it on where it is another than before.
    template <class Out>
    void context(std::uint32_t id, std::uint64_t offset, Out& out) {
        tell(context_, id, StepData::kContext, offset, out);
    }
    template <class Out>
    void virtual_machine(std::uint32_t id, std::uint64_t offset, Out& out) {
        tell(machine_, id, StepData::kVirtualMachine, offset, out);
    }
    template <class Out>
    void level(std::uint32_t level, std::uint64_t offset, Out& out) {
        tell(level_, level, StepData::kLevel, offset, out);
    }
    /// Of RISC-V: 0 user, 1 supervisor, 3 machine, in which all begins: only what is otherwise is told.
    template <class Out>
    void privilege(std::uint32_t privilege, std::uint64_t offset, Out& out) {
        if (!level_) level_ = 3;
        tell(level_, privilege, StepData::kLevel, offset, out);
    }
    /// Where an address stands in what the process sees that has the core.
    std::uint32_t slot_of(const Code& code, std::uint64_t address) const {
        return context_ && code.has_contexts() ? code.slot_in(*context_, address) : code.slot_of(address);
    }
    /// The process that has the core, if code depends on that.
    std::optional<std::uint32_t> process(const Code& code) const { return code.has_contexts() ? context_ : std::nullopt; }
    /// A gap of a core that stood in slot `at`; Code::kNowhere: nobody knows where.
    StepGap gap(const Code& code, std::uint32_t at, std::uint64_t offset, std::uint64_t length, StepGapKind kind, const char* reason) const {
        StepGap gap;
        gap.offset = offset;
        gap.length = length;
        gap.address = at == Code::kNowhere ? 0 : code.address(at);
        gap.kind = kind;
        gap.reason = reason;
        if (kind == StepGapKind::not_in_image) gap.process = process(code);
        return gap;
    }
    bool operator==(const Contexts&) const = default;

  private:
    template <class Out>
    static void tell(std::optional<std::uint32_t>& now, std::uint32_t id, std::uint32_t tag, std::uint64_t offset, Out& out) {
        if (now == id) return;
        now = id;
        tell_data(out, StepData{offset, id, tag});
    }
    std::optional<std::uint32_t> context_, machine_, level_;
};

}  // namespace mt
