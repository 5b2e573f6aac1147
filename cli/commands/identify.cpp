#include <filesystem>
#include <iomanip>
#include <ostream>
#include <sstream>

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>

#include "base/mapped_file.h"
#include "base/plain_text.h"
#include "base/text.h"
#include "command.h"
#include "identify/identify.h"
#include "identify/parts.h"
#include "output.h"

namespace mt::cli {
namespace {

struct IdentifyOptions {
    std::string input, image, isa, output;
    bool json = false, replace = false;
    std::size_t choice = 1;
};

std::string percent(double fit) {
    std::ostringstream s;
    s << std::fixed << std::setprecision(0) << fit * 100 << " %";
    return s.str();
}

void write_people(const Identified& found, std::ostream& out) {
    out << plain_text(found.verdict()) << "\n";
    for (std::size_t i = 0; i < found.guesses.size(); ++i) {
        const Guess& g = found.guesses[i];
        out << "\n"
            << i + 1 << ". " << g.name() << "  (fits to " << percent(g.fit) << ")\n   " << plain_text(g.why) << "\n";
        for (std::size_t k = 1; k < g.clocks.size() && k < 4; ++k)
            out << "   " << g.clocks[k].why << " at " << count_text(g.clocks[k].hz / 1'000) << " kHz\n";
        for (const std::string& q : g.questions) out << "   ? " << q << "\n";
    }
}

nlohmann::ordered_json as_json(const Identified& found, const std::vector<std::string>& files,
                               const std::string& image) {
    nlohmann::ordered_json all = nlohmann::ordered_json::array();
    for (const Guess& g : found.guesses) {
        nlohmann::ordered_json clocks = nlohmann::ordered_json::array();
        for (const ClockGuess& c : g.clocks) clocks.push_back({{"hz", c.hz}, {"why", c.why}});
        const bool itm = g.readable() && g.stream.protocol == Protocol::itm;
        all.push_back(
            {{"protocol", g.readable() ? std::string(protocol_name(g.stream.protocol)) : g.known_as},
             {"readable", g.readable()},
             {"framing", g.stream.framing == Framing::tpiu ? "tpiu" : "none"},
             {"trace_id", g.stream.framing == Framing::tpiu ? nlohmann::ordered_json(int{g.stream.trace_id})
                                                            : nlohmann::ordered_json()},
             {"isa", g.isa.empty() ? nlohmann::ordered_json() : nlohmann::ordered_json(g.isa)},
             {"timestamp_prescaler",
              itm ? nlohmann::ordered_json(g.stream.timestamp_prescaler) : nlohmann::ordered_json()},
             {"fit", g.fit},
             {"why", g.why},
             {"clocks", clocks},
             {"questions", g.questions},
             {"target", g.readable() ? nlohmann::ordered_json(target_text(
                                           g, files, image, std::filesystem::path(files.front()).stem().string()))
                                     : nlohmann::ordered_json()}});
    }
    return {{"verdict", found.verdict()}, {"sure", found.sure()}, {"guesses", all}};
}

int identify(const IdentifyOptions& o) {
    namespace fs = std::filesystem;
    const std::vector<std::string> files = parts_of_capture(o.input);
    auto file = MappedFile::open(files);
    if (!file) return fail(file.error());
    if (files.size() > 1)
        say("read together: " + std::to_string(files.size()) + " parts, " + files.front() + " to " + files.back());
    if (const std::string missing = (*file)->what_is_missing(); !missing.empty()) say(o.input + " " + missing);
    std::shared_ptr<const Image> image;
    if (!o.image.empty()) {
        auto opened = Image::open(o.image, o.isa);
        if (!opened) return fail(opened.error());
        image = std::move(*opened);
        if (image->bare() && o.isa.empty())
            say("the image holds bytes alone: say what it is for with --isa");
        else if (image->isa().empty() && o.isa.empty())
            say("the image is for " + std::string(image->machine_name()) +
                ", no target that is known here: it tells nothing about the trace");
    }
    const Progress progress;
    Identified found = mt::identify((*file)->bytes(), image, o.isa, progress);
    heed_name(found, o.input);
    if (!o.isa.empty() && !isa_of(o.isa))
        return fail(
            {"no instruction set '" + o.isa + "'", "", "docs/formats/target-file.md lists those that there are"});
    Inputs inputs;
    inputs.files = files;
    if (!o.image.empty()) inputs.files.push_back(o.image);
    if (o.output.empty() || o.json)
        return write_to(o.output, inputs, !o.json,
                        [&](std::ostream& out) {
                            if (o.json)
                                out << as_json(found, files, o.image).dump(2) << '\n';
                            else
                                write_people(found, out);
                        }) == kDone
                   ? found.sure() ? kDone : kBad
                   : kCannot;
    // A target file: paths as seen from where it will stand.
    if (found.guesses.size() < o.choice || !found.guesses[o.choice - 1].readable())
        return fail(
            {found.verdict(), o.input, "give the image as well (--image), or choose another guess (--choose N)"});
    std::error_code ec;
    if (!o.replace && fs::exists(o.output, ec))
        return fail({"exists already", o.output, "choose another name, or --replace"});
    const fs::path folder = o.output == "-" ? fs::path() : fs::absolute(o.output, ec).parent_path();
    const auto seen_from = [&](const std::string& path) {
        if (path.empty() || folder.empty()) return path;
        const fs::path near = fs::relative(path, folder, ec);
        return ec || near.empty() ? path : near.string();
    };
    std::vector<std::string> seen;
    for (const std::string& part : files) seen.push_back(seen_from(part));
    const std::string text =
        target_text(found.guesses[o.choice - 1], seen, seen_from(o.image), fs::path(o.input).stem().string());
    return write_to(o.output, inputs, false, [&](std::ostream& out) { out << text; });
}

}  // namespace

void add_identify(CLI::App& app, Run& run) {
    const auto o = std::make_shared<IdentifyOptions>();
    CLI::App& c =
        *app.add_subcommand("identify", "how a file of trace bytes is to be read: protocol, framing, settings");
    c.add_option("BYTES", o->input, "the file")->required();
    c.add_option("--image", o->image, "image that ran: ELF, Intel HEX or S-records");
    c.add_option("--isa", o->isa, "instruction set, in place of what the image says");
    c.add_flag("--json", o->json, "as JSON");
    c.add_option("-o", o->output, "write a target file for the first guess (with --json: what was found)");
    c.add_option("--choose", o->choice, "… for another guess, by its number")->check(CLI::PositiveNumber);
    c.add_flag("--replace", o->replace, "write it even if it exists");
    c.callback([o, &run] { run = [o] { return identify(*o); }; });
}

}  // namespace mt::cli
