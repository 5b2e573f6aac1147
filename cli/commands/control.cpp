#include "command.h"

#include <iostream>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "base/plain_text.h"
#include "base/text.h"
#include "capture/recipe.h"
#include "control/hand.h"
#include "input.h"
#include "output.h"
#include "share/put_there.h"

namespace mt::cli {
namespace {

using Json = nlohmann::ordered_json;

struct ControlOptions {
    std::string recipe;
    std::vector<std::string> given, commands;
    bool allow_writing = false, json = false;
};

void write_answer(const HandAnswer& a, std::size_t cores) {
    const std::string indent = cores > 1 ? "  " : "";
    if (cores > 1) std::cout << a.core << ":\n";
    for (const std::string& said : a.said) std::cout << indent << plain_text(said) << "\n";
    std::size_t widest = 0;
    for (const auto& v : a.values) widest = std::max(widest, v.name.size());
    for (const auto& v : a.values)
        std::cout << indent << plain_text(v.name) << std::string(widest - v.name.size() + 2, ' ') << plain_text(v.text) << "\n";
    for (const auto& v : a.locals)
        std::cout << indent << std::string(2 * v.depth, ' ') << plain_text(v.name) << (v.depth == 0 ? " " : " = ") << plain_text(v.text) << "\n";
    if (!a.values.empty() || !a.locals.empty()) return;
    std::cout << indent;
    if (a.running)
        std::cout << "runs";
    else
        std::cout << "stands at " << hex_text(*a.pc, 8) << (a.place.empty() ? "" : " " + plain_text(a.place));
    std::cout << (a.reason.empty() ? "" : ": " + plain_text(a.reason)) << "\n";
}

Json answer_json(const HandCommand& command, const HandAnswer& a) {
    Json j = {{"command", command.text}, {"core", a.core}, {"running", a.running}, {"as_wanted", a.as_wanted}};
    if (a.pc) j["pc"] = hex_text(*a.pc, 8);
    if (!a.place.empty()) j["place"] = a.place;
    if (!a.reason.empty()) j["reason"] = a.reason;
    if (!a.said.empty()) j["said"] = a.said;
    if (!a.values.empty()) {
        j["values"] = Json::object();
        for (const auto& v : a.values) j["values"][v.name] = v.text;
    }
    if (!a.locals.empty()) {
        j["locals"] = Json::array();
        for (const auto& v : a.locals) {
            if (v.depth == 0) {
                j["locals"].push_back({{"function", v.name}, {"variables", Json::array()}});
                continue;
            }
            Json row = {{"name", v.name}, {"depth", v.depth - 1}, {"known", v.known}};
            if (v.known) row["text"] = v.text;
            j["locals"].back()["variables"].push_back(std::move(row));
        }
    }
    if (a.after_s >= 0) j["after_s"] = a.after_s;
    return j;
}

// What is known of the state that is to be put into the target.
Result<std::shared_ptr<const HandState>> state_to_put(const HandCommand& command) {
    auto opened = open_and_read(command.place);
    if (!opened) return tl::make_unexpected(opened.error());
    const auto steps = steps_of(*opened, command.core);
    if (!steps) return tl::make_unexpected(steps.error());
    if (command.address >= (*steps)->steps)
        return failure("there is no instruction " + std::to_string(command.address), command.place,
                       "they go from 0 to " + std::to_string((*steps)->steps - 1));
    auto states = PastStates::of(*opened->recording, **steps);
    if (!states) return tl::make_unexpected(states.error());
    Progress progress;
    const auto past = states->before(command.address, progress);
    if (!past) return failure("the state before instruction " + std::to_string(command.address) + " cannot be worked out", command.place);
    return std::make_shared<const HandState>(hand_state_of(*past));
}

int control(const ControlOptions& o) {
    std::vector<HandCommand> commands;
    for (const std::string& text : joined_hand_commands(o.commands)) {
        auto c = parse_hand_command(text);
        if (!c) return fail(c.error());
        if (c->kind == HandCommand::Kind::put && o.allow_writing) {
            auto state = state_to_put(*c);
            if (!state) return fail(state.error());
            c->state = std::move(*state);
        }
        commands.push_back(std::move(*c));
    }
    auto recipe = read_recipe(o.recipe, o.given, RecipeUse::reach);
    if (!recipe) return fail(recipe.error());
    for (const auto& w : recipe->warnings) say("mtrail: " + w);
    auto target = read_target_file(recipe->target);
    if (!target) return fail(target.error());
    const std::chrono::milliseconds patience(recipe->patience_ms);
    std::vector<Hand::Core> cores;
    std::vector<std::unique_ptr<DebugServer>> servers;
    for (const CoreSpec& spec : target->cores) {
        Hand::Core core;
        core.spec = spec;
        for (const auto& connect : recipe->connects) {
            if (connect.core != spec.name || connect.debug.empty()) continue;
            std::vector<DebugServer*> open;
            for (const auto& other : servers) open.push_back(other.get());
            auto server = DebugServer::connect(connect.debug, patience, connect.thread, open);
            if (!server) return fail(server.error());
            core.server = servers.emplace_back(std::move(*server)).get();
        }
        if (!spec.image.empty()) {
            auto image = Image::open(spec.images(), spec.isa);
            if (!image) return fail(image.error());
            core.image = std::move(*image);
        }
        cores.push_back(std::move(core));
    }
    if (std::none_of(cores.begin(), cores.end(), [](const Hand::Core& c) { return c.server != nullptr; }))
        return fail({"the recipe names no debug server", o.recipe, "add debug = \"HOST:PORT\" to a [[connect]]"});
    Hand hand(std::move(cores), {o.allow_writing, recipe->reset_command});
    Json all = Json::array();
    int worst = kDone;
    for (const HandCommand& command : commands) {
        const std::size_t before = hand.written().size();
        const auto answers = hand.run(command);
        if (!answers) {
            worst = fail(answers.error());
            break;
        }
        for (std::size_t i = before; i < hand.written().size(); ++i) say("written: " + hand.written()[i]);
        for (const HandAnswer& a : *answers) {
            if (o.json)
                all.push_back(answer_json(command, a));
            else
                write_answer(a, answers->size());
            if (!a.as_wanted) worst = std::max(worst, kBad);
        }
    }
    for (const auto& server : servers) server->leave(server->running());
    if (o.json) std::cout << all.dump(2, ' ', false, Json::error_handler_t::replace) << "\n";
    if (const auto [times, seconds] = hand.brief_halts(); times > 0)
        say("halted briefly " + plural(times, "time", "times") + " to look, for " + duration_text(Time::from_ns(seconds * 1e9)) + " in all");
    return worst;
}

}  // namespace

void add_control(CLI::App& app, Run& run) {
    const auto o = std::make_shared<ControlOptions>();
    CLI::App& c = *app.add_subcommand("control", "a target in hand: go, halt, step, break, watch, read, write, for scripts");
    c.add_option("--recipe", o->recipe, "the *.recipe.toml that says how to reach the target")->required();
    c.add_option("--set", o->given, "NAME=VALUE for a parameter of the recipe")->expected(1)->take_all();
    c.add_flag("--allow-writing", o->allow_writing, "variables and registers may be changed; each change is told");
    c.add_flag("--json", o->json, "as JSON");
    c.add_option("COMMAND", o->commands, "what to do, one after the other: break guide_task count 5 go wait; quotes keep one together")->required();
    std::string help = "Commands, each of one core (\"cop: halt\"; \"all: go\"; else the first with a debug server):\n";
    std::size_t widest = 0;
    for (const auto& [text, what] : hand_commands())
        if (text.size() < 30) widest = std::max(widest, text.size());
    for (const auto& [text, what] : hand_commands())
        help += "  " + text + (text.size() > widest ? "\n" + std::string(widest + 4, ' ') : std::string(widest - text.size() + 2, ' ')) + what + "\n";
    c.footer(help);
    c.callback([o, &run] { run = [o] { return control(*o); }; });
}

}  // namespace mt::cli
