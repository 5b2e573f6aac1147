#include "control/units/plan.h"

#include <fnmatch.h>

#include <algorithm>
#include <filesystem>

#include "base/near_names.h"
#include "base/text.h"
#include "control/units/planner.h"

namespace mt {

std::uint32_t Planner::read(const Register& r) {
    const auto value = memory_.read(r.unit.address + r.offset);
    return value ? *value : 0;
}

PlanStep Planner::step(const Register& r, Phase phase, std::uint32_t value, std::uint32_t bits, std::string why) const {
    PlanStep s;
    s.phase = phase;
    s.core = core.name;
    s.unit = r.unit.name;
    s.reg = r.name;
    s.address = r.unit.address + r.offset;
    s.value = value;
    s.checked = bits;
    s.why = std::move(why);
    return s;
}

void Planner::write(const Register& r, std::uint32_t value, std::string why, Phase phase, std::uint32_t checked) {
    if (phase != Phase::open) unlock(r.unit);
    plan.steps.push_back(step(r, phase, value, checked, std::move(why)));
    (void)memory_.write(plan.steps.back().address, value);
}

void Planner::await(const Register& r, std::uint32_t bits, std::uint32_t value, std::string why, Phase phase) {
    plan.steps.push_back(step(r, phase, value, bits, std::move(why)));
    plan.steps.back().waits = true;
}

Result<std::pair<std::uint64_t, std::uint64_t>> Planner::trace_memory(unsigned align) const {
    std::uint64_t at = wish.memory_at, size = wish.memory_size;
    if (!wish.memory_symbol.empty()) {
        const Symbol* s = image == nullptr ? nullptr : image->symbol_named(wish.memory_symbol);
        if (s == nullptr)
            return failure("the image has no symbol '" + wish.memory_symbol + "' for the trace", "",
                           "name one, or give memory = { at = 0x…, size = … }");
        at = s->address;
        if (size == 0) size = s->size;
    }
    if (size < 64 || at == 0)
        return failure("where in memory the trace may go is not said", "",
                       "add memory = { symbol = \"…\" } or memory = { at = 0x…, size = … } to [trace]");
    if (at % align != 0 || size % align != 0)
        return failure("memory for trace begins or ends between words of " + std::to_string(align) + " bytes",
                       hex_text(at), "align it to " + std::to_string(align) + " bytes");
    return std::pair(at, size);
}

void Planner::unlock(const Unit& unit) {
    if (!unit.locked || unit.kind == UnitKind::unknown || unit.address == 0) return;
    if (std::find(unlocked_.begin(), unlocked_.end(), unit.address) != unlocked_.end()) return;
    unlocked_.push_back(unit.address);
    const auto lock = memory_.read(unit.address + coresight::kLockStatus);
    if (!lock || (*lock & 3) != 3) return;  // it is the OS lock that is on
    plan.steps.push_back(step({unit, "LAR", coresight::kLockAccess}, Phase::open, coresight::kUnlockKey, 0,
                              "its registers are locked (IHI 0029, B2.3.10)"));
    plan.steps.back().put_back = 0;
    await({unit, "LSR", coresight::kLockStatus}, 2, 0, "the lock opens", Phase::open);
}

Result<const Unit*> Planner::need(UnitKind kind, const std::string& for_what) const {
    const Unit* dead = nullptr;
    for (const Unit& u : units.units) {
        if (u.kind != kind) continue;
        if (u.trouble.empty()) return &u;
        dead = &u;
    }
    if (dead != nullptr)
        return failure(for_what + " needs the " + dead->name + ", which " + dead->trouble, "core " + core.name,
                       "switch its power on, or leave this out");
    return failure(
        for_what + " needs a trace unit of kind " + std::string(unit_kind_name(kind)) + ", and the core has none",
        "core " + core.name, "leave it out of [trace]");
}

std::string Planner::dark() const {
    std::string all;
    for (const Unit& u : units.units)
        if (!u.trouble.empty()) all += (all.empty() ? " (" : "; ") + u.name + " " + u.trouble;
    return all.empty() ? all : all + ")";
}

Result<void> Planner::nothing_dark_on_the_way() const {
    // DDI 0403E B3.2 and table C1-3: these have their place on every Armv7-M core, and no other unit's trace passes
    // them.
    constexpr std::uint64_t fixed[] = {0xE0000000, 0xE0001000, 0xE0002000, 0xE000E000, 0xE0040000, 0xE0041000};
    const auto ignored = [&](const Unit& u) {
        return std::any_of(wish.ignore_units.begin(), wish.ignore_units.end(), [&](const std::string& name) {
            return name == u.name ||
                   (name.rfind("0x", 0) == 0 && std::strtoull(name.c_str(), nullptr, 16) == u.address);
        });
    };
    for (const Unit& u : units.units) {
        if (u.powered || u.kind != UnitKind::unknown || ignored(u) ||
            std::find(std::begin(fixed), std::end(fixed), u.address) != std::end(fixed))
            continue;
        return failure("the " + u.name + " " + u.trouble + "; if trace passes it, none will arrive",
                       "core " + core.name,
                       "switch its power and clock on; or, if it does not stand on the way, add ignore_units = [\"" +
                           hex_text(u.address) + "\"] to [trace]");
    }
    return {};
}

bool Planner::has(UnitKind kind) const {
    for (const Unit& u : units.units)
        if (u.kind == kind && u.trouble.empty()) return true;
    return false;
}

std::size_t Planner::stream(Protocol protocol) {
    for (std::size_t i = 0; i < target.streams.size(); ++i)
        if (target.streams[i].core == core.name && target.streams[i].protocol == protocol) return i;
    for (const auto& [known, index] : added_)
        if (known == protocol) return index;
    const std::size_t index = target.streams.size() + added_.size();
    added_.emplace_back(protocol, index);
    key("stream", index, "protocol", toml_quoted(protocol_name(protocol)));
    key("stream", index, "core", toml_quoted(core.name));
    return index;
}

Result<std::vector<std::pair<std::uint64_t, std::uint64_t>>> code_ranges(const std::vector<std::string>& of,
                                                                         const Image* image) {
    using Ranges = std::vector<std::pair<std::uint64_t, std::uint64_t>>;
    Ranges all;
    for (const std::string& wanted : of) {
        const auto dots = wanted.find("..");
        if (dots != std::string::npos && wanted.rfind("0x", 0) == 0) {
            char* end = nullptr;
            const std::uint64_t first = std::strtoull(wanted.c_str(), &end, 16);
            const bool one = end == wanted.c_str() + dots;
            const std::uint64_t last = std::strtoull(wanted.c_str() + dots + 2, &end, 16);
            if (!one || *end != 0 || last < first)
                return failure("'" + wanted + "' is no range of addresses", "", "write 0x08000000..0x080003ff");
            all.emplace_back(first, last);
            continue;
        }
        if (image == nullptr)
            return failure("'" + wanted + "' needs the core's image", "", "give 'image' in the target file");
        const bool arm = image->machine() == Image::Machine::arm;
        const bool file = wanted.find('.') != std::string::npos && image->symbol_named(wanted) == nullptr;
        bool any = false;
        std::vector<std::string> names;
        for (const Symbol& s : image->symbols()) {
            if (!s.function || s.size == 0) continue;
            names.push_back(s.name);
            bool is = ::fnmatch(wanted.c_str(), s.name.c_str(), 0) == 0;
            if (!is && file) {
                const auto line = image->line_at(s.address & ~std::uint64_t{arm ? 1u : 0u});
                is = line && std::filesystem::path(line->file).filename() == std::filesystem::path(wanted).filename();
            }
            if (!is) continue;
            any = true;
            const std::uint64_t first = s.address & ~std::uint64_t{arm ? 1u : 0u};
            all.emplace_back(first, first + s.size - 1);
        }
        if (!any)
            return failure("no function and no source file is called '" + wanted + "'", image->path(),
                           near_names_text(wanted, names, "name a function, a source file or a range of addresses"));
    }
    std::sort(all.begin(), all.end());
    Ranges joined;
    for (const auto& r : all) {
        if (!joined.empty() && r.first <= joined.back().second + 4)
            joined.back().second = std::max(joined.back().second, r.second);
        else
            joined.push_back(r);
    }
    return joined;
}

Result<std::uint64_t> trigger_place(const Planner& p, const TraceWish::Trigger& trigger) {
    if (p.image == nullptr && trigger.at.rfind("0x", 0) != 0)
        return failure("'" + trigger.at + "' needs the image of core '" + p.core.name + "'", "",
                       "give 'image' in the target file");
    if (p.image == nullptr) return std::strtoull(trigger.at.c_str(), nullptr, 16);
    auto at = p.image->address_of(trigger.at);
    if (at && p.image->machine() == Image::Machine::arm) *at &= ~std::uint64_t{1};
    return at;
}

Result<TracePlan> plan_trace(const TraceWish& wish, const CoreUnits& units, TargetMemory& memory,
                             const TargetFile& target, const Image* image) {
    const CoreSpec* core = target.core(units.core);
    if (core == nullptr) return failure("the target file has no core '" + units.core + "'", target.path);
    Planner p(wish, units, memory, target, *core, image);
    auto done = core->isa.rfind("rv", 0) == 0 ? plan_riscv(p) : plan_arm(p);
    if (!done) return tl::make_unexpected(done.error());
    return std::move(p.plan);
}

TracePlan plan_as_found(const CoreUnits& units, TargetMemory& memory, const TargetFile& target) {
    const CoreSpec* core = target.core(units.core);
    TracePlan none;
    none.core = units.core;
    if (core == nullptr) return none;
    const TraceWish nothing;
    Planner p(nothing, units, memory, target, *core, nullptr);
    if (const Unit* etm = units.first(UnitKind::etm4); etm != nullptr && etm->trouble.empty()) {
        for (const Unit& u : units.units)
            if (u.kind == UnitKind::tmc || u.kind == UnitKind::etb)
                p.plan.framed = p.plan.framed || u.flag("formatter");
        const std::uint32_t id = p.read({*etm, "TRCTRACEIDR", etm4::kTraceId}) & 0x7F;
        p.plan.framed = p.plan.framed && id > 0 && id < 0x70;
        tell_etm4(p, *etm, p.read({*etm, "TRCCONFIGR", etm4::kConfig}),
                  p.read({*etm, "TRCCCCTLR", etm4::kCcCtl}) & 0xFFF, id);
    } else if (const Unit* encoder = units.first(UnitKind::trace_encoder);
               encoder != nullptr && encoder->trouble.empty()) {
        p.plan.instruction_timestamps = encoder->flag("timestamps");
        tell_encoder(p, *encoder, p.read({*encoder, "trTeControl", trace_control::kControl}),
                     p.read({*encoder, "trTeInstFeatures", trace_control::kInstFeatures}));
    } else if (units.first(UnitKind::mtb) != nullptr) {
        (void)p.stream(Protocol::mtb);
    }
    return std::move(p.plan);
}

Result<TargetFile> described_target(const TargetFile& target, const TracePlan& plan) {
    if (plan.target.empty()) return target;
    auto text = changed_target(target.text, plan.target);
    if (!text) return tl::make_unexpected(text.error());
    return parse_target_file(*text, target.path);
}

}  // namespace mt
