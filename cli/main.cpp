// mtrail: headless what the window does. See docs/user-guide.md, "Without a window".
#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <exception>

#include <CLI/CLI.hpp>

#include "base/near_names.h"
#include "base/plain_text.h"
#include "command.h"
#include "describe.h"
#include "output.h"

using namespace mt;
using namespace mt::cli;

// What a thread could not handle: said, and ended like anything else that could not be done.
[[noreturn]] void last_resort() {
    std::string why = "an error inside";
    try {
        if (const auto e = std::current_exception()) std::rethrow_exception(e);
    } catch (const std::bad_alloc&) {
        why = "not enough memory";
    } catch (const std::exception& e) {
        why = e.what();
    } catch (...) {
    }
    std::fprintf(stderr, "mtrail: %s: please report it with the file that was read\n", plain_text(why).c_str());
    std::_Exit(kCannot);
}

int main(int argc, char** argv) {
    std::set_terminate(last_resort);
    CLI::App app{"mtrail: decodes trace recordings and finds timing anomalies, without a window", "mtrail"};
    app.set_version_flag("--version", "mtrail 0.1.0");
    app.require_subcommand(1);
    Run run;
    for (const auto add :
         {add_identify, add_read, add_summary, add_packets, add_events, add_text, add_values, add_state, add_steps, add_stats,
          add_instances, add_interplay, add_find, add_judge, add_cover, add_compare, add_report, add_export, add_ring, add_record, add_units, add_control})
        add(app, run);
    std::string as;
    {  // for whoever packs it
        CLI::App& c = *app.add_subcommand("describe", "completion for a shell, or the manual page");
        c.group("");
        c.add_option("--as", as, "bash, zsh, fish or man")
            ->required()
            ->check(CLI::IsMember({"bash", "zsh", "fish", "man"}));
        c.callback([&] {
            run = [&app, &as] {
                const std::string text = as == "bash"   ? bash_completion(app)
                                         : as == "zsh"  ? zsh_completion(app)
                                         : as == "fish" ? fish_completion(app)
                                                        : manual_page(app, "");
                std::fwrite(text.data(), 1, text.size(), stdout);
                return kDone;
            };
        });
    }
    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& e) {
        if (e.get_exit_code() == 0) return app.exit(e);
        std::vector<std::string> commands;
        for (const CLI::App* c : app.get_subcommands({}))
            if (!c->get_group().empty()) commands.push_back(c->get_name());
        const std::string first = argc > 1 ? argv[1] : "";
        const bool known = std::find(commands.begin(), commands.end(), first) != commands.end();
        if (!known && !first.empty() && first.front() != '-')
            return fail({"no command '" + first + "'", "", near_names_text(first, commands, "")});
        return fail({e.what(), "", "try mtrail " + (known ? first + " " : "") + "--help"});
    }
    try {
        return run();
    } catch (const std::bad_alloc&) {
        return fail({"not enough memory", "", "close other programs, or decode a part of it"});
    } catch (const std::exception& e) {
        return fail(
            {std::string("this went wrong inside: ") + e.what(), "", "please report it with the file that was read"});
    }
}
