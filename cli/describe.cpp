#include "describe.h"

#include <sstream>
#include <vector>

#include <CLI/CLI.hpp>

namespace mt::cli {
namespace {

struct Told {
    std::vector<std::string> names;  ///< "--csv", "-o"; empty: an argument by its place
    std::string place, words;
    bool takes_value = false;
};

std::vector<Told> options_of(const CLI::App& command) {
    std::vector<Told> all;
    for (const CLI::Option* o : command.get_options()) {
        Told t;
        for (const std::string& n : o->get_snames()) t.names.push_back("-" + n);
        for (const std::string& n : o->get_lnames()) t.names.push_back("--" + n);
        t.place = o->get_positional() ? o->get_name(true) : std::string();
        t.words = o->get_description();
        t.takes_value = o->get_expected_max() > 0;
        all.push_back(std::move(t));
    }
    return all;
}

std::vector<const CLI::App*> commands_of(const CLI::App& app) {
    std::vector<const CLI::App*> all;
    for (const CLI::App* c : app.get_subcommands([](const CLI::App* c) { return !c->get_group().empty(); }))
        all.push_back(c);
    return all;
}

// Within single quotes of a shell.
std::string quoted(const std::string& text) {
    std::string out = "'";
    for (const char c : text) out += c == '\'' ? std::string("'\\''") : std::string(1, c);
    return out + "'";
}

// Text of a manual page: nothing in it is a request.
std::string roff(const std::string& text) {
    std::string out;
    for (const char c : text) {
        if (c == '\\')
            out += "\\e";
        else if (c == '-')
            out += "\\-";
        else if (c == '\n')
            out += ' ';
        else if ((c == '.' || c == '\'') && out.empty())
            out += std::string("\\&") + c;
        else
            out += c;
    }
    return out;
}

}  // namespace

std::string bash_completion(const CLI::App& app) {
    std::ostringstream out;
    out << "# Completion of mtrail for bash.\n_mtrail() {\n    local word=${COMP_WORDS[COMP_CWORD]} "
           "command=${COMP_WORDS[1]}\n"
           "    COMPREPLY=()\n    if [ \"$COMP_CWORD\" -eq 1 ]; then\n        COMPREPLY=($(compgen -W '";
    for (const CLI::App* c : commands_of(app)) out << c->get_name() << ' ';
    out << "--help --version' -- \"$word\"))\n        return\n    fi\n    local options=\n    case $command in\n";
    for (const CLI::App* c : commands_of(app)) {
        out << "        " << c->get_name() << ") options='";
        for (const Told& o : options_of(*c))
            for (const std::string& n : o.names) out << n << ' ';
        out << "' ;;\n";
    }
    out << "    esac\n    case $word in\n        -*) COMPREPLY=($(compgen -W \"$options\" -- \"$word\")) ;;\n"
           "        *) COMPREPLY=($(compgen -f -- \"$word\")) ;;\n    esac\n}\ncomplete -o filenames -F _mtrail "
           "mtrail\n";
    return out.str();
}

std::string zsh_completion(const CLI::App& app) {
    std::ostringstream out;
    const auto plain = [](std::string text) {  // without what ends a description
        for (char& c : text)
            if (c == '[' || c == ']' || c == ':') c = ' ';
        return text;
    };
    out << "#compdef mtrail\n# Completion of mtrail for zsh.\n_mtrail() {\n    local -a commands=(\n";
    for (const CLI::App* c : commands_of(app))
        out << "        " << quoted(c->get_name() + ":" + plain(c->get_description())) << "\n";
    out << "    )\n    if (( CURRENT == 2 )); then\n        _describe command commands\n        return\n    fi\n    "
           "case $words[2] in\n";
    for (const CLI::App* c : commands_of(app)) {
        out << "        " << c->get_name() << ") _arguments";
        for (const Told& o : options_of(*c))
            for (const std::string& n : o.names)
                out << " \\\n            "
                    << quoted(n + "[" + plain(o.words) + "]" + (o.takes_value ? ":value:_files" : ""));
        out << " \\\n            '*:file:_files' ;;\n";
    }
    out << "    esac\n}\n_mtrail \"$@\"\n";
    return out.str();
}

std::string fish_completion(const CLI::App& app) {
    std::ostringstream out;
    out << "# Completion of mtrail for fish.\n";
    for (const CLI::App* c : commands_of(app)) {
        out << "complete -c mtrail -n __fish_use_subcommand -f -a " << c->get_name() << " -d "
            << quoted(c->get_description()) << "\n";
        for (const Told& o : options_of(*c)) {
            if (o.names.empty()) continue;
            out << "complete -c mtrail -n '__fish_seen_subcommand_from " << c->get_name() << "'";
            for (const std::string& n : o.names) out << (n.size() == 2 ? " -s " + n.substr(1) : " -l " + n.substr(2));
            if (o.takes_value) out << " -r";
            out << " -d " << quoted(o.words) << "\n";
        }
    }
    return out.str();
}

std::string manual_page(const CLI::App& app, const std::string& date) {
    std::ostringstream out;
    out << ".TH MTRAIL 1 \"" << date
        << "\" \"Mindful Trail\" \"User Commands\"\n.SH NAME\nmtrail \\- decodes trace recordings "
           "and finds timing anomalies, without a window\n.SH SYNOPSIS\n.B mtrail\n.I COMMAND\n[\n.I OPTIONS\n]\n"
           ".SH DESCRIPTION\nDoes headless what\n.BR mindful\\-trail (1)\ndoes in a window. Where INPUT stands, a "
           "target file "
           "(*.target.toml), a saved recording (*.mtrail) or the folder of a Common Trace Format trace is given. Times "
           "are "
           "nanoseconds from the start of the recording.\n.SH COMMANDS\n";
    for (const CLI::App* c : commands_of(app)) {
        out << ".SS " << c->get_name() << "\n" << roff(c->get_description()) << ".\n";
        for (const Told& o : options_of(*c)) {
            out << ".TP\n";
            std::string names;
            for (const std::string& n : o.names) names += (names.empty() ? "" : ", ") + n;
            if (names.empty()) names = o.place;
            out << ".B " << roff(names) << "\n" << roff(o.words) << ".\n";
        }
    }
    out << ".SH EXIT STATUS\n.TP\n.B 0\nDone.\n.TP\n.B 1\nThe verdict is bad: a finding of a kind that was asked for, "
           "a fault in a "
           "ring, bytes that are not identified for sure.\n.TP\n.B 2\nIt could not be done; standard error says what, "
           "where and "
           "what to do.\n.SH SEE ALSO\n.BR mindful\\-trail (1)\n";
    return out.str();
}

}  // namespace mt::cli
