// Damages each recording many times and looks at what is then told: findings that are not true, true ones that are
// gone, and changes that nobody is told of. Prints a row for each protocol; ends with 1 if more than 3 of 100 inputs
// give a finding that is not true.
//   false-findings [--times N] [--seed N] [--show] TARGET…
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <functional>
#include <map>
#include <set>
#include <sstream>
#include <string>

#include "damage.h"
#include "judge/finding.h"
#include "pass/reading.h"
#include "replay/step_window.h"
#include "share/tables.h"

namespace {

using namespace mt;
namespace fs = std::filesystem;
using hostile::Damage;

struct Seen {
    std::multiset<std::string> findings;
    std::map<std::string, std::vector<std::pair<Time, Time>>> places;  ///< of each finding
    std::vector<std::pair<Time, Time>> marked;                         ///< gaps, and what is said to be unsure
    Time end;
    std::size_t content = 0;  ///< a fingerprint of what was decoded
    bool told = false;        ///< that something is missing or damaged
    std::int64_t steps = 0;   ///< executed instructions
};

std::string name_of(const Finding& f) {
    return std::string(finding_kind_name(f.kind)) + " " + (f.involved.empty() ? "" : f.involved[0].name);
}

// What is said of the recording itself is no false alarm: it was damaged.
bool about_the_recording(const Finding& f) {
    return f.kind == FindingKind::gap || f.kind == FindingKind::image_doubt || f.kind == FindingKind::disturbed_sample;
}

bool look(const std::string& target, Seen& seen, bool show = false, const Seen* whole = nullptr) {
    auto recording = open_recording(target);
    if (!recording) return false;
    Progress progress;
    auto trail = read_trail(**recording, progress);
    if (!trail) return false;
    const Trail& t = **trail;
    for (const Finding& f : find_all(**recording, t)) {
        if (about_the_recording(f)) continue;
        seen.findings.insert(name_of(f));
        seen.places[name_of(f)].emplace_back(f.begin, f.end);
        if (show && whole != nullptr && whole->findings.count(name_of(f)) == 0)
            std::printf("      %s | %s\n", f.title.c_str(), f.cause.c_str());
    }
    for (const GapList* list : {&t.gaps, &t.doubtful})
        for (std::size_t i = 0; i < list->size(); ++i) seen.marked.emplace_back((*list)[i].begin, (*list)[i].end);
    for (const TaskLane& lane : t.tasks.tasks)
        for (std::size_t i = 0; i < lane.doubtful.size(); ++i) seen.marked.push_back(lane.doubtful[i]);
    seen.end = t.end;
    std::uint64_t hash = 0xCBF2'9CE4'8422'2325u;
    const auto add = [&hash](std::uint64_t v) { hash = (hash ^ v) * 0x100'0000'01B3u; };
    for (const StepTrail& steps : t.steps) {
        seen.steps += static_cast<std::int64_t>(steps.steps);
        each_step_piece(**recording, steps, 0, [&](const StepPiece& p) {
            add(p.run.first);
            add(p.run.last);
            return true;
        });
        for (std::size_t i = 0; i < steps.gaps.size(); ++i) seen.told = seen.told || is_missing(steps.gaps[i].gap.kind);
        seen.told = seen.told || steps.bad_bytes > 0 || steps.contradictions > 0 || steps.times_back > 0;
    }
    for (const CoreTrail& core : t.cores)
        for (const ExceptionLane& lane : core.lanes)
            for (std::size_t i = 0; i < lane.size(); ++i) {
                add(lane.code());
                add(static_cast<std::uint64_t>(lane.begin(i).ps));
            }
    for (const TaskLane& lane : t.tasks.tasks)
        for (std::size_t i = 0; i < lane.stretches.size(); ++i) {
            add(static_cast<std::uint64_t>(lane.stretches[i].begin.ps));
            add(static_cast<std::uint64_t>(lane.stretches[i].state));
        }
    for (const StreamTrail& s : t.streams)
        for (const auto count : s.counts) add(count);
    seen.content = hash;
    seen.told = seen.told || !t.gaps.empty() || t.tasks.contradictions > 0;
    for (const StreamTrail& s : t.streams) seen.told = seen.told || s.bad_bytes > 0 || s.strays.size() > 0;
    for (const EventStream& s : t.tasks.streams)
        seen.told = seen.told || s.bad_bytes > 0 || s.damaged_packets > 0 || s.backwards > 0 || s.lost_packets > 0;
    for (const CoreTrail& core : t.cores) seen.told = seen.told || core.contradictions > 0;
    return true;
}

// Whether one of the places where this was found is neither lost nor marked as unsure in the damaged recording.
bool lay_elsewhere(const Seen& whole, const std::string& finding, const Seen& damaged) {
    const auto& places = whole.places.at(finding);
    return std::any_of(places.begin(), places.end(), [&](const auto& place) {
        return place.second < damaged.end &&
               std::none_of(damaged.marked.begin(), damaged.marked.end(),
                            [&](const auto& m) { return m.first <= place.second && place.first <= m.second; });
    });
}

std::vector<std::uint8_t> bytes_of(const fs::path& file) {
    std::ifstream in(file, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), {}};
}

struct Row {
    int inputs = 0, with_false = 0, lost_true = 0, lost_elsewhere = 0, silent = 0, refused = 0;
};

}  // namespace

int main(int argc, char** argv) {
    int times = 200;
    std::uint64_t seed = 1;
    bool show = false, only_survive = false;
    std::vector<std::string> targets;
    for (int i = 1; i < argc; ++i) {
        if (std::strcmp(argv[i], "--times") == 0 && i + 1 < argc)
            times = std::atoi(argv[++i]);
        else if (std::strcmp(argv[i], "--seed") == 0 && i + 1 < argc)
            seed = std::strtoull(argv[++i], nullptr, 10);
        else if (std::strcmp(argv[i], "--show") == 0)
            show = true;
        else if (std::strcmp(argv[i], "--survive") == 0)
            only_survive = true;
        else
            targets.push_back(argv[i]);
    }
    char scratch_name[] = "/tmp/mtrail-damage-XXXXXX";
    const fs::path scratch = ::mkdtemp(scratch_name);
    std::map<std::string, Row> rows;
    for (const std::string& target : targets) {
        Seen whole;
        if (!look(target, whole)) {
            std::printf("%s does not open\n", target.c_str());
            return 2;
        }
        // The recording with all paths made absolute, and the damaged stream in place of one of its own.
        const auto recording = *open_recording(target);
        const bool folder = recording->target.path.empty();
        std::vector<std::size_t> streams;
        for (std::size_t s = 0; s < recording->target.streams.size(); ++s)
            if (!recording->target.streams[s].file.empty()) streams.push_back(s);
        const fs::path data = recording->target.streams[streams[0]].file;
        const std::string protocol(protocol_title(recording->target.streams[streams[0]].protocol));
        std::vector<fs::path> files;
        if (fs::is_directory(data)) {
            for (const auto& e : fs::directory_iterator(data))
                if (e.path().filename() != "metadata") files.push_back(e.path());
            std::sort(files.begin(), files.end());
        } else {
            files.push_back(data);
        }
        Row row;
        for (int turn = 0; turn < times; ++turn) {
            std::mt19937_64 random(seed * 1'000'003 + static_cast<std::uint64_t>(turn));
            const auto how = static_cast<Damage>(turn % hostile::kDamages);
            const fs::path& file = files[static_cast<std::size_t>(turn) % files.size()];
            std::vector<std::uint8_t> bytes = bytes_of(file);
            hostile::damage(bytes, how, random);
            fs::path input;
            std::error_code ec;
            if (folder) {
                input = scratch / "trace";
                fs::remove_all(input, ec);
                fs::create_directories(input);
                for (const auto& e : fs::directory_iterator(data)) fs::copy_file(e.path(), input / e.path().filename());
                std::ofstream(input / file.filename(), std::ios::binary)
                    .write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
            } else {
                input = scratch / "x.target.toml";
                std::ofstream(scratch / "stream", std::ios::binary)
                    .write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
                std::ifstream in(recording->target.path);
                std::ofstream out(input);
                const fs::path home = fs::absolute(recording->target.path).parent_path();
                for (std::string line; std::getline(in, line);) {
                    const auto quote = line.find('"');
                    const std::string key = line.substr(0, line.find_first_of(" ="));
                    if (quote != std::string::npos && (key == "file" || key == "image" || key == "svd")) {
                        const fs::path path =
                            (home / line.substr(quote + 1, line.rfind('"') - quote - 1)).lexically_normal();
                        out << key << " = \""
                            << (key == "file" && path == fs::absolute(data).lexically_normal() ? scratch / "stream"
                                                                                               : path)
                                   .string()
                            << "\"\n";
                    } else {
                        out << line << "\n";
                    }
                }
            }
            Seen seen;
            ++row.inputs;
            if (!look(input.string(), seen)) {
                ++row.refused;
                continue;
            }
            bool untrue = false;
            for (const auto& f : seen.findings) untrue = untrue || whole.findings.count(f) == 0;
            bool gone = false, elsewhere = false;
            for (const auto& f : whole.findings) {
                if (seen.findings.count(f) > 0) continue;
                const bool far = lay_elsewhere(whole, f, seen);
                if (show && (!gone || far))
                    std::printf("    %s, turn %d, %s: gone%s: %s\n", target.c_str(), turn, hostile::damage_name(how),
                                far ? ", though it lay elsewhere" : "", f.c_str());
                gone = true;
                elsewhere = elsewhere || far;
            }
            row.lost_true += gone;
            row.lost_elsewhere += elsewhere;
            row.with_false += untrue;
            row.silent += !seen.told && seen.content != whole.content;
            if (show && (untrue || (!seen.told && seen.content != whole.content))) {
                std::printf("    %s, turn %d, %s%s, %+lld instructions\n", target.c_str(), turn,
                            hostile::damage_name(how), untrue ? "" : ": changed, and nothing is told",
                            static_cast<long long>(seen.steps - whole.steps));
                Seen again;
                if (untrue) look(input.string(), again, true, &whole);
            }
        }
        std::printf(
            "%-46s %-18s %4d inputs: %3d with a finding that is not true, %3d without a true one (%d that lay "
            "elsewhere), "
            "%3d changed silently, %d refused\n",
            fs::path(target).parent_path().filename().string().c_str(), protocol.c_str(), row.inputs, row.with_false,
            row.lost_true, row.lost_elsewhere, row.silent, row.refused);
        std::fflush(stdout);
        Row& sum = rows[protocol];
        sum.inputs += row.inputs;
        sum.with_false += row.with_false;
        sum.lost_true += row.lost_true;
        sum.lost_elsewhere += row.lost_elsewhere;
        sum.silent += row.silent;
        sum.refused += row.refused;
    }
    fs::remove_all(scratch);
    std::printf("\n%-20s %8s %10s %14s %14s %10s\n", "protocol", "inputs", "not true", "true one gone", "… elsewhere",
                "silent");
    bool bad = false;
    for (const auto& [protocol, r] : rows) {
        const auto share = [inputs = r.inputs](int k) { return 100.0 * k / std::max(1, inputs); };
        std::printf("%-20s %8d %8.1f %% %12.1f %% %10.1f %% %8.1f %%\n", protocol.c_str(), r.inputs,
                    share(r.with_false), share(r.lost_true), share(r.lost_elsewhere), share(r.silent));
        bad = bad || r.with_false * 100 >= 3 * r.inputs;
    }
    return bad && !only_survive ? 1 : 0;
}
