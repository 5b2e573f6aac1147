#include "share/cover_tables.h"

#include <algorithm>
#include <iomanip>
#include <map>
#include <ostream>
#include <sstream>

#include "base/text.h"
#include "share/aligned_text.h"
#include "share/tables.h"

namespace mt {
namespace {

std::string percent(std::uint64_t part, std::uint64_t whole) {
    if (whole == 0) return "–";
    std::ostringstream s;
    // Never "100.0 %" where something is missing.
    const double share = 100.0 * static_cast<double>(part) / static_cast<double>(whole);
    s << std::fixed << std::setprecision(1) << (part < whole ? std::min(share, 99.9) : share) << " %";
    return s.str();
}

bool takes_name(const std::vector<std::string>& names, const std::string& name) {
    return std::find(names.begin(), names.end(), name) != names.end();
}
bool takes_path(const std::vector<std::string>& names, const std::string& path) {
    return std::any_of(names.begin(), names.end(), [&](const std::string& n) {
        if (n.size() > path.size() || path.compare(path.size() - n.size(), n.size(), n) != 0) return false;
        return n.size() == path.size() || path[path.size() - n.size() - 1] == '/';
    });
}

nlohmann::ordered_json sums_json(const CoverSums& s) {
    return {{"functions", s.functions},
            {"functions_run", s.functions_run},
            {"lines", s.lines},
            {"lines_run", s.lines_run},
            {"instructions", s.instructions},
            {"instructions_run", s.instructions_run},
            {"branches", s.branches},
            {"branches_taken", s.branches_taken},
            {"branches_not_taken", s.branches_not_taken},
            {"branches_both", s.branches_both}};
}

std::optional<CoverBranch> branch_at(const Coverage& of, std::uint32_t slot) {
    const Code::Slot& s = (*of.code)[slot];
    if (!decides(s.flow, s.flags) || (!of.map->is_instruction(slot) && of.counts.executions[slot] == 0))
        return std::nullopt;
    return CoverBranch{slot, of.counts.executions[slot], of.counts.taken[slot], of.counts.undecided[slot]};
}

}  // namespace

bool CoverChoice::takes(const CoverFunction& f) const {
    return names.empty() || takes_name(names, f.name) || takes_path(names, f.file);
}
bool CoverChoice::takes(const CoverFile& f) const { return names.empty() || takes_path(names, f.name); }

void write_cover_csv(const std::vector<CoverOfCore>& all, const CoverChoice& choice, std::ostream& out) {
    const bool cores = all.size() > 1;
    out << "function,file,line,lines,lines_run,instructions,instructions_run,branches,branches_taken,"
           "branches_not_taken,branches_both,calls"
        << (cores ? ",core\n" : "\n");
    for (const CoverOfCore& c : all)
        for (const CoverFunction& f : c.coverage.functions) {
            if (!choice.takes(f)) continue;
            out << csv_field(f.name) << ',' << csv_field(f.file) << ',' << (f.line > 0 ? std::to_string(f.line) : "")
                << ',' << f.sums.lines << ',' << f.sums.lines_run << ',' << f.sums.instructions << ','
                << f.sums.instructions_run << ',' << f.sums.branches << ',' << f.sums.branches_taken << ','
                << f.sums.branches_not_taken << ',' << f.sums.branches_both << ',' << f.calls;
            if (cores) out << ',' << csv_field(c.core);
            out << '\n';
        }
}

void write_cover_instructions_csv(const std::vector<CoverOfCore>& all, const CoverChoice& choice, std::ostream& out) {
    const bool cores = all.size() > 1;
    out << "address,function,file,line,count,taken,not_taken" << (cores ? ",core\n" : "\n");
    for (const CoverOfCore& c : all) {
        const Coverage& of = c.coverage;
        std::vector<bool> chosen(of.table->size(), choice.empty());
        for (const CoverFunction& f : of.functions) chosen[f.function] = choice.takes(f);
        for (std::uint32_t slot = 1; slot < of.code->slot_count(); ++slot) {
            const std::uint64_t n = of.counts.executions[slot];
            if (!of.map->is_instruction(slot) && n == 0) continue;
            const std::uint32_t f = of.table->at(slot);
            if (!chosen[f]) continue;
            const SourceMap::Place place = of.map->at(slot);
            const bool known = place.file != SourceMap::kNone;
            out << hex_text(of.code->address(slot)) << ','
                << (f == of.table->nameless() ? "" : csv_field((*of.table)[f].name)) << ','
                << (known ? csv_field(cover_file_name(of.map->files()[place.file])) : "") << ','
                << (known ? std::to_string(place.line) : "") << ',' << n << ',';
            if (const auto b = branch_at(of, slot)) {
                out << b->taken << ',' << b->not_taken();
            } else {
                out << ',';
            }
            if (cores) out << ',' << csv_field(c.core);
            out << '\n';
        }
    }
}

std::string cover_folder_of(const std::string& file) {
    const std::size_t cut = file.rfind('/');
    return cut == std::string::npos ? "." : file.substr(0, std::max<std::size_t>(cut, 1));
}

std::map<std::string, CoverSums> cover_folders(const Coverage& coverage, const CoverChoice& choice) {
    std::map<std::string, CoverSums> all;
    for (const CoverFile& f : coverage.files)
        if (choice.takes(f)) all[cover_folder_of(f.name)].add(f.sums);
    return all;
}

nlohmann::ordered_json cover_json(const std::vector<CoverOfCore>& all, const CoverChoice& choice) {
    nlohmann::ordered_json cores = nlohmann::ordered_json::array();
    for (const CoverOfCore& c : all) {
        nlohmann::ordered_json functions = nlohmann::ordered_json::array(), files = nlohmann::ordered_json::array();
        for (const CoverFunction& f : c.coverage.functions) {
            if (!choice.takes(f)) continue;
            nlohmann::ordered_json row = {{"function", f.name},
                                          {"file", f.file},
                                          {"line", f.line},
                                          {"address", hex_text(f.address)},
                                          {"calls", f.calls}};
            row.update(sums_json(f.sums));
            nlohmann::ordered_json branches = nlohmann::ordered_json::array();
            for (std::uint32_t b = f.first; b < f.behind; ++b) {
                const CoverBranch& branch = c.coverage.branches[b];
                const SourceMap::Place place = c.coverage.map->at(branch.slot);
                branches.push_back({{"address", hex_text(c.coverage.code->address(branch.slot))},
                                    {"line", place.file == SourceMap::kNone ? nlohmann::ordered_json()
                                                                            : nlohmann::ordered_json(place.line)},
                                    {"in_it_block", (*c.coverage.code)[branch.slot].flow != Flow::branch},
                                    {"executions", branch.executions},
                                    {"taken", branch.taken},
                                    {"not_taken", branch.not_taken()},
                                    {"undecided", branch.undecided}});
            }
            row["branch"] = std::move(branches);
            functions.push_back(std::move(row));
        }
        for (const CoverFile& f : c.coverage.files) {
            if (!choice.takes(f)) continue;
            nlohmann::ordered_json lines = nlohmann::ordered_json::array();
            for (const CoverLine& l : f.lines) {
                nlohmann::ordered_json line = {{"line", l.line}, {"count", l.count}};
                if (l.merged) line["merged"] = true;
                if (l.branches > 0) {
                    line["branches"] = l.branches;
                    line["branches_both"] = l.branches_both;
                }
                lines.push_back(std::move(line));
            }
            nlohmann::ordered_json row = {{"file", f.name}};
            row.update(sums_json(f.sums));
            row["line"] = std::move(lines);
            files.push_back(std::move(row));
        }
        nlohmann::ordered_json folders = nlohmann::ordered_json::array();
        for (const auto& [name, sums] : cover_folders(c.coverage, choice)) {
            nlohmann::ordered_json row = {{"folder", name}};
            row.update(sums_json(sums));
            folders.push_back(std::move(row));
        }
        cores.push_back({{"core", c.core},
                         {"sums", sums_json(c.coverage.sums)},
                         {"functions", std::move(functions)},
                         {"files", std::move(files)},
                         {"folders", std::move(folders)}});
    }
    return {{"cores", std::move(cores)}};
}

std::string cover_text(const std::vector<CoverOfCore>& all, const CoverChoice& choice) {
    std::string text;
    for (const CoverOfCore& c : all) {
        const CoverSums& s = c.coverage.sums;
        if (all.size() > 1) text += c.core + ":\n";
        if (s.functions == 0) {
            text += "The image names no functions: --instructions lists what ran.\n";
            continue;
        }
        text += "instructions " + percent(s.instructions_run, s.instructions) + " of " + count_text(s.instructions) +
                ", lines " + percent(s.lines_run, s.lines) + " of " + count_text(s.lines) + ", branches both ways " +
                percent(s.branches_both, s.branches) + " of " + count_text(s.branches) + ", functions " +
                percent(s.functions_run, s.functions) + " of " + count_text(s.functions) + "\n\n";
        std::vector<std::vector<std::string>> rows{{"file", "lines", "run", "instructions", "run", "branches", "both"}};
        for (const CoverFile& f : c.coverage.files)
            if (choice.takes(f))
                rows.push_back({f.name, count_text(f.sums.lines), percent(f.sums.lines_run, f.sums.lines),
                                count_text(f.sums.instructions),
                                percent(f.sums.instructions_run, f.sums.instructions), count_text(f.sums.branches),
                                percent(f.sums.branches_both, f.sums.branches)});
        const auto folders = cover_folders(c.coverage, choice);
        for (auto f = folders.begin(); folders.size() > 1 && f != folders.end(); ++f)
            rows.push_back({f->first + "/", count_text(f->second.lines), percent(f->second.lines_run, f->second.lines),
                            count_text(f->second.instructions), percent(f->second.instructions_run, f->second.instructions),
                            count_text(f->second.branches), percent(f->second.branches_both, f->second.branches)});
        text += aligned_text(rows, {true, false, false, false, false, false, false});
        std::vector<std::vector<std::string>> never{{"never run", "file", "line", "instructions"}};
        for (const CoverFunction& f : c.coverage.functions)
            if (choice.takes(f) && f.sums.instructions_run == 0)
                never.push_back({f.name, f.file, std::to_string(f.line), count_text(f.sums.instructions)});
        if (never.size() > 1) text += "\n" + aligned_text(never, {true, true, false, false});
    }
    return text;
}

void write_lcov(const std::vector<CoverOfCore>& all, const CoverChoice& choice, std::ostream& out) {
    struct File {
        std::map<std::uint32_t, std::uint64_t> lines;
        struct Function {
            std::string name;
            std::uint32_t line;
            std::uint64_t calls;
        };
        std::vector<Function> functions;
        struct Branch {
            std::uint64_t executions, taken, not_taken;
        };
        std::map<std::uint32_t, std::vector<Branch>> branches;
    };
    std::map<std::string, File> files;
    for (const CoverOfCore& c : all) {
        const Coverage& of = c.coverage;
        for (const CoverFile& f : of.files) {
            if (f.lines.empty()) continue;
            File& file = files[f.name];
            for (const CoverLine& l : f.lines)
                if (choice.takes(f)) file.lines[l.line] += l.count;
        }
        for (const CoverFunction& f : of.functions) {
            if (f.file.empty() || !choice.takes(f)) continue;
            File& file = files[f.file];
            file.functions.push_back({f.name, f.line, f.calls});
            for (std::uint32_t slot = (*of.table)[f.function].entry; slot < (*of.table)[f.function].end; ++slot) {
                const SourceMap::Place place = of.map->at(slot);
                if (place.file == SourceMap::kNone) continue;
                File& where = files[cover_file_name(of.map->files()[place.file])];
                // Chosen functions bring their lines, wherever these stand.
                if (!choice.empty()) {
                    const CoverFile* whole = of.file(cover_file_name(of.map->files()[place.file]));
                    if (whole != nullptr)
                        for (const CoverLine& l : whole->lines)
                            if (l.line == place.line) where.lines.try_emplace(l.line, l.count);
                }
                if (const auto b = branch_at(of, slot))
                    where.branches[place.line].push_back({b->executions, b->taken, b->not_taken()});
            }
        }
    }
    out << "TN:\n";
    for (const auto& [name, file] : files) {
        if (file.lines.empty()) continue;
        out << "SF:" << name << '\n';
        std::size_t hit = 0;
        for (const auto& f : file.functions) out << "FN:" << f.line << ',' << f.name << '\n';
        for (const auto& f : file.functions) {
            out << "FNDA:" << f.calls << ',' << f.name << '\n';
            hit += f.calls > 0;
        }
        out << "FNF:" << file.functions.size() << "\nFNH:" << hit << '\n';
        std::size_t found = 0;
        hit = 0;
        for (const auto& [line, branches] : file.branches)
            for (std::size_t i = 0; i < branches.size(); ++i) {
                const auto& b = branches[i];
                found += 2;
                hit += static_cast<std::size_t>(b.taken > 0) + static_cast<std::size_t>(b.not_taken > 0);
                for (unsigned way = 0; way < 2; ++way) {
                    out << "BRDA:" << line << ',' << i << ',' << way << ',';
                    if (b.executions == 0)
                        out << "-\n";
                    else
                        out << (way == 0 ? b.taken : b.not_taken) << '\n';
                }
            }
        out << "BRF:" << found << "\nBRH:" << hit << '\n';
        hit = 0;
        for (const auto& [line, count] : file.lines) {
            out << "DA:" << line << ',' << count << '\n';
            hit += count > 0;
        }
        out << "LF:" << file.lines.size() << "\nLH:" << hit << "\nend_of_record\n";
    }
}

}  // namespace mt
