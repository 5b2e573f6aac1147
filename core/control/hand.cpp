#include "control/hand.h"

#include <algorithm>
#include <array>

#include "base/text.h"
#include "target/data_place.h"
#include "target/value_type.h"

namespace mt {
namespace {

using Steady = std::chrono::steady_clock;
using Milliseconds = std::chrono::milliseconds;
using Kind = HandCommand::Kind;

constexpr double kStepLimit = 30;  ///< seconds that a step by line may take

bool holds(double v, const HandCommand::Condition& c) {
    using Is = HandCommand::Condition::Is;
    const auto than = static_cast<double>(c.than);
    switch (c.is) {
        case Is::equal:
            return v == than;
        case Is::unequal:
            return v != than;
        case Is::less:
            return v < than;
        case Is::more:
            return v > than;
        case Is::at_most:
            return v <= than;
        case Is::at_least:
            return v >= than;
    }
    return false;
}

std::string place_text(const Image* image, std::uint64_t pc) {
    if (image == nullptr) return {};
    const Symbol* function = image->function_at(pc);
    if (function == nullptr) return {};
    std::string text = function->name;
    if (const auto line = image->line_at(pc)) {
        const auto slash = line->file.rfind('/');
        text += " (" + (slash == std::string::npos ? line->file : line->file.substr(slash + 1)) + ":" +
                std::to_string(line->line) + ")";
    }
    return text;
}

}  // namespace

Hand::Hand(std::vector<Core> cores, Options options) : cores_(std::move(cores)), options_(std::move(options)) {
    for (const Core& c : cores_)
        code_.push_back(c.image && Code::can_follow(c.spec.isa) ? Code::of(*c.image, c.spec.isa) : nullptr);
}

Hand::~Hand() {
    for (std::size_t c = 0; c < cores_.size(); ++c) {
        if (!cores_[c].server) continue;
        (void)clear(c);
        cores_[c].server->leave(cores_[c].server->running());
    }
}

Result<std::vector<HandAnswer>> Hand::run(const HandCommand& command) {
    std::vector<std::size_t> about;
    for (std::size_t c = 0; c < cores_.size(); ++c)
        if (cores_[c].server && (command.core == "all" || command.core == cores_[c].spec.name ||
                                 (command.core.empty() && about.empty())))
            about.push_back(c);
    if (about.empty()) {
        std::string names;
        for (const Core& c : cores_)
            if (c.server) names += (names.empty() ? "" : ", ") + c.spec.name;
        return failure("no core '" + command.core + "' has a debug server here", "“" + command.text + "”", "there are: " + names);
    }
    if (command.writes() && !options_.may_write)
        return failure("the target may only be looked at", "“" + command.text + "”", "give --allow-writing to change it");
    std::vector<HandAnswer> answers;
    for (const std::size_t c : about) {
        auto answer = on(c, command);
        if (!answer) return tl::make_unexpected(answer.error());
        answers.push_back(std::move(*answer));
    }
    return answers;
}

Result<HandAnswer> Hand::on(std::size_t index, const HandCommand& command) {
    Core& core = cores_[index];
    HandAnswer a;
    a.core = core.spec.name;
    Result<void> done;
    const auto must_stand = [&]() -> Result<void> {
        if (!core.server->running()) return {};
        return failure("core '" + core.spec.name + "' runs", "“" + command.text + "”", "halt it first");
    };
    switch (command.kind) {
        case Kind::go:
            done = go(core);
            break;
        case Kind::halt:
            if (auto stop = core.server->halt(); !stop) return tl::make_unexpected(stop.error());
            break;
        case Kind::reset:
            done = core.server->reset(options_.reset_command);
            break;
        case Kind::wait:
            if (core.server->running()) done = wait(index, command.seconds, a);
            break;
        case Kind::step:
            done = must_stand();
            for (std::uint64_t n = 0; done && n < command.times; ++n) done = step(core);
            break;
        case Kind::step_line:
        case Kind::step_over:
        case Kind::step_out:
            done = must_stand();
            if (done) done = step_until(index, command.kind, kStepLimit, a);
            break;
        case Kind::run_to: {
            done = must_stand();
            if (!done) break;
            const auto to = core.image ? core.image->address_of(command.place)
                                       : Result<std::uint64_t>(std::strtoull(command.place.c_str(), nullptr, 16));
            if (!to) return tl::make_unexpected(to.error());
            done = run_to(index, *to & ~std::uint64_t{1}, command.seconds, a);
            break;
        }
        case Kind::break_at:
        case Kind::watch:
            done = add_point(index, command);
            break;
        case Kind::clear:
            done = clear(index);
            break;
        case Kind::points:
            for (const Point& p : points_)
                if (p.core == index) a.values.emplace_back(p.command.place, plural(p.hits, "hit", "hits"));
            break;
        case Kind::registers: {
            done = must_stand();
            const auto& names = core.server->register_names();
            std::vector<std::string> wanted = command.names;
            if (wanted.empty())
                for (const std::string& n : names)
                    if (!n.empty()) wanted.push_back(n);
            for (std::size_t i = 0; done && i < wanted.size(); ++i) {
                const auto number = register_number(core, wanted[i]);
                if (!number)
                    return failure("core '" + core.spec.name + "' has no register '" + wanted[i].substr(0, 64) + "'", "“" + command.text + "”",
                                   "registers alone lists those that there are");
                const auto value = core.server->read_register(*number);
                // Of all, those that a server does not give are left out.
                if (!value && !command.names.empty()) return tl::make_unexpected(value.error());
                if (value) a.values.emplace_back(wanted[i], hex_text(*value, 8));
            }
            break;
        }
        case Kind::read:
            for (const std::string& name : command.names) {
                const auto value = value_of(core, name);
                if (!value) return tl::make_unexpected(value.error());
                a.values.emplace_back(name, value->first);
            }
            break;
        case Kind::memory: {
            std::vector<std::uint8_t> bytes(static_cast<std::size_t>(command.length));
            done = core.server->read_memory(command.address, bytes);
            for (std::size_t at = 0; done && at < bytes.size(); at += 16) {
                std::string row;
                for (std::size_t i = at; i < std::min(bytes.size(), at + 16); ++i)
                    row += (row.empty() ? "" : " ") + hex_text(bytes[i], 2).substr(2);
                a.values.emplace_back(hex_text(command.address + at, 8), row);
            }
            break;
        }
        case Kind::write:
            done = write(core, command);
            break;
        case Kind::set: {
            done = must_stand();
            const auto number = register_number(core, command.place);
            if (!number) return failure("core '" + core.spec.name + "' has no register '" + command.place.substr(0, 64) + "'", "“" + command.text + "”");
            if (!done) break;
            const auto before = core.server->read_register(*number);
            done = core.server->write_register(*number, static_cast<std::uint64_t>(command.value));
            if (done)
                written_.push_back("core " + core.spec.name + ": " + command.place + " = " + hex_text(static_cast<std::uint64_t>(command.value) & 0xFFFF'FFFF) +
                                   (before ? ", was " + hex_text(*before, 8) : ""));
            break;
        }
        case Kind::where:
            break;
    }
    if (!done) return tl::make_unexpected(done.error());
    if (auto ok = stand(core, a); !ok) return tl::make_unexpected(ok.error());
    return a;
}

Result<void> Hand::stand(Core& core, HandAnswer& a) const {
    a.running = core.server->running();
    if (a.running) return {};
    const auto pc = core.server->pc();
    if (!pc) return tl::make_unexpected(pc.error());
    a.pc = *pc & ~std::uint64_t{core.spec.isa.rfind("armv", 0) == 0 ? 1u : 0u};
    a.place = place_text(core.image.get(), *a.pc);
    return {};
}

Hand::Point* Hand::point_at(std::size_t core, std::uint64_t pc) {
    for (Point& p : points_)
        if (p.core == core && p.type == DebugServer::Point::software && p.address == (pc & ~std::uint64_t{1})) return &p;
    return nullptr;
}

// One instruction, also from where a breakpoint stands.
Result<void> Hand::step(Core& core) {
    const auto index = static_cast<std::size_t>(&core - cores_.data());
    const auto pc = core.server->pc();
    if (!pc) return tl::make_unexpected(pc.error());
    const Point* here = point_at(index, *pc);
    if (here != nullptr) (void)core.server->clear_point(here->type, here->address, here->length);
    auto stepped = core.server->step();
    if (here != nullptr)
        if (auto set = core.server->set_point(here->type, here->address, here->length); !set) return set;
    if (!stepped) return tl::make_unexpected(stepped.error());
    return {};
}

Result<void> Hand::go(Core& core) {
    if (core.server->running()) return {};
    const auto pc = core.server->pc();
    if (!pc) return tl::make_unexpected(pc.error());
    if (point_at(static_cast<std::size_t>(&core - cores_.data()), *pc) != nullptr)
        if (auto past = step(core); !past) return past;
    return core.server->resume();
}

Result<bool> Hand::stays(std::size_t core, const DebugStop& stop, HandAnswer& a) {
    const auto began = Steady::now();
    const auto pc = cores_[core].server->pc();
    if (!pc) return tl::make_unexpected(pc.error());
    Point* hit = point_at(core, *pc);
    if (stop.why == DebugStop::Why::watchpoint)
        for (Point& p : points_)
            if (p.core == core && p.type != DebugServer::Point::software &&
                (!stop.watched || (*stop.watched >= p.address && *stop.watched < p.address + p.length)))
                hit = &p;
    if (hit == nullptr) {
        a.reason = stop.why == DebugStop::Why::interrupted ? "halted" : "it stopped by itself, signal " + std::to_string(stop.signal);
        return true;
    }
    bool counts = true;
    if (hit->command.condition) {
        const auto value = value_of(cores_[core], hit->command.condition->of);
        if (!value) return tl::make_unexpected(value.error());
        counts = holds(value->second, *hit->command.condition);
    }
    if (counts) ++hit->hits;
    const bool at_last = counts && hit->hits >= hit->command.times;
    if (at_last && !hit->command.message) {
        a.reason = (hit->command.kind == Kind::watch ? hit->command.place + " was accessed" : "breakpoint at " + hit->command.place) +
                   (hit->hits > 1 ? ", hit " + std::to_string(hit->hits) : "");
        return true;
    }
    if (at_last) {
        if (a.said.size() < 10'000) a.said.push_back(*hit->command.message);
    }
    if (auto on = go(cores_[core]); !on) return tl::make_unexpected(on.error());
    ++brief_;
    brief_s_ += std::chrono::duration<double>(Steady::now() - began).count();
    return false;
}

Result<void> Hand::wait(std::size_t index, double seconds, HandAnswer& a) {
    const auto until = Steady::now() + std::chrono::duration_cast<Steady::duration>(std::chrono::duration<double>(seconds));
    DebugServer& server = *cores_[index].server;
    while (server.running()) {
        auto stop = server.wait(Milliseconds(20));
        if (!stop) return tl::make_unexpected(stop.error());
        if (*stop) {
            const auto there = stays(index, **stop, a);
            if (!there) return tl::make_unexpected(there.error());
            if (*there) return {};
        }
        if (Steady::now() < until) continue;
        a.as_wanted = false;
        a.reason = "it did not stop within " + duration_text(Time::from_ns(seconds * 1e9));
        return {};
    }
    return {};
}

Result<void> Hand::run_to(std::size_t index, std::uint64_t address, double seconds, HandAnswer& a) {
    Core& core = cores_[index];
    const bool there_already = point_at(index, address) != nullptr;
    // From the very place it is left first.
    const auto pc = core.server->pc();
    if (!pc) return tl::make_unexpected(pc.error());
    if ((*pc & ~std::uint64_t{1}) == address)
        if (auto past = step(core); !past) return past;
    if (!there_already)
        if (auto set = core.server->set_point(DebugServer::Point::software, address, 2); !set) return set;
    auto outcome = go(core);
    const auto until = Steady::now() + std::chrono::duration_cast<Steady::duration>(std::chrono::duration<double>(seconds));
    while (outcome && core.server->running()) {
        auto stop = core.server->wait(Milliseconds(20));
        if (!stop) {
            outcome = tl::make_unexpected(stop.error());
        } else if (*stop) {
            const auto at = core.server->pc();
            if (!at) {
                outcome = tl::make_unexpected(at.error());
            } else if ((*at & ~std::uint64_t{1}) != address) {
                const auto there = stays(index, **stop, a);
                if (!there) outcome = tl::make_unexpected(there.error());
                if (there && *there) a.as_wanted = false;
            }
        } else if (Steady::now() >= until) {
            a.as_wanted = false;
            a.reason = "it did not come there within " + duration_text(Time::from_ns(seconds * 1e9));
            if (auto halted = core.server->halt(); !halted) outcome = tl::make_unexpected(halted.error());
        }
    }
    if (!there_already) (void)core.server->clear_point(DebugServer::Point::software, address, 2);
    return outcome;
}

Result<void> Hand::step_until(std::size_t index, Kind kind, double seconds, HandAnswer& a) {
    Core& core = cores_[index];
    if (!code_[index])
        return failure("core '" + core.spec.name + "' cannot be stepped by line", core.spec.image,
                       "give its image; without one it can be stepped by instruction");
    const auto until = Steady::now() + std::chrono::duration_cast<Steady::duration>(std::chrono::duration<double>(seconds));
    const auto first = core.server->pc();
    if (!first) return tl::make_unexpected(first.error());
    const auto begin = core.image->line_at(*first);
    if (!begin && kind != Kind::step_out)
        return failure("no source line is known where core '" + core.spec.name + "' stands", hex_text(*first, 8),
                       "step by instruction, or out of the function");
    for (;;) {
        const auto pc = core.server->pc();
        if (!pc) return tl::make_unexpected(pc.error());
        const std::uint32_t slot = code_[index]->slot_of(*pc);
        const Code::Slot instruction = (*code_[index])[slot];
        const bool calls = slot != Code::kNowhere && (instruction.flow == Flow::call || instruction.flow == Flow::indirect_call);
        const bool returns = slot != Code::kNowhere && (instruction.flow == Flow::ret || instruction.flow == Flow::trap_return);
        const std::uint64_t behind = (*pc & ~std::uint64_t{1}) + 2u * instruction.size;
        if (calls && kind != Kind::step_line) {
            const double left = std::chrono::duration<double>(until - Steady::now()).count();
            if (auto over = run_to(index, behind, std::max(0.1, left), a); !over) return over;
            if (!a.as_wanted) return {};
        } else if (auto stepped = step(core); !stepped) {
            return stepped;
        }
        const auto now = core.server->pc();
        if (!now) return tl::make_unexpected(now.error());
        if (*now == *pc) {
            a.as_wanted = false;
            a.reason = "it stays where it is: the instruction jumps to itself, or this core cannot be stepped";
            return {};
        }
        if (kind == Kind::step_out) {
            if (returns && (*now & ~std::uint64_t{1}) != behind) return {};
        } else if (const auto line = core.image->line_at(*now);
                   line && (line->line != begin->line || line->file != begin->file)) {
            return {};
        }
        if (point_at(index, *now) != nullptr) {
            a.reason = "breakpoint at " + point_at(index, *now)->command.place;
            return {};
        }
        if (Steady::now() < until) continue;
        a.as_wanted = false;
        a.reason = "the step took longer than " + duration_text(Time::from_ns(seconds * 1e9));
        return {};
    }
}

Result<void> Hand::add_point(std::size_t index, const HandCommand& command) {
    Core& core = cores_[index];
    Point p;
    p.command = command;
    p.core = index;
    if (command.condition)
        if (auto value = value_of(core, command.condition->of); !value) return tl::make_unexpected(value.error());
    if (command.kind == Kind::break_at) {
        const auto at = core.image ? core.image->address_of(command.place)
                                   : Result<std::uint64_t>(std::strtoull(command.place.c_str(), nullptr, 16));
        if (!at) return tl::make_unexpected(at.error());
        p.address = *at & ~std::uint64_t{1};
        if (point_at(index, p.address) != nullptr)
            return failure("there is a breakpoint at " + command.place + " already", "“" + command.text + "”", "clear takes all away");
    } else {
        const auto place = find_data(core.spec, command.place);
        if (!place) return tl::make_unexpected(place.error());
        p.address = place->address;
        p.length = static_cast<unsigned>(std::min<std::uint64_t>(place->size, 1 << 16));
        p.type = command.on_read && command.on_write ? DebugServer::Point::access
                 : command.on_read                   ? DebugServer::Point::read
                                                     : DebugServer::Point::write;
    }
    // Most servers take no breakpoints while the core runs.
    const bool ran = core.server->running();
    if (ran)
        if (auto halted = core.server->halt(); !halted) return tl::make_unexpected(halted.error());
    auto set = core.server->set_point(p.type, p.address, p.length);
    if (ran)
        if (auto on = go(core); !on) return on;
    if (set) points_.push_back(std::move(p));
    return set;
}

Result<void> Hand::clear(std::size_t index) {
    DebugServer& server = *cores_[index].server;
    const bool any = std::any_of(points_.begin(), points_.end(), [index](const Point& p) { return p.core == index; });
    if (!any) return {};
    const bool ran = server.running();
    if (ran)
        if (auto halted = server.halt(); !halted) return tl::make_unexpected(halted.error());
    for (const Point& p : points_)
        if (p.core == index) (void)server.clear_point(p.type, p.address, p.length);
    points_.erase(std::remove_if(points_.begin(), points_.end(), [index](const Point& p) { return p.core == index; }), points_.end());
    return ran ? server.resume() : Result<void>();
}

std::optional<unsigned> Hand::register_number(const Core& core, const std::string& name) const {
    const auto& names = core.server->register_names();
    const auto found = std::find(names.begin(), names.end(), name);
    return found == names.end() || name.empty() ? std::nullopt : std::optional(static_cast<unsigned>(found - names.begin()));
}

Result<std::pair<std::string, double>> Hand::value_of(Core& core, const std::string& expression) const {
    if (const auto number = register_number(core, expression)) {
        const auto value = core.server->read_register(*number);
        if (!value) return tl::make_unexpected(value.error());
        return std::pair(hex_text(*value, 8), static_cast<double>(*value));
    }
    const auto place = find_data(core.spec, expression);
    if (!place) return tl::make_unexpected(place.error());
    constexpr std::uint64_t kMost = 4096;
    if (place->size > kMost) return failure("'" + expression + "' has " + bytes_text(place->size), "", "name a part of it");
    std::vector<std::uint8_t> bytes(static_cast<std::size_t>(place->size));
    if (auto read = core.server->read_memory(place->address, bytes); !read) return tl::make_unexpected(read.error());
    const auto type = ValueType::named(place->type);
    if (place->type.empty() || !type || bytes.size() > 8) {
        std::string text;
        for (const std::uint8_t b : bytes) text += (text.empty() ? "" : " ") + hex_text(b, 2).substr(2);
        return std::pair(text, 0.0);
    }
    std::uint64_t raw = 0;
    for (std::size_t i = bytes.size(); i-- > 0;) raw = raw << 8 | bytes[i];
    const ValueType as = type->with(place->mask, place->shift);
    const Value value = as.read(raw);
    const auto name = place->names.find(as.field(raw));
    return std::pair(name != place->names.end() ? name->second : value.text(), value.number());
}

Result<void> Hand::write(Core& core, const HandCommand& command) {
    const auto place = find_data(core.spec, command.place);
    if (!place) return tl::make_unexpected(place.error());
    const auto type = ValueType::named(place->type);
    if (!type || place->size > 8 || type->sort() == ValueSort::real || type->sort() == ValueSort::small_real)
        return failure("'" + command.place + "' is no whole number", "“" + command.text + "”", "name an element or a member of it");
    const auto before = value_of(core, command.place);
    if (!before) return tl::make_unexpected(before.error());
    std::array<std::uint8_t, 8> bytes{};
    const std::span<std::uint8_t> all = std::span(bytes).first(static_cast<std::size_t>(place->size));
    std::uint64_t raw = static_cast<std::uint64_t>(command.value);
    if (place->mask != ~std::uint64_t{0}) {  // the bits beside it stay
        if (auto read = core.server->read_memory(place->address, all); !read) return read;
        std::uint64_t old = 0;
        for (std::size_t i = all.size(); i-- > 0;) old = old << 8 | all[i];
        raw = (old & ~place->mask) | (raw << place->shift & place->mask);
    }
    for (std::size_t i = 0; i < all.size(); ++i) all[i] = static_cast<std::uint8_t>(raw >> 8 * i);
    if (auto ok = core.server->write_memory(place->address, all); !ok) return ok;
    const auto now = value_of(core, command.place);
    if (!now) return tl::make_unexpected(now.error());
    written_.push_back("core " + core.spec.name + ": " + command.place + " = " + now->first + ", was " + before->first);
    return {};
}

}  // namespace mt
