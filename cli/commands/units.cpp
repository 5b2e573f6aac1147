#include "command.h"

#include <algorithm>
#include <iostream>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "base/overloaded.h"
#include "base/text.h"
#include "capture/unit_view.h"
#include "output.h"

namespace mt::cli {
namespace {

using Json = nlohmann::ordered_json;

struct UnitsOptions {
    std::string recipe, output;
    std::vector<std::string> given;
    bool plan = false, json = false;
};

Json facts(const std::vector<UnitFact>& list) {
    Json out = Json::object();
    for (const auto& f : list) std::visit([&](const auto& value) { out[f.key] = value; }, f.value);
    return out;
}

Json unit_json(const Unit& u) {
    Json out = {{"name", u.name},
                {"kind", unit_kind_name(u.kind)},
                {"address", hex_text(u.address)},
                {"part", hex_text(u.part, 3)},
                {"locked", u.locked},
                {"powered", u.powered},
                {"features", facts(u.features)},
                {"settings", facts(u.settings)},
                {"feeds", u.feeds}};
    if (!u.trouble.empty()) out["trouble"] = u.trouble;
    return out;
}

Json units_json(const std::vector<UnitView>& views) {
    Json cores = Json::array();
    for (const UnitView& v : views) {
        Json units = Json::array();
        for (const Unit& u : v.units.units) units.push_back(unit_json(u));
        Json core = {{"core", v.units.core}, {"units", units}, {"notes", v.units.notes}};
        if (v.unreadable) core["trouble"] = v.unreadable->text();
        cores.push_back(core);
    }
    return {{"cores", cores}};
}

Json plan_json(const std::vector<UnitView>& views) {
    Json all = Json::array();
    std::size_t cores = 0;
    for (const UnitView& v : views) cores += v.plan ? 1 : 0;
    for (const UnitView& v : views) {
        if (!v.plan) continue;
        for (const PlanStep& s : v.plan->steps) {
            if (s.waits) continue;
            Json one;
            if (views.size() > 1) one["core"] = s.core;
            one["unit"] = s.unit;
            one["register"] = s.reg;
            one["address"] = hex_text(s.address);
            one["value"] = hex_text(s.value);
            one["why"] = s.why;
            all.push_back(one);
        }
    }
    return all;
}

void write_units(const std::vector<UnitView>& views, std::ostream& out) {
    for (const UnitView& v : views) {
        out << "core " << v.units.core << "\n";
        if (v.unreadable) out << "  " << v.unreadable->text() << "\n";
        for (const Unit& u : v.units.units) {
            out << "  " << hex_text(u.address) << "  " << u.name << ": " << unit_kind_purpose(u.kind);
            if (u.locked) out << ", locked";
            out << "\n";
            if (!u.trouble.empty()) {
                out << "      " << u.trouble << "\n";
                continue;
            }
            for (const auto* list : {&u.features, &u.settings}) {
                std::string line = list == &u.features ? "      has" : "      set";
                const std::size_t empty = line.size();
                for (const auto& f : *list) {
                    std::string one = f.key + " " + fact_text(f.value);
                    std::replace(one.begin(), one.begin() + static_cast<std::ptrdiff_t>(f.key.size()), '_', ' ');
                    if (line.size() + one.size() > 108) {
                        out << line << ",\n";
                        line = "         ";
                    }
                    line += (line.size() <= empty                              ? " "
                             : line.find_last_not_of(' ') == std::string::npos ? " "
                                                                               : ", ") +
                            one;
                }
                if (line.size() > empty) out << line << "\n";
            }
            for (const auto& to : u.feeds) out << "      → " << to << "\n";
        }
        for (const auto& note : v.units.notes) out << "  note: " << note << "\n";
    }
}

void write_plan(const std::vector<UnitView>& views, std::ostream& out) {
    for (const UnitView& v : views) {
        if (!v.plan) continue;
        out << "core " << v.units.core << "\n";
        for (const PlanStep& s : v.plan->steps) {
            if (s.waits)
                out << "  " << hex_text(s.address) << "              " << s.unit << " " << s.reg << ": wait: " << s.why
                    << "\n";
            else
                out << "  " << hex_text(s.address) << " = " << hex_text(s.value) << "  " << s.unit << " " << s.reg
                    << ": " << s.why << "\n";
        }
        for (const auto& note : v.plan->notes) out << "  note: " << note << "\n";
    }
}

int units(const UnitsOptions& o) {
    auto recipe = read_recipe(o.recipe, o.given);
    if (!recipe) return fail(recipe.error());
    for (const auto& w : recipe->warnings) say("mtrail: " + w);
    if (o.plan && recipe->traces.empty())
        return fail({"the recipe asks for nothing", o.recipe, "add a [trace] that says what to trace"});
    auto target = read_target_file(recipe->target);
    if (!target) return fail(target.error());
    std::vector<std::shared_ptr<const Image>> images;
    for (const CoreSpec& core : target->cores) {
        images.emplace_back();
        if (core.image.empty()) continue;
        std::vector<std::string> files{core.image};
        files.insert(files.end(), core.more_images.begin(), core.more_images.end());
        auto image = Image::open(files, core.isa);
        if (!image) return fail(image.error());
        images.back() = std::move(*image);
    }
    auto views = view_units(*recipe, *target, images);
    if (!views) return fail(views.error());
    Inputs inputs;
    inputs.files = {o.recipe, recipe->target};
    const int written = write_to(o.output, inputs, !o.json, [&](std::ostream& out) {
        if (o.json)
            out << (o.plan ? plan_json(*views) : units_json(*views)).dump(2) << "\n";
        else if (o.plan)
            write_plan(*views, out);
        else
            write_units(*views, out);
    });
    if (written != kDone) return written;
    int worst = kDone;
    for (const UnitView& v : *views) {
        if (v.refused) worst = fail(*v.refused);
        const bool wanted = wish_for(*recipe, v.units.core) != nullptr;
        if (v.unreadable && (wanted || !o.plan)) worst = fail(*v.unreadable);
        if (o.plan && o.json && v.plan)
            for (const auto& note : v.plan->notes) say("note: " + note);
    }
    return worst;
}

}  // namespace

void add_units(CLI::App& app, Run& run) {
    const auto o = std::make_shared<UnitsOptions>();
    CLI::App& c =
        *app.add_subcommand("units", "the trace units of a target, how they are joined and set; changes nothing");
    c.add_option("--recipe", o->recipe, "the *.recipe.toml that says how to reach the target")->required();
    c.add_option("--set", o->given, "NAME=VALUE for a parameter of the recipe")->expected(1)->take_all();
    c.add_flag("--plan", o->plan, "what the recipe's [trace] would write, in place of the units");
    c.add_flag("--json", o->json, "as JSON");
    c.add_option("-o,--output", o->output, "file to write; - or nothing for standard output");
    c.callback([o, &run] { run = [o] { return units(*o); }; });
}

}  // namespace mt::cli
