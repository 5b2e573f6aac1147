#include "recording/recording.h"

#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <filesystem>
#include <set>

#include <toml++/toml.h>

#include "base/packed.h"
#include "base/read_file.h"
#include "base/text.h"
#include "capture/folder.h"
#include "recording/port_packets.h"
#include "target/data_place.h"
#include "target/orti.h"
#include "target/toml_text.h"

namespace mt {
namespace fs = std::filesystem;
namespace {

bool isa_fits(const std::string& isa, const Image& image) {
    if (image.bare()) return true;
    const auto mine = isa_of(isa), built_for = isa_of(image.isa());
    if (mine && built_for && *mine != *built_for) return false;
    if (mine == Isa::a64) return image.machine() == Image::Machine::arm64;
    if (isa.starts_with("armv")) return image.machine() == Image::Machine::arm;
    if (isa.starts_with("rv")) return image.machine() == Image::Machine::riscv;
    return true;
}
// What it was built for, in words.
std::string built_for(const Image& image) {
    return image.isa().empty() ? std::string(image.machine_name()) : image.isa();
}

Doubt cut_image(const Image::Cut& cut, std::vector<Mend> mends) {
    return {"The image " + cut.file + " is cut off or damaged: by its headers it has " + bytes_text(cut.told) +
                ", but there are only " + bytes_text(cut.has) + ". Names, lines or code may be missing.",
            "Copy it again from where it was built.",
            std::move(mends)};
}

// Programs that processes of this core see beside its own image.
std::vector<ProcessImage> process_images(Recording& r, const CoreSpec& core) {
    std::vector<ProcessImage> all;
    for (const ProcessSpec& p : r.target.processes) {
        if (p.image.empty() || (!p.core.empty() && p.core != core.name)) continue;
        auto opened = Image::open(p.image, core.isa);
        if (opened && (*opened)->cut()) r.doubts.push_back(cut_image(*(*opened)->cut(), {}));
        if (opened && isa_fits(core.isa, **opened))
            all.push_back({p.context, *opened, p.name});
        else
            r.doubts.push_back({"The image of process " + p.name + " cannot be used (" +
                                    (opened ? "it is for " + built_for(**opened) : opened.error().what) + ", " + p.image +
                                    "): what it runs of its own is shown as gaps.",
                                "Correct image in its [[process]]."});
    }
    return all;
}

// Code of a process at an address where all see other code.
void doubt_overlaps(Recording& r, const CoreSpec& core, const Image& image, const std::vector<ProcessImage>& processes) {
    for (const ProcessImage& p : processes)
        for (const Image::Piece& own : p.image->code_pieces()) {
            const auto common = std::find_if(image.code_pieces().begin(), image.code_pieces().end(), [&](const Image::Piece& c) {
                return own.address < c.address + c.bytes.size() && c.address < own.address + own.bytes.size();
            });
            if (common == image.code_pieces().end() || Code::holds(*common, own)) continue;
            r.doubts.push_back({"The image of process " + p.name + " (" + p.image->path() + ") and that of core " +
                                    core.name + " have different code at " + hex_text(std::max(own.address, common->address), 8) +
                                    ": while the process has the core, its own counts there.",
                                "Name in its [[process]] the program alone, without the system it runs on, or the build that ran."});
            break;
        }
}

// What was doubted of the image of a core that could not be used, and what sets it right.
std::string why_no_image(const Recording& r, std::size_t core) {
    for (const Doubt& d : r.doubts)
        for (const Mend& m : d.mends)
            if (m.asks == Mend::Asks::nothing && m.changes.size() == 1 && m.changes[0].index == core && m.changes[0].key == "isa")
                return "is isa = " + m.changes[0].value + " rather than \"" + r.target.cores[core].isa + "\"? The image " +
                       r.target.cores[core].image + " is built for that";
    return "give the image that ran: " + r.target.cores[core].image + " cannot be used";
}

// Image and names of one core; what cannot be used becomes a doubt, never a failure.
void open_image(Recording& r, const CoreSpec& core) {
    std::shared_ptr<const Image> image;
    std::optional<SvdNames> svd;
    const std::size_t index = r.images.size();
    const Mend choose{"Choose the image…", {{"core", index, "image", ""}}, Mend::Asks::image};
    if (core.image.empty()) {
        r.doubts.push_back({"No image is given for core " + core.name + ": numbers stand in place of names.",
                            "Add image = \"….elf\" to its [[core]].",
                            {choose}});
    } else if (auto opened = Image::open(core.images(), core.isa); !opened) {
        r.doubts.push_back({"The image of core " + core.name + " cannot be used (" + opened.error().what + ", " +
                                opened.error().where + "): numbers stand in place of names.",
                            opened.error().advice,
                            {choose}});
    } else if (!isa_fits(core.isa, **opened)) {
        r.doubts.push_back({"The image " + core.image + " is for " + built_for(**opened) +
                                ", but core " + core.name + " is " + core.isa +
                                ": it is not used, numbers stand in place of names.",
                            "Give the image that runs on this core, or correct isa.",
                            {choose}});
        if (const std::string& isa = (*opened)->isa(); !isa.empty())
            r.doubts.back().mends.push_back({"Set isa to " + isa, {{"core", index, "isa", toml_quoted(isa)}}});
    } else {
        image = *opened;
        if (const auto at = image->overlap())
            r.doubts.push_back({"Two pieces of code in the images of core " + core.name + " stand at " +
                                    hex_text(*at, 8) + ": the one that begins first is taken to be there.",
                                "Give only the images that were in memory while this was recorded."});
        if (image->cut()) r.doubts.push_back(cut_image(*image->cut(), {choose}));
        if (image->bare())
            r.doubts.push_back({"The image " + core.image +
                                    " contains no symbols or debug information: numbers stand in place of names, and "
                                    "there is no source.",
                                "Give the ELF file that it was made from, if there is one.",
                                {choose}});
        else if (image->symbols().empty() && !image->cut())
            r.doubts.push_back({"The image " + core.image + " has no symbols: numbers stand in place of names.",
                                "Give the image before it was stripped.",
                                {choose}});
    }
    if (!core.svd.empty()) {
        if (auto read = read_svd(core.svd))
            svd = *read;
        else
            r.doubts.push_back({"The SVD file of core " + core.name + " cannot be used: " + read.error().what + " (" +
                                    read.error().where + ").",
                                read.error().advice});
    }
    r.exception_names.push_back(exception_names(image.get(), svd ? &*svd : nullptr));
    r.task_names.emplace_back();
    if (!core.orti.empty()) {
        if (auto read = read_orti(core.orti, image.get())) {
            r.task_names.back() = read->tasks;
            for (const auto& w : r.target.watches)
                if (w.role == "current-task" && !w.symbol.empty() && !read->running_task.empty() &&
                    read->running_task.find(w.symbol) == std::string::npos)
                    r.doubts.push_back({"The ORTI file names the running task by " + read->running_task +
                                            ", but comparator " + std::to_string(w.comparator) + " looks at " +
                                            w.symbol + ": names of tasks may be wrong.",
                                        "Let the comparator look at " + read->running_task + "."});
        } else {
            r.doubts.push_back({"The ORTI file of core " + core.name + " cannot be used: " + read.error().what + " (" +
                                    read.error().where + ").",
                                read.error().advice});
        }
    }
    const std::vector<ProcessImage>& processes = r.processes.emplace_back(process_images(r, core));
    std::vector<Code::Context> contexts;
    for (const ProcessImage& p : processes) contexts.push_back({p.context, p.image->code_pieces(), p.image.get()});
    if (image) doubt_overlaps(r, core, *image, processes);
    r.code.push_back(image && Code::can_follow(core.isa) ? Code::of(*image, contexts, core.isa) : nullptr);
    r.functions.push_back(r.code.back() ? FunctionTable::of(*image, *r.code.back(), processes) : nullptr);
    if (r.code.back() && r.code.back()->left_out() > 0)
        r.doubts.push_back({bytes_text(r.code.back()->left_out()) + " of the code in the image of core " + core.name +
                                " are left out: more than " + bytes_text(Code::kMostCode) + " cannot be followed.",
                            "Where the program goes there, a gap is shown."});
    const bool traced = std::any_of(r.target.streams.begin(), r.target.streams.end(), [&](const StreamSpec& stream) {
        return stream.core == core.name && tells_instructions(stream.protocol);
    });
    r.inlines.push_back(traced && r.code.back() ? InlineTable::of(*image, *r.code.back(), processes) : nullptr);
    r.images.push_back(std::move(image));
}

void add_core(Recording& r, const std::string& name, std::uint64_t clock_hz) {
    CoreSpec fresh;
    fresh.name = name;
    fresh.clock_hz = clock_hz;
    fresh.own_clock = false;
    r.target.cores.push_back(std::move(fresh));
    r.exception_names.emplace_back();
    r.task_names.emplace_back();
    r.code.push_back(nullptr);
    r.functions.push_back(nullptr);
    r.inlines.push_back(nullptr);
    r.images.push_back(nullptr);
    r.processes.emplace_back();
}

// What the image says about each watch whose type is not stated.
void resolve_watches(Recording& r) {
    for (WatchSpec& w : r.target.watches) {
        if (!w.type.empty() && !w.expression) continue;
        std::optional<DataPlace> place;
        std::optional<Problem> problem;
        for (const CoreSpec& core : r.target.cores) {
            auto found = find_data(core, w.symbol);
            if (found) {
                place = *found;
                break;
            }
            if (!problem || !core.image.empty()) problem = found.error();
        }
        const bool whole = place && place->type.empty(), stated = !w.type.empty();
        if (place && !whole) {
            w.mask = place->mask;
            w.shift = place->shift;
            if (w.expression) w.address = place->address;
            if (w.type.empty()) w.type = place->type;
            if (w.names.empty()) w.names = place->names;
        }
        if (w.type.empty()) w.type = "u32";
        if (whole && !stated)
            r.doubts.push_back({"Comparator " + std::to_string(w.comparator) + " watches '" + w.symbol + "', of " +
                                    bytes_text(place->size) + ": what is reported is read as u32.",
                                "Name an element or a member of it: its type comes from the image."});
        else if (!place && problem)
            r.doubts.push_back({"What comparator " + std::to_string(w.comparator) + " watches is not found: " +
                                    problem->what + (problem->where.empty() ? "" : " (" + problem->where + ")") +
                                    ". Its values are read as " + w.type + ".",
                                problem->advice});
    }
}

// A core for each processor of the trace: the stream's own for the first, those named core0, core1, … for the rest.
void place_cores(Recording& r, EventSource& source, const StreamSpec& spec) {
    std::set<std::uint64_t> cpus;
    for (const auto& f : source.files)
        for (const auto& p : f.packets) cpus.insert(p.cpu);
    for (const std::uint64_t cpu : cpus) {
        std::string name = "core" + std::to_string(cpu);
        if (cpu == *cpus.begin() && !spec.core.empty()) name = spec.core;
        std::size_t core = 0;
        while (core < r.target.cores.size() && r.target.cores[core].name != name) ++core;
        if (core == r.target.cores.size() && core >= 1024) {
            source.doubts.push_back("The trace claims more than 1024 processors: the rest is shown as the first.");
            break;
        }
        if (core == r.target.cores.size()) add_core(r, name, source.clock_hz);
        source.core_of_cpu[cpu] = static_cast<std::uint16_t>(core);
    }
}

// The mapping file in the usual place beside the data.
fs::path mapping_beside(const StreamSpec& spec) {
    return fs::path(spec.file).lexically_normal().string() + ".mapping.toml";
}

Result<void> open_events(Recording& r, std::size_t stream) {
    const StreamSpec& spec = r.target.streams[stream];
    EventPlace place = event_place(spec);
    const StreamJournal journal = read_journal(spec.file + ".journal");
    for (const auto& b : journal.breaks) place.breaks.push_back(b.offset);
    place.first = journal.first;
    place.inside = r.inside;
    auto source = open_event_source(place);
    if (!source) return tl::make_unexpected(source.error());
    (*source)->spec = stream;
    (*source)->journal = journal;
    if (spec.zero_ticks)
        (*source)->zero_ticks = *spec.zero_ticks;
    else if (journal.present)
        (*source)->zero_ticks = std::min<std::int64_t>(
            (*source)->zero_ticks,
            zero_at_arrival((*source)->files[0].packets[0], (*source)->clock_hz, journal.after_s));
    place_cores(r, **source, spec);
    for (const auto& d : (*source)->doubts) r.doubts.push_back({d, ""});
    if ((*source)->binding->known() == 0)
        r.doubts.push_back({"No event of the trace is known: all are shown as marks.",
                            "Write a mapping file that says what they mean, as docs/formats/mapping-file.md shows, and "
                            "name it in [stream.ctf] or put it at " +
                                mapping_beside(spec).string() + "."});
    r.events = *source;
    return {};
}

// Packets that come through a stimulus port are taken out of their stream first.
Result<void> open_port_events(Recording& r, const Recording::Stream& stream, const PortSpec& port) {
    auto tap = tap_port(r, stream, port.number);
    if (!tap) return tl::make_unexpected(tap.error());
    EventPlace place;
    place.data = (*tap)->path();
    place.metadata = port.metadata;
    place.recorder_hz = port.recorder_hz;
    place.breaks = (*tap)->breaks();
    Result<std::shared_ptr<EventSource>> source = failure("nothing was written to it", stream.path);
    if ((*tap)->bytes() > 0) source = open_event_source(place);
    if (!source) return tl::make_unexpected(source.error());
    EventSource& events = **source;
    events.files[0].path = stream.path + ", port " + std::to_string(port.number);
    events.spec = stream.spec;
    const CtfPacket& first = events.files[0].packets[0];
    events.zero_ticks = std::min<std::int64_t>(
        events.zero_ticks,
        zero_at_arrival(first, events.clock_hz, (*tap)->written_by(first.offset + first.bytes).seconds()));
    place_cores(r, events, r.target.streams[stream.spec]);
    for (const auto& d : events.doubts) r.doubts.push_back({d, ""});
    r.events = *source;
    return {};
}

Result<void> open_streams(Recording& r) {
    std::optional<Problem> missing;  // the first; fatal only if nothing else opens
    const auto leave_alone = [&](const StreamSpec& spec, Problem problem) {
        const auto index = static_cast<std::size_t>(&spec - r.target.streams.data());
        r.doubts.push_back({"The stream " + (spec.core.empty() ? "" : "of core " + spec.core + " ") + "(" +
                                std::string(protocol_title(spec.protocol)) + ") is left alone: " + problem.what + ", " + problem.where + ".",
                            problem.advice,
                            {{"Choose its file…", {{"stream", index, "file", ""}}, Mend::Asks::stream_file}}});
        if (!missing) missing = std::move(problem);
    };
    for (std::size_t i = 0; i < r.target.streams.size(); ++i) {
        const StreamSpec& spec = r.target.streams[i];
        const std::string where = r.target.path + ":" + std::to_string(spec.line);
        const bool steps = tells_instructions(spec.protocol);
        if (spec.file.empty()) {
            leave_alone(spec, {"no stream file is given", where, "add file = \"…\" to this [[stream]]"});
            continue;
        }
        if (spec.protocol == Protocol::ctf) {
            if (r.events) {
                r.doubts.push_back({"The stream at " + where + " is a second event trace; it is left alone.",
                                    "Give one ctf stream in a target file."});
                continue;
            }
            if (auto opened = open_events(r, i); !opened) leave_alone(spec, opened.error());
            continue;
        }
        std::vector<std::string> parts{spec.file};
        parts.insert(parts.end(), spec.more_files.begin(), spec.more_files.end());
        auto file = MappedFile::open(parts);
        if (!file) {
            leave_alone(spec, {"the stream " + file.error().what, file.error().where, "correct 'file' in " + where});
            continue;
        }
        if ((*file)->bytes().empty()) {
            if (spec.protocol == Protocol::console) continue;  // nothing was printed
            leave_alone(spec, {"the stream is empty", spec.file,
                               "record again; check that trace is enabled and the line is connected"});
            continue;
        }
        if (const std::string missing = (*file)->what_is_missing(); !missing.empty())
            r.doubts.push_back({spec.file + " " + missing + ".", "Copy it again from where it comes from."});
        if (spec.protocol == Protocol::samples) {
            r.sample_streams.push_back({i, 0, spec.file, *file, read_journal(spec.file + ".journal")});
            continue;
        }
        std::size_t core = 0;
        while (r.target.cores[core].name != spec.core) ++core;
        if (timed_by_recorder(spec.protocol)) {
            r.sample_streams.push_back({i, core, spec.file, *file, read_journal(spec.file + ".journal")});
            continue;
        }
        auto& list = steps ? r.step_streams : r.streams;
        if (std::any_of(list.begin(), list.end(), [&](const Recording::Stream& s) { return s.core == core; })) {
            r.doubts.push_back({"The stream at " + where + " is a second " +
                                    std::string(steps ? "instruction" : "ITM") + " stream of core " + spec.core +
                                    "; it is left alone.",
                                "Give each stream its own core."});
            continue;
        }
        if (steps && r.code[core] == nullptr)
            return failure("instruction trace cannot be followed without the image of core " + spec.core, where,
                           !r.target.cores[core].isa.empty() && !Code::can_follow(r.target.cores[core].isa)
                               ? "this version follows Armv6-M to Armv9-A and RISC-V, not " + r.target.cores[core].isa
                           : r.target.cores[core].image.empty()
                               ? "add image = \"….elf\" to its [[core]]"
                               : why_no_image(r, core));
        list.push_back({i, core, spec.file, *file, read_journal(spec.file + ".journal")});
    }
    for (const PortSpec& port : r.target.ports)
        for (std::size_t i = 0; port.kind == "ctf" && i < r.streams.size() && !r.events; ++i)
            if (auto opened = open_port_events(r, r.streams[i], port); !opened)
                r.doubts.push_back({"Port " + std::to_string(port.number) + " gives no event trace: " +
                                        opened.error().what + " (" + opened.error().where + ").",
                                    opened.error().advice});
    const bool nothing = r.streams.empty() && r.step_streams.empty() && !r.events && r.sample_streams.empty();
    if (nothing && missing) return tl::make_unexpected(*missing);
    if (nothing)
        return failure("nothing to decode: no stream of a known protocol", r.target.path,
                       "this version decodes itm, etm4, etm3, pft, etrace, ntrace, mtb, ctf, samples, polled and console");
    if (r.target.cores.empty()) add_core(r, "core", 0);  // what was measured belongs to none, but there is one
    return {};
}

// A recording folder may come from anywhere: what it names outside of itself is neither read nor, when it is saved,
// copied.
void stay_inside(Recording& r, const fs::path& folder) {
    const auto confine = [&](std::string& path, const std::string& what) {
        if (path.empty() || lies_inside(folder, path)) return;
        r.doubts.push_back({"The " + what + " " + path + " lies outside of the recording's folder: it is not read.",
                            "Copy it into the folder and name it there, if you trust where the recording comes from."});
        path.clear();
    };
    for (CoreSpec& c : r.target.cores) {
        confine(c.image, "image");
        for (std::string& more : c.more_images) confine(more, "image");
        std::erase(c.more_images, std::string());
        confine(c.svd, "SVD file");
        confine(c.orti, "ORTI file");
    }
    for (ProcessSpec& p : r.target.processes) confine(p.image, "image");
    for (StreamSpec& s : r.target.streams) {
        confine(s.file, "stream");
        for (std::string& more : s.more_files) confine(more, "stream");
        if (std::erase(s.more_files, std::string()) > 0) s.more_files.clear();
        confine(s.mapping, "mapping file");
        confine(s.metadata, "metadata");
        for (const char* beside : {".journal", ".metadata", ".mapping.toml"}) {
            std::string path = s.file.empty() ? std::string() : s.file + beside;
            confine(path, "file");
            if (path.empty()) s.file.clear();
        }
        std::string shared = s.file.empty() ? std::string() : (fs::path(s.file).parent_path() / "metadata").string();
        std::error_code ec;
        if (fs::is_regular_file(shared, ec)) confine(shared, "metadata");
        if (shared.empty()) s.file.clear();
    }
    for (PortSpec& p : r.target.ports) confine(p.metadata, "metadata");
    for (SignalsSpec& s : r.target.beside) confine(s.file, "file of signals");
    std::erase_if(r.target.beside, [](const SignalsSpec& s) { return s.file.empty(); });
}

// `inside`: a recording folder whose paths may not lead out of it; empty if a person gave the target file.
Result<std::shared_ptr<const Recording>> open_target(const std::string& target_path, const std::string& input,
                                                     const std::optional<std::string>& draft,
                                                     const std::string& inside = {}) {
    auto r = open_without_streams(target_path, inside, draft);
    if (!r) return tl::make_unexpected(r.error());
    (*r)->input = input;
    (*r)->inside = inside;
    if (auto opened = open_streams(**r); !opened) return tl::make_unexpected(opened.error());
    return std::shared_ptr<const Recording>(std::move(*r));
}

// The folder of a trace, without any target file.
Result<std::shared_ptr<const Recording>> open_trace_folder(const std::string& folder) {
    auto r = std::make_shared<Recording>();
    r->input = folder;
    StreamSpec spec;
    spec.protocol = Protocol::ctf;
    spec.file = folder;
    r->target.streams.push_back(spec);
    fs::path name = fs::absolute(fs::path(folder)).lexically_normal();
    if (!name.has_filename()) name = name.parent_path();
    r->target.name = name.filename() == "trace" ? name.parent_path().filename().string() : name.filename().string();
    r->title = r->target.name;
    if (auto opened = open_events(*r, 0); !opened) return tl::make_unexpected(opened.error());
    return std::shared_ptr<const Recording>(std::move(r));
}

// The whole recording as it is, for a folder of its own.
Result<void> write_folder(const Recording& r, const fs::path& folder, Progress& progress) {
    FolderContents contents;
    contents.title = r.title;
    for (const auto& s : r.target.streams)
        if (!s.file.empty()) {
            contents.streams.push_back(s.file);
            contents.streams.insert(contents.streams.end(), s.more_files.begin(), s.more_files.end());
        }
    return write_recording_folder(r.target, contents, folder.string(), progress);
}

}  // namespace

std::optional<SourceLine> Recording::line_of(std::size_t core, std::uint32_t slot) const {
    const Code& of = *code[core];
    if (slot == Code::kNowhere || slot >= of.slot_count()) return std::nullopt;
    const std::uint64_t address = of.address(slot);
    if (const auto context = of.context(slot)) {
        for (const ProcessImage& p : processes[core])
            if (p.context == *context) return p.image->line_at(address);
        return std::nullopt;
    }
    return images[core] ? images[core]->line_at(address) : std::nullopt;
}

Result<std::vector<std::uint32_t>> Recording::slots_of(std::size_t core, const std::string& place) const {
    std::vector<std::uint32_t> slots;
    const Code& of = *code[core];
    const auto take = [&slots](std::uint32_t slot) {
        if (slot != Code::kNowhere && std::find(slots.begin(), slots.end(), slot) == slots.end()) slots.push_back(slot);
    };
    const auto address = images[core]->address_of(place);
    if (address) take(of.slot_of(*address));
    for (const ProcessImage& p : processes[core])
        if (const auto there = p.image->address_of(place)) take(p.slot_of(of, *there));
    if (!slots.empty()) return slots;
    if (!address) return tl::make_unexpected(address.error());
    return failure("there is no code at " + hex_text(*address), "", "name code, not data");
}

std::shared_ptr<const SourceMap> Recording::source_map(std::size_t core, const Code& of) const {
    return SourceMap::of(*images[core], of, core < processes.size() ? std::span<const ProcessImage>(processes[core]) : std::span<const ProcessImage>());
}

std::string Recording::exception_name(std::size_t core, unsigned number) const {
    if (number == 0) return std::string(outside_handlers_name(is_m_profile(target.cores[core].isa)));
    const auto found = exception_names[core].find(number);
    return found != exception_names[core].end() && number >= 16 ? found->second
                                                                : architectural_exception_name(ExceptionId::of(number));
}

Result<std::shared_ptr<Recording>> open_without_streams(const std::string& target_path, const std::string& inside,
                                                        const std::optional<std::string>& draft) {
    auto target = draft ? parse_target_file(*draft, target_path) : read_target_file(target_path);
    if (!target) return tl::make_unexpected(target.error());
    auto r = std::make_shared<Recording>();
    r->input = target_path;
    r->target = std::move(*target);
    r->title = r->target.name;
    for (const auto& w : r->target.warnings) r->doubts.push_back({w, "Check its spelling."});
    if (!inside.empty()) stay_inside(*r, inside);
    for (const auto& core : r->target.cores) open_image(*r, core);
    resolve_watches(*r);
    return r;
}

EventPlace event_place(const StreamSpec& spec) {
    EventPlace place;
    place.data = spec.file;
    place.metadata = spec.metadata;
    place.mapping = spec.mapping;
    place.recorder_hz = spec.recorder_hz;
    std::error_code ec;
    if (place.mapping.empty() && fs::is_regular_file(mapping_beside(spec), ec))
        place.mapping = mapping_beside(spec).string();
    return place;
}

Result<void> follow_events(Recording& recording, std::size_t stream, const std::string& path, const PortSpec* port) {
    StreamSpec spec = recording.target.streams[stream];
    spec.file = path;
    EventPlace place;
    if (port == nullptr) {
        place = event_place(spec);
    } else {
        place.data = path;
        place.metadata = port->metadata;
        place.recorder_hz = port->recorder_hz;
        spec.zero_ticks.reset();
    }
    auto source = follow_event_source(place);
    if (!source) return tl::make_unexpected(source.error());
    (*source)->spec = stream;
    (*source)->zero_ticks = spec.zero_ticks.value_or(EventSource::kNoZero);
    if (recording.target.cores.empty()) add_core(recording, "core0", (*source)->clock_hz);
    // Which processors will speak is not known yet: those that have a core of their own are shown there.
    for (std::size_t c = 0; c < recording.target.cores.size(); ++c) {
        const std::string& name = recording.target.cores[c].name;
        if (name == spec.core) (*source)->other_core = static_cast<std::uint16_t>(c);
        if (name.rfind("core", 0) == 0 && name.size() > 4 && name.size() < 8 &&
            name.find_first_not_of("0123456789", 4) == std::string::npos)
            (*source)->core_of_cpu[std::stoul(name.substr(4))] = static_cast<std::uint16_t>(c);
    }
    recording.live_events = *source;
    recording.events = *source;
    return {};
}

namespace {

// What can be opened in a folder that was unpacked: a recording, the folder of a trace, or a target file.
std::string recording_in(const std::string& folder) {
    std::error_code ec;
    std::string target;
    const auto look = [&](const fs::path& p) {
        return fs::exists(p / kRecordingManifest, ec) || is_ctf_folder(p.string());
    };
    if (look(folder)) return folder;
    std::size_t looked_at = 0;
    for (auto it = fs::recursive_directory_iterator(folder, ec); !ec && it != fs::recursive_directory_iterator();
         it.increment(ec)) {
        if (++looked_at > 100'000) break;
        if (it->is_directory(ec) && look(it->path())) return it->path().string();
        if (target.empty() && it->path().filename().string().ends_with(".target.toml")) target = it->path().string();
    }
    return target;
}

Result<std::shared_ptr<const Recording>> open_packed(const std::string& path, const std::optional<std::string>& draft) {
    auto folder = unpack_tar(path);
    if (!folder) return tl::make_unexpected(folder.error());
    auto place = std::make_shared<const ScratchFolder>(std::move(*folder));
    const std::string inner = recording_in(place->path());
    if (inner.empty())
        return failure("an archive in which no recording is found", path,
                       "it should hold a *.mtrail folder, a *.target.toml, or the folder of a CTF trace");
    auto opened =
        inner.ends_with(".target.toml") ? open_target(inner, path, draft, place->path()) : open_recording(inner, draft);
    if (!opened) return opened;
    auto r = std::make_shared<Recording>(**opened);
    r->input = path;
    if (r->title.empty() || r->target.path.empty()) r->title = fs::path(path).stem().stem().string();
    r->unpacked = std::move(place);
    return std::shared_ptr<const Recording>(std::move(r));
}

}  // namespace

Result<std::shared_ptr<const Recording>> open_recording(const std::string& path,
                                                        const std::optional<std::string>& draft) {
    std::error_code ec;
    if (fs::path(path).filename() == "metadata" && is_ctf_folder(fs::absolute(path).parent_path().string()))
        return open_recording(fs::absolute(path).parent_path().string());
    if (fs::path(path).filename() == kRecordingManifest &&
        fs::is_regular_file(path, ec))  // the manifest stands for its folder
        return open_recording(fs::absolute(path).parent_path().string(), draft);
    if (!fs::is_directory(path, ec)) {
        if (fs::path(path).extension() != ".toml" && is_tar(path)) return open_packed(path, draft);
        if (fs::path(path).extension() != ".toml" && fs::is_regular_file(path, ec))
            return failure("neither a target file nor a recording folder", path,
                           "give a *.target.toml that says how these bytes are to be read, or let mtrail identify find "
                           "it out");
        return open_target(path, path, draft);
    }
    const fs::path manifest_path = fs::path(path) / kRecordingManifest;
    if (!fs::exists(manifest_path, ec) && is_ctf_folder(path)) return open_trace_folder(path);
    if (!fs::exists(manifest_path, ec))
        return failure("not a recording folder: it holds no trail.toml", path,
                       "give a *.mtrail folder, a *.target.toml or the folder of a CTF trace");
    const auto text = read_small_file(manifest_path.string(), 1'000'000, "recording's manifest");
    if (!text) return tl::make_unexpected(text.error());
    const auto parsed = parse_toml(*text, manifest_path.string());
    if (!parsed)
        return failure(parsed.error().what, parsed.error().where,
                       "the folder may be damaged; the streams in it are still whole");
    const toml::table& manifest = *parsed;
    if (manifest["format"].value_or(std::string_view{}) != kRecordingFormat)
        return failure("of another format than " + std::string(kRecordingFormat), manifest_path.string(),
                       "open it with the version that wrote it");
    const fs::path target = fs::path(manifest["target"].value_or(std::string("recording.target.toml")));
    if (target.is_absolute() || target.has_parent_path())
        return failure("key 'target' points out of the folder", manifest_path.string(),
                       "it must name a file in the folder");
    if (!lies_inside(path, fs::path(path) / target))
        return failure("key 'target' points out of the folder", manifest_path.string(),
                       "it must name a file in the folder");
    return open_target((fs::path(path) / target).string(), path, draft, path);
}

Result<void> save_recording(const Recording& recording, const std::string& folder, bool replace, Progress& progress) {
    std::error_code ec;
    fs::path place = fs::absolute(fs::path(folder)).lexically_normal();
    if (!place.has_filename()) place = place.parent_path();
    const bool exists = fs::exists(place, ec);
    if (exists && !replace)
        return failure("exists already", place.string(), "choose another name, or say that it may be replaced");
    std::optional<FolderLock> old_one;
    if (exists) {
        auto lock = FolderLock::take(place.string());
        if (!lock) return tl::make_unexpected(lock.error());
        old_one = std::move(*lock);
    }
    const fs::path fresh = place.parent_path() / (place.filename().string() + ".part-" + std::to_string(::getpid()));
    fs::remove_all(fresh, ec);
    auto written = write_folder(recording, fresh, progress);
    // What was saved opens again, as it did before; else it is not saved.
    if (written) {
        const auto again = open_recording(fresh.string());
        const auto streams = [](const Recording& r) {
            return r.streams.size() + r.step_streams.size() + (r.events ? r.events->files.size() : 0);
        };
        if (!again)
            written = failure("what was saved does not open: " + again.error().what, again.error().where,
                              again.error().advice);
        else if (streams(**again) != streams(recording))
            written = failure("what was saved holds " + plural(streams(**again), "stream", "streams") + " of " +
                                  std::to_string(streams(recording)),
                              place.string(), "nothing was changed there");
    }
    if (!written) {
        fs::remove_all(fresh, ec);
        return written;
    }
    const fs::path old = fs::path(fresh.string() + ".old");
    if (exists) fs::rename(place, old, ec);
    if (!ec) fs::rename(fresh, place, ec);
    if (ec) {
        std::error_code again;
        if (exists && !fs::exists(place, again)) fs::rename(old, place, again);
        fs::remove_all(fresh, again);
        return failure("cannot put the recording in place: " + ec.message(), place.string(), "check permissions");
    }
    fs::remove_all(old, ec);
    return {};
}

}  // namespace mt
