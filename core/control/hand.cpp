#include "control/hand.h"

#include <algorithm>
#include <array>
#include <cstdlib>

#include "base/read_file.h"
#include "base/text.h"
#include "control/hand_memory.h"
#include "control/image_check.h"
#include "target/data_place.h"
#include "target/value_type.h"

namespace mt {
namespace {

using Steady = std::chrono::steady_clock;
using Milliseconds = std::chrono::milliseconds;
using Kind = HandCommand::Kind;

constexpr double kStepLimit = 30;  ///< seconds that a step by line may take
constexpr std::size_t kMostKept = 16 << 20;   ///< bytes that can be taken back
constexpr std::size_t kMostLoaded = 8 << 20;  ///< bytes of a file
constexpr std::size_t kMostFound = 1000;      ///< places told

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

// "in star_table": the variable that an address lies in.
std::string object_text(const Image* image, std::uint64_t address) {
    if (image != nullptr)
        for (const Symbol& s : image->symbols())
            if (!s.function && address >= s.address && address - s.address < s.size) return "in " + s.name;
    return "in no variable";
}

}  // namespace

Hand::Hand(std::vector<Core> cores, Options options) : cores_(std::move(cores)), options_(std::move(options)) {
    for (const Core& c : cores_)
        code_.push_back(c.image && Code::can_follow(c.spec.isa) ? Code::of(*c.image, c.spec.isa) : nullptr);
    locals_.resize(cores_.size());
}

Hand::~Hand() {
    for (std::size_t c = 0; c < cores_.size(); ++c)
        if (cores_[c].server != nullptr) (void)clear(c, {});
}

bool Hand::in_set(std::size_t core) const {
    return std::find(together_.begin(), together_.end(), cores_[core].spec.name) != together_.end();
}

bool Hand::of_one_server(std::size_t a, std::size_t b) const {
    return a == b || (cores_[a].server != nullptr && cores_[b].server != nullptr && cores_[a].server->shares_with(*cores_[b].server));
}

std::size_t Hand::who_stopped(std::size_t core, const DebugStop& stop) const {
    for (std::size_t c = 0; c < cores_.size(); ++c)
        if (c != core && !cores_[core].server->is_of(stop) && of_one_server(c, core) && cores_[c].server->is_of(stop)) return c;
    return core;
}

void Hand::tell_server_stood(std::size_t core, const std::vector<std::size_t>& cores, std::vector<HandAnswer>& answers) const {
    for (std::size_t i = 0; i < cores.size(); ++i)
        if (cores[i] != core && of_one_server(cores[i], core)) answers[i].reason = "stopped with " + cores_[core].spec.name + ": one debug server has both";
}

Result<std::vector<HandAnswer>> Hand::run(const HandCommand& command) {
    std::vector<std::size_t> about;
    for (std::size_t c = 0; c < cores_.size(); ++c)
        if (cores_[c].server != nullptr && (command.core == "all" || command.core == cores_[c].spec.name ||
                                            (command.core.empty() && about.empty())))
            about.push_back(c);
    if (about.empty()) {
        std::string names;
        for (const Core& c : cores_)
            if (c.server != nullptr) names += (names.empty() ? "" : ", ") + c.spec.name;
        return failure("no core '" + command.core + "' has a debug server here", "“" + command.text + "”", "there are: " + names);
    }
    if (command.writes() && !options_.may_write)
        return failure("the target may only be looked at", "“" + command.text + "”", "give --allow-writing to change it");
    const bool moves = command.kind == Kind::go || command.kind == Kind::halt || command.kind == Kind::reset || command.kind == Kind::step;
    const std::size_t asked = about.size();
    if ((moves || command.kind == Kind::wait) && std::any_of(about.begin(), about.end(), [this](std::size_t c) { return in_set(c); }))
        for (std::size_t c = 0; c < cores_.size(); ++c)
            if (cores_[c].server != nullptr && in_set(c) && std::find(about.begin(), about.end(), c) == about.end()) about.push_back(c);
    // What one server has runs and stands as one; only a step is its core's alone.
    if ((moves && command.kind != Kind::step) || command.kind == Kind::wait)
        for (std::size_t n = 0; n < about.size(); ++n)
            for (std::size_t c = 0; c < cores_.size(); ++c)
                if (of_one_server(c, about[n]) && std::find(about.begin(), about.end(), c) == about.end()) about.push_back(c);
    if (command.kind == Kind::wait) return wait(about, command.seconds);
    if (command.kind == Kind::together) {
        for (const std::string& name : command.names)
            if (std::none_of(cores_.begin(), cores_.end(), [&name](const Core& c) { return c.server != nullptr && c.spec.name == name; }))
                return failure("no core '" + name.substr(0, 64) + "' has a debug server here", "“" + command.text + "”");
        together_ = command.names;
    }
    if (command.kind == Kind::apart) together_.clear();
    if (command.kind == Kind::undo)
        if (auto undone = undo(); !undone) return tl::make_unexpected(undone.error());
    std::vector<HandAnswer> answers;
    std::optional<Problem> trouble;
    const auto began = Steady::now();
    for (std::size_t i = 0; i < about.size(); ++i) {
        // Those that go with the first only if they can: one that runs cannot be stepped.
        if (i >= asked && command.kind == Kind::step && cores_[about[i]].server->running()) continue;
        // One reset of a server is all its cores'.
        const bool done = command.kind == Kind::reset && std::any_of(about.begin(), about.begin() + static_cast<std::ptrdiff_t>(i),
                                                                     [&](std::size_t c) { return of_one_server(c, about[i]); });
        auto answer = on(about[i], done ? HandCommand() : command);
        if (!answer && command.kind == Kind::halt) {  // the others are to stop all the same
            if (!trouble) trouble = answer.error();
            continue;
        }
        if (!answer) return tl::make_unexpected(answer.error());
        if (moves && i > 0) answer->after_s = std::chrono::duration<double>(Steady::now() - began).count();
        answers.push_back(std::move(*answer));
    }
    if (trouble) return tl::make_unexpected(*trouble);
    const bool ran = command.kind == Kind::run_to || command.kind == Kind::step_line || command.kind == Kind::step_over ||
                     command.kind == Kind::step_out;
    if (ran && asked == 1 && !cores_[about[0]].server->running())
        if (auto others = stop_others(about[0], answers); !others) return tl::make_unexpected(others.error());
    return answers;
}

Result<void> Hand::stop_others(std::size_t core, std::vector<HandAnswer>& answers) {
    if (!in_set(core)) return {};
    std::optional<Problem> trouble;
    const auto began = Steady::now();
    for (std::size_t c = 0; c < cores_.size(); ++c) {
        if (c == core || cores_[c].server == nullptr || !in_set(c) || !cores_[c].server->running()) continue;
        if (auto stop = cores_[c].server->halt(); !stop) {  // the rest of them are to stop all the same
            if (!trouble) trouble = stop.error();
            continue;
        }
        HandAnswer a;
        a.core = cores_[c].spec.name;
        a.after_s = std::chrono::duration<double>(Steady::now() - began).count();
        a.reason = "stopped with " + cores_[core].spec.name + ", " + duration_text(Time::from_ns(a.after_s * 1e9)) + " after it";
        if (auto ok = stand(cores_[c], a); !ok && !trouble) trouble = ok.error();
        answers.push_back(std::move(a));
    }
    if (trouble) return tl::make_unexpected(*trouble);
    return {};
}

Result<std::vector<HandAnswer>> Hand::stopped(const std::string& name, const DebugStop& stop) {
    const auto found = std::find_if(cores_.begin(), cores_.end(), [&name](const Core& c) { return c.server != nullptr && c.spec.name == name; });
    if (found == cores_.end()) return failure("there is no core '" + name + "' in hand", name);
    const auto core = static_cast<std::size_t>(found - cores_.begin());
    std::vector<std::size_t> of_server{core};
    for (std::size_t c = 0; c < cores_.size(); ++c)
        if (c != core && of_one_server(c, core)) of_server.push_back(c);
    std::vector<HandAnswer> answers(of_server.size());
    const auto stays = this->stays(core, stop, answers[0]);
    if (!stays) return tl::make_unexpected(stays.error());
    if (*stays) tell_server_stood(core, of_server, answers);
    for (std::size_t i = 0; i < of_server.size(); ++i) {
        answers[i].core = cores_[of_server[i]].spec.name;
        if (auto ok = stand(cores_[of_server[i]], answers[i]); !ok) return tl::make_unexpected(ok.error());
    }
    if (*stays)
        if (auto others = stop_others(core, answers); !others) return tl::make_unexpected(others.error());
    return answers;
}

std::vector<HandPoint> Hand::points() const {
    std::vector<HandPoint> all;
    for (const Point& p : points_) all.push_back({cores_[p.core].spec.name, p.command.text, p.command.place, p.address, p.hits, p.type == DebugServer::Point::hardware});
    return all;
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
        case Kind::step:
            done = must_stand();
            for (std::uint64_t n = 0; done && n < command.times && !given_up(); ++n) done = step(core);
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
            done = clear(index, command.place);
            break;
        case Kind::points:
            for (const Point& p : points_)
                if (p.core == index) a.values.push_back({p.command.place, plural(p.hits, "hit", "hits") + (p.type == DebugServer::Point::hardware ? ", in hardware" : ""), {}});
            break;
        case Kind::registers: {
            done = must_stand();
            const auto& all = core.server->registers();
            std::vector<unsigned> wanted;
            for (const std::string& name : command.names) {
                const auto number = core.server->register_named(name);
                if (!number)
                    return failure("core '" + core.spec.name + "' has no register '" + name.substr(0, 64) + "'", "“" + command.text + "”",
                                   "registers alone lists those that there are");
                wanted.push_back(*number);
            }
            if (command.names.empty())
                for (unsigned n = 0; n < all.size(); ++n)
                    if (!all[n].name.empty() && all[n].bits <= 64) wanted.push_back(n);
            for (std::size_t i = 0; done && i < wanted.size(); ++i) {
                const DebugServer::Register& r = all[wanted[i]];
                const auto value = core.server->read_register(wanted[i]);
                // Of all, those that a server does not give are left out.
                if (!value && !command.names.empty()) return tl::make_unexpected(value.error());
                if (value) a.values.push_back({r.name, hex_text(*value, static_cast<int>((r.bits + 3) / 4)), r.group});
            }
            break;
        }
        case Kind::read:
            for (const std::string& name : command.names) {
                const auto value = value_of(core, name);
                if (!value) return tl::make_unexpected(value.error());
                a.values.push_back({name, value->first, {}});
            }
            break;
        case Kind::type:
            done = core.server->type(command.place);
            break;
        case Kind::locals:
            done = must_stand();
            if (done) done = tell_locals(index, a);
            break;
        case Kind::memory: {
            std::vector<std::uint8_t> bytes(static_cast<std::size_t>(command.length));
            done = core.server->read_memory(command.address, bytes);
            for (std::size_t at = 0; done && at < bytes.size(); at += 16) {
                std::string row;
                for (std::size_t i = at; i < std::min(bytes.size(), at + 16); ++i)
                    row += (row.empty() ? "" : " ") + hex_text(bytes[i], 2).substr(2);
                a.values.push_back({hex_text(command.address + at, 8), row, {}});
            }
            break;
        }
        case Kind::write:
            done = write(index, command);
            break;
        case Kind::set: {
            done = must_stand();
            const auto number = core.server->register_named(command.place);
            if (!number) return failure("core '" + core.spec.name + "' has no register '" + command.place.substr(0, 64) + "'", "“" + command.text + "”");
            if (!done) break;
            done = set_register(index, command.place, command.place, *number, static_cast<std::uint64_t>(command.value));
            break;
        }
        case Kind::fill:
        case Kind::load:
        case Kind::save:
        case Kind::search:
        case Kind::compare:
            done = memory_command(index, command, a);
            break;
        case Kind::put:
            done = must_stand();
            if (done && !command.state) return failure("the state is not worked out", "“" + command.text + "”", "name a recording that can be read");
            if (done) done = put(index, *command.state, a);
            break;
        case Kind::wait:
        case Kind::undo:
        case Kind::together:
        case Kind::apart:
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
        if (p.core == core && p.stops_at() && p.address == (pc & ~std::uint64_t{1})) return &p;
    // A server that has several cores stops all of them there.
    for (Point& p : points_)
        if (of_one_server(p.core, core) && p.stops_at() && p.address == (pc & ~std::uint64_t{1})) return &p;
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
        if (auto set = core.server->set_point(here->type, here->address, here->length); !set) return tl::make_unexpected(set.error());
    if (!stepped) return tl::make_unexpected(stepped.error());
    return {};
}

Result<void> Hand::go(Core& core) {
    if (core.server->running()) return {};
    const auto index = static_cast<std::size_t>(&core - cores_.data());
    for (std::size_t c = 0; c < cores_.size(); ++c) {
        if (!of_one_server(c, index)) continue;
        const auto pc = cores_[c].server->pc();
        if (!pc) return tl::make_unexpected(pc.error());
        if (point_at(c, *pc) != nullptr)
            if (auto past = step(cores_[c]); !past) return past;
    }
    return core.server->resume();
}

Result<bool> Hand::stays(std::size_t core, const DebugStop& stop, HandAnswer& a) {
    const auto began = Steady::now();
    const auto pc = cores_[core].server->pc();
    if (!pc) return tl::make_unexpected(pc.error());
    Point* hit = point_at(core, *pc);
    if (hit != nullptr && hit->core != core && stop.why != DebugStop::Why::watchpoint) {  // meant for another core
        if (auto on = go(cores_[core]); !on) return tl::make_unexpected(on.error());
        return false;
    }
    if (stop.why == DebugStop::Why::watchpoint)
        for (Point& p : points_)
            if (p.core == core && !p.stops_at() &&
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

Result<std::vector<HandAnswer>> Hand::wait(const std::vector<std::size_t>& cores, double seconds) {
    const auto until = Steady::now() + std::chrono::duration_cast<Steady::duration>(std::chrono::duration<double>(seconds));
    std::vector<HandAnswer> answers(cores.size());
    bool late = false;
    const auto runs = [this](std::size_t c) { return cores_[c].server->running(); };
    while (!late && std::any_of(cores.begin(), cores.end(), runs)) {
        for (std::size_t i = 0; i < cores.size(); ++i) {
            if (!runs(cores[i])) continue;
            auto stop = cores_[cores[i]].server->wait(Milliseconds(cores.size() > 1 ? 2 : 20));
            if (!stop) return tl::make_unexpected(stop.error());
            if (!*stop) continue;
            const std::size_t who = who_stopped(cores[i], **stop);
            const auto its = std::find(cores.begin(), cores.end(), who);
            const auto there = stays(who, **stop, answers[its == cores.end() ? i : static_cast<std::size_t>(its - cores.begin())]);
            if (!there) return tl::make_unexpected(there.error());
            if (!*there) continue;
            tell_server_stood(who, cores, answers);
            std::vector<HandAnswer> others;
            if (auto ok = stop_others(who, others); !ok) return tl::make_unexpected(ok.error());
            for (HandAnswer& other : others)
                for (std::size_t o = 0; o < cores.size(); ++o)
                    if (cores_[cores[o]].spec.name == other.core) {
                        other.said = std::move(answers[o].said);
                        answers[o] = std::move(other);
                    }
        }
        late = Steady::now() >= until || given_up();
    }
    for (std::size_t i = 0; i < cores.size(); ++i) {
        answers[i].core = cores_[cores[i]].spec.name;
        if (runs(cores[i])) {
            answers[i].as_wanted = false;
            answers[i].reason = "it did not stop within " + duration_text(Time::from_ns(seconds * 1e9));
        }
        if (auto ok = stand(cores_[cores[i]], answers[i]); !ok) return tl::make_unexpected(ok.error());
    }
    return answers;
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
        if (auto set = core.server->set_point(DebugServer::Point::software, address, 2); !set) return tl::make_unexpected(set.error());
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
                const auto there = stays(who_stopped(index, **stop), **stop, a);
                if (!there) outcome = tl::make_unexpected(there.error());
                if (there && *there) a.as_wanted = false;
            }
        } else if (Steady::now() >= until || given_up()) {
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
        if (Steady::now() < until && !given_up()) continue;
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
        if (command.hardware) p.type = DebugServer::Point::hardware;
        if (point_at(index, p.address) != nullptr)
            return failure("there is a breakpoint at " + command.place + " already", "“" + command.text + "”", "clear takes all away");
    } else {
        if (command.length > 0) {
            p.address = command.address;
            p.length = static_cast<unsigned>(command.length);
        } else {
            const auto place = find_data(core.spec, command.place);
            if (!place) return tl::make_unexpected(place.error());
            p.address = place->address;
            p.length = static_cast<unsigned>(std::min<std::uint64_t>(place->size, HandCommand::kMostWatched));
        }
        p.type = command.on_read && command.on_write ? DebugServer::Point::access
                 : command.on_read                   ? DebugServer::Point::read
                                                     : DebugServer::Point::write;
    }
    // Most servers take no breakpoints while the core runs.
    const bool ran = core.server->running();
    if (ran)
        if (auto halted = core.server->halt(); !halted) return tl::make_unexpected(halted.error());
    const auto set = core.server->set_point(p.type, p.address, p.length);
    if (ran)
        if (auto on = go(core); !on) return on;
    if (!set) return tl::make_unexpected(set.error());
    p.type = *set;
    points_.push_back(std::move(p));
    return {};
}

Result<void> Hand::clear(std::size_t index, const std::string& place) {
    DebugServer& server = *cores_[index].server;
    const auto meant = [index, &place](const Point& p) { return p.core == index && (place.empty() || p.command.place == place); };
    if (std::none_of(points_.begin(), points_.end(), meant)) {
        if (place.empty()) return {};
        return failure("core '" + cores_[index].spec.name + "' has no breakpoint or watchpoint “" + place.substr(0, 100) + "”",
                       cores_[index].spec.name, "points lists those that are set");
    }
    const bool ran = server.running();
    if (ran)
        if (auto halted = server.halt(); !halted) return tl::make_unexpected(halted.error());
    for (const Point& p : points_)
        if (meant(p)) (void)server.clear_point(p.type, p.address, p.length);
    points_.erase(std::remove_if(points_.begin(), points_.end(), meant), points_.end());
    return ran ? server.resume() : Result<void>();
}

Result<std::pair<std::string, double>> Hand::value_of(Core& core, const std::string& expression) const {
    if (const auto number = core.server->register_named(expression)) {
        const auto value = core.server->read_register(*number);
        if (!value) return tl::make_unexpected(value.error());
        return std::pair(hex_text(*value, static_cast<int>((core.server->registers()[*number].bits + 3) / 4)), static_cast<double>(*value));
    }
    if (const auto local = local_of(core, expression)) {
        if (!*local) return tl::make_unexpected(local->error());
        const LocalValue& v = **local;
        const std::string text = v.text();
        if (!v.present) return failure("'" + expression + "' is not kept where the core stands");
        if (text.empty()) return failure("'" + expression + "' is not known where the core stands");
        const auto type = ValueType::named(v.place.type);
        return std::pair(text, type ? type->with(v.place.mask, v.place.shift).read(v.raw()).number() : 0.0);
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

Result<void> Hand::write(std::size_t index, const HandCommand& command) {
    Core& core = cores_[index];
    const auto local = local_of(core, command.place);
    if (local && !*local) return tl::make_unexpected(local->error());
    if (local && (*local)->in_register) {
        const auto type = ValueType::named((*local)->place.type);
        if (type && (type->sort() == ValueSort::real || type->sort() == ValueSort::small_real))
            return failure("'" + command.place + "' is no whole number", "“" + command.text + "”", "write the bits into the register that holds it");
        const std::string name = frame_register_name(isa_of(core.spec.isa).value_or(Isa::thumb), *(*local)->in_register);
        const auto number = register_of(core, name);
        if (!number) return failure("'" + command.place + "' is in a register that the server does not give", name);
        return set_register(index, command.place + " (" + name + ")", name, *number, static_cast<std::uint64_t>(command.value));
    }
    if (local && !(*local)->in_memory)
        return failure("'" + command.place + "' cannot be written where the core stands", "“" + command.text + "”",
                       (*local)->present ? "it is kept in pieces, or only worked out" : "it is not kept there: step on");
    const auto place = local ? Result<DataPlace>((*local)->place) : find_data(core.spec, command.place);
    if (!place) return tl::make_unexpected(place.error());
    const auto type = ValueType::named(place->type);
    if (!type || place->size > 8 || type->sort() == ValueSort::real || type->sort() == ValueSort::small_real)
        return failure("'" + command.place + "' is no whole number", "“" + command.text + "”", "name an element or a member of it");
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
    const auto before = value_of(core, command.place);
    if (!before) return tl::make_unexpected(before.error());
    if (auto ok = overwrite(index, command.place, place->address, all); !ok) return ok;
    const auto now = value_of(core, command.place);
    if (!now) return tl::make_unexpected(now.error());
    written_.push_back("core " + core.spec.name + ": " + command.place + " = " + now->first + ", was " + before->first);
    return {};
}

// Keeps what stood there, so that it can be taken back.
Result<void> Hand::overwrite(std::size_t index, const std::string& what, std::uint64_t address, std::span<const std::uint8_t> bytes) {
    Change change{index, what, std::nullopt, address, 0, std::vector<std::uint8_t>(bytes.size()), false};
    DebugServer& server = *cores_[index].server;
    if (auto read = server.read_memory(address, change.bytes); !read) return read;
    // Also where writing fails on the way: a part of it may stand there.
    changed_bytes_ += change.bytes.size();
    changes_.push_back(std::move(change));
    while (changed_bytes_ > kMostKept && changes_.size() > 1) {
        changed_bytes_ -= changes_.front().bytes.size();
        changes_.erase(changes_.begin());
    }
    return server.write_memory(address, bytes);
}

Result<void> Hand::undo() {
    if (changes_.empty()) return failure("nothing was changed that could be taken back", "undo");
    for (bool on = true; on && !changes_.empty();) {
        on = changes_.back().goes_on;
        if (auto one = undo_one(); !one) return one;
    }
    return {};
}

Result<void> Hand::undo_one() {
    const Change c = changes_.back();
    Core& core = cores_[c.core];
    if (c.number && core.server->running()) return failure("core '" + core.spec.name + "' runs", "undo", "halt it first");
    auto done = c.number ? core.server->write_register(*c.number, c.was) : core.server->write_memory(c.address, c.bytes);
    if (!done) return done;
    changed_bytes_ -= c.bytes.size();
    changes_.pop_back();
    written_.push_back("core " + core.spec.name + ": " + c.what + " as it was before");
    return {};
}

// x5 where the server calls it t0: RISC-V servers number them as the instruction set does.
std::optional<unsigned> Hand::register_of(const Core& core, const std::string& name) const {
    if (const auto number = core.server->register_named(name)) return number;
    if (core.spec.isa.rfind("rv", 0) != 0 || name.size() < 2 || (name[0] != 'x' && name[0] != 'f')) return std::nullopt;
    const unsigned n = static_cast<unsigned>(std::strtoul(name.c_str() + 1, nullptr, 10));
    if (n > 31) return std::nullopt;
    if (name[0] == 'x') return n;
    // As the calling convention names them: ft0 to ft7, fs0, fs1, fa0 to fa7, fs2 to fs11, ft8 to ft11.
    const auto called = [n](const char* as, unsigned first, unsigned from) { return as + std::to_string(n - first + from); };
    return core.server->register_named(n < 8    ? called("ft", 0, 0)
                                       : n < 10 ? called("fs", 8, 0)
                                       : n < 18 ? called("fa", 10, 0)
                                       : n < 28 ? called("fs", 18, 2)
                                                : called("ft", 28, 8));
}

Result<void> Hand::put(std::size_t index, const HandState& state, HandAnswer& a) {
    Core& core = cores_[index];
    const std::size_t before = changes_.size();
    const auto together = [&] {
        for (std::size_t i = before + 1; i < changes_.size(); ++i) changes_[i].goes_on = true;
    };
    std::uint64_t bytes = 0;
    for (const HandState::Range& r : state.memory) bytes += r.bytes.size();
    if (bytes > kMostKept)
        return failure("more memory is known than can be taken back", bytes_text(bytes), "at most " + bytes_text(kMostKept) + " are put there at once");
    auto registers = state.registers;
    registers.emplace_back("pc", state.pc);
    for (const HandState::Range& r : state.memory) {
        auto done = overwrite(index, hex_text(r.address, 8), r.address, r.bytes);
        together();
        if (!done) return done;
    }
    std::string missing;
    for (const auto& [name, value] : registers) {
        const auto number = register_of(core, name);
        if (!number) {
            missing += (missing.empty() ? "" : ", ") + name;
            continue;
        }
        const auto was = core.server->read_register(*number);
        if (!was) return tl::make_unexpected(was.error());
        changes_.push_back({index, name, *number, 0, *was, {}, false});
        together();
        if (auto done = core.server->write_register(*number, value); !done) return done;
    }
    written_.push_back("core " + core.spec.name + ": the state before instruction " + count_text(state.step) + ", " +
                       plural(registers.size(), "register", "registers") + " and " + bytes_text(bytes));
    a.reason = "as it was before instruction " + count_text(state.step);
    if (!state.unknown.empty() || state.unknown_bytes > 0) {
        a.reason += "; not known, and left as they were: ";
        for (std::size_t i = 0; i < state.unknown.size(); ++i) a.reason += (i > 0 ? ", " : "") + state.unknown[i];
        if (state.unknown_bytes > 0) a.reason += std::string(state.unknown.empty() ? "" : " and ") + bytes_text(state.unknown_bytes) + " of memory";
    }
    if (!missing.empty()) a.reason += "; this server has no " + missing;
    return {};
}

Result<void> Hand::memory_command(std::size_t index, const HandCommand& command, HandAnswer& a) {
    Core& core = cores_[index];
    DebugServer& server = *core.server;
    const GivenUp given_up = [this] { return this->given_up(); };
    const auto wrote = [&](const std::string& how, std::uint64_t bytes) {
        written_.push_back("core " + core.spec.name + ": " + bytes_text(bytes) + " from " + hex_text(command.address, 8) + " on " + how);
    };
    switch (command.kind) {
        case Kind::fill: {
            const std::vector<std::uint8_t> bytes(static_cast<std::size_t>(command.length), static_cast<std::uint8_t>(command.value));
            if (auto ok = overwrite(index, hex_text(command.address, 8), command.address, bytes); !ok) return ok;
            wrote("filled with " + hex_text(static_cast<std::uint64_t>(command.value), 2), bytes.size());
            return {};
        }
        case Kind::load: {
            const auto text = read_small_file(command.place, kMostLoaded, "bytes to load");
            if (!text) return tl::make_unexpected(text.error());
            const std::span bytes(reinterpret_cast<const std::uint8_t*>(text->data()), text->size());
            if (auto ok = overwrite(index, hex_text(command.address, 8), command.address, bytes); !ok) return ok;
            wrote("from " + command.place, bytes.size());
            return {};
        }
        case Kind::save:
            a.reason = bytes_text(command.length) + " saved as " + command.place;
            return save_memory(server, command.address, command.length, command.place, given_up);
        case Kind::search: {
            const auto found = search_memory(server, command.address, command.length, command.bytes, kMostFound, given_up);
            if (!found) return tl::make_unexpected(found.error());
            for (const std::uint64_t at : *found) {
                a.values.push_back({hex_text(at, 8), object_text(core.image.get(), at), {}});
            }
            a.as_wanted = !found->empty();
            a.reason = found->empty() ? "these bytes are not there" : "";
            return {};
        }
        case Kind::compare: {
            if (!core.image)
                return failure("core '" + core.spec.name + "' has no image to compare with", "“" + command.text + "”", "name its image in the target file");
            if (command.length == 0) {
                if (server.running()) return failure("core '" + core.spec.name + "' runs", "“" + command.text + "”", "halt it first");
                const auto check = check_image(server, *core.image);
                if (!check) return tl::make_unexpected(check.error());
                a.as_wanted = check->matches();
                a.reason = bytes_text(check->compared) + " compared, " +
                           (check->matches() ? "all as in the image"
                                             : bytes_text(check->different) + " not as in the image, the first at " + hex_text(check->first, 8));
                return {};
            }
            std::uint64_t compared = 0;
            const auto differences = compare_memory(server, *core.image, command.address, command.length, kMostFound, compared, given_up);
            if (!differences) return tl::make_unexpected(differences.error());
            for (const MemoryDifference& d : *differences) a.values.push_back({hex_text(d.address, 8), bytes_text(d.length) + " differ", {}});
            a.as_wanted = compared > 0 && differences->empty();
            a.reason = compared == 0 ? "the image puts nothing there" : bytes_text(compared) + " compared";
            return {};
        }
        default:
            return {};
    }
}

}  // namespace mt
