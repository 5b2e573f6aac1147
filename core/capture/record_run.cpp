#include "capture/record_run.h"

#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <sstream>
#include <tuple>

#include "base/kept_file.h"
#include "base/read_file.h"
#include "base/text.h"
#include "capture/buffer_source.h"
#include "capture/folder.h"
#include "capture/console_source.h"
#include "capture/core_stand.h"
#include "capture/core_states.h"
#include "capture/poll_source.h"
#include "capture/ring.h"
#include "control/image_check.h"
#include "control/link.h"
#include "target/data_place.h"
#include "target/target_edit.h"

namespace mt {
namespace fs = std::filesystem;

namespace {
using Steady = std::chrono::steady_clock;
using Milliseconds = std::chrono::milliseconds;
double seconds_of(Steady::duration d) { return std::chrono::duration<double>(d).count(); }
Time time_of(double s) { return Time::from_ns(s * 1e9); }
}  // namespace

struct RecordRun::End {
    const Recipe::Connect* spec = nullptr;
    std::size_t core = 0;  ///< index into the target file's cores
    std::unique_ptr<DebugServer> server;
    bool server_lost = false;
    std::unique_ptr<Source> source;  ///< until the receiver takes it
    std::unique_ptr<Receiver> receiver;
    std::thread thread;  ///< reads a source that needs no debug server
    std::size_t stream = 0;
    std::optional<std::uint64_t> until, watch;
    DebugServer::Point watch_type = DebugServer::Point::write;
    unsigned watch_length = 4;
    Steady::time_point next_pump{};
    std::unique_ptr<ServerMemory> memory;
    std::unique_ptr<TraceProgram> program;  ///< what was set up for the trace
    CoreUnits units;
    BufferSource* buffer = nullptr;  ///< the receiver has it
    PollSource* poll = nullptr;      ///< the same
    ConsoleSource* console = nullptr;  ///< the same
    CoreStand stand;
    std::uint64_t memory_changes_at_begin = 0;
    bool changed_at_end = false;  ///< since it stood, before the recorder tidied up
    /// Whose bytes come here: a core, or a device of its own.
    std::string who() const {
        return !spec->core.empty() ? spec->core : !spec->device.empty() ? spec->device : std::string("probe");
    }
    bool own_thread() const { return spec->trace && spec->trace->kind <= SourceSpec::Kind::file; }
};

RecordRun::RecordRun(Recipe recipe, TargetFile target, std::vector<std::shared_ptr<const Image>> images,
                     std::string folder, bool replace)
    : recipe_(std::move(recipe)),
      target_(std::move(target)),
      given_(target_),
      images_(std::move(images)),
      folder_(std::move(folder)),
      replace_(replace) {
    constexpr const char* names[] = {"connect", "check image", "reset", "run to", "set up trace",
                                     "record",  "stop",        "save",  "judge"};
    for (const char* n : names) state_.stations.push_back({n, Station::Status::ahead, {}});
    const auto plan = [&](RunState::Step step, std::vector<std::string> lines, bool wanted) {
        state_.stations[step].lines = std::move(lines);
        if (!wanted) state_.stations[step].status = Station::Status::passed_over;
    };
    std::vector<std::string> ends;
    for (const auto& c : recipe_.connects) {
        if (!c.debug.empty()) ends.push_back("gdb " + c.debug);
        if (c.trace) ends.push_back(c.trace->text());
    }
    plan(RunState::connect, ends, true);
    plan(RunState::check_image, {recipe_.check_image ? "compare with memory" : "not asked for"}, recipe_.check_image);
    plan(RunState::reset, {recipe_.reset ? "all cores" : "not asked for"}, recipe_.reset);
    plan(RunState::run_to, {recipe_.run_to ? recipe_.run_to->where : "not asked for"}, recipe_.run_to.has_value());
    std::vector<std::string> wanted;
    for (const TraceWish& w : recipe_.traces) {
        std::string what;
        const auto say = [&what](const std::string& one) { what += (what.empty() ? "" : ", ") + one; };
        if (w.exceptions.value_or(false)) say("exceptions");
        if (w.pc_samples.value_or(0) > 0) say("samples");
        if (w.variables.size() == 1) say(w.variables[0].of);
        if (w.variables.size() > 1) say(std::to_string(w.variables.size()) + " variables");
        if (w.instructions) say("instructions");
        if (!what.empty()) wanted.push_back(what);
    }
    if (wanted.empty()) wanted.push_back(recipe_.traces.empty() ? "as the firmware does" : "as [trace] says");
    plan(RunState::set_trace, wanted, !recipe_.traces.empty());
    std::string how = recipe_.seconds ? duration_text(time_of(*recipe_.seconds))
                      : recipe_.bytes ? bytes_text(*recipe_.bytes)
                                      : "until stopped";
    if (recipe_.until)
        how += ", or " + recipe_.until->where +
               (recipe_.until->times > 1 ? " " + std::to_string(recipe_.until->times) + " times" : "");
    if (recipe_.watch) how += ", or " + recipe_.watch->symbol + (recipe_.watch->on_write ? " written" : " read");
    if (recipe_.mark)
        how += ", or mark " + std::to_string(recipe_.mark->value) + " on port " + std::to_string(recipe_.mark->port);
    plan(RunState::record,
         {how, recipe_.keep == Recipe::Keep::newest ? "keep the newest " + bytes_text(recipe_.limit_bytes)
                                                    : "keep the oldest"},
         true);
    plan(RunState::stop, {recipe_.leave == Recipe::Leave::halted ? "halt the cores" : "leave them running"}, true);
    plan(RunState::save, {fs::path(folder_).filename().string()}, true);
    plan(RunState::judge, {recipe_.judges() ? "findings" : "not asked for"}, recipe_.judges());
    state_.planned_s = recipe_.seconds;
    state_.planned_bytes = recipe_.bytes;
    state_.folder = folder_;
}

RecordRun::~RecordRun() {
    stop("the program ended");
    for (auto& e : ends_)
        if (e->thread.joinable()) e->thread.join();
}

void RecordRun::stop(const std::string& reason, bool keep) {
    const std::lock_guard guard(lock_);
    if (state_.stop_reason.empty()) state_.stop_reason = reason;
    if (!keep) keep_ = false;
    stop_asked_ = true;
    progress_.cancel();
}

void RecordRun::note(const std::string& text) {
    {
        const std::lock_guard guard(lock_);
        if (!state_.recording) return;
    }
    for (auto& e : ends_)
        if (e->receiver) e->receiver->note(text);
}

void RecordRun::request(const std::string& core, HandCommand::Kind kind) {
    HandCommand c;
    c.kind = kind;
    c.core = core;
    c.text = kind == HandCommand::Kind::halt ? "halt" : "go";
    ask(std::move(c));
}

void RecordRun::ask(HandCommand command, HandDone done) {
    const std::lock_guard guard(lock_);
    if (command.moves()) ++waiting_;
    requests_.emplace_back(std::move(command), std::move(done));
}

void RecordRun::begin_step(std::size_t step) {
    const std::lock_guard guard(lock_);
    state_.stations[step].status = Station::Status::now;
}

void RecordRun::end_step(std::size_t step, Station::Status status, std::vector<std::string> lines) {
    const std::lock_guard guard(lock_);
    state_.stations[step].status = status;
    if (!lines.empty()) state_.stations[step].lines = std::move(lines);
}

RunState RecordRun::state() const {
    RunState s;
    {
        const std::lock_guard guard(lock_);
        s = state_;
    }
    for (auto& stream : s.streams) {
        for (const auto& e : ends_)
            if (e->receiver && e->stream == stream.stream) stream.received = e->receiver->state();
        s.bytes += stream.received.bytes;
    }
    if (s.recording) {
        s.elapsed_s = seconds_of(Steady::now() - started_);
        std::error_code ec;
        const auto space = fs::space(folder_, ec);
        if (!ec) s.disk_free = space.available;
    }
    return s;
}

std::string RecordRun::place_text(const End& end, std::uint64_t pc) const {
    std::string text = hex_text(pc);
    if (const auto& image = images_[end.core]) {
        if (const Symbol* f = image->function_at(pc)) text = f->name;
        if (const auto line = image->line_at(pc))
            text += ", " + fs::path(line->file).filename().string() + ":" + std::to_string(line->line);
    }
    return text;
}

std::uint64_t RecordRun::changes() const {
    std::uint64_t all = lost_servers_;
    for (const auto& end : ends_) all += end->server ? end->server->changes() : 0;
    return all;
}

// Whether instructions of this end's core are recorded. A state that the recording begins with is that before its first
// instruction only where each byte from then on comes: not out of a buffer, not from a file that was there.
bool RecordRun::tells_core(const End& end, bool from_begin) const {
    return std::any_of(ends_.begin(), ends_.end(), [&](const auto& other) {
        if (!other->receiver || target_.streams[other->stream].core != target_.cores[end.core].name) return false;
        const auto kind = other->spec->trace->kind;
        return tells_instructions(target_.streams[other->stream].protocol) &&
               (!from_begin || kind == SourceSpec::Kind::tcp || kind == SourceSpec::Kind::serial);
    });
}

StateReader RecordRun::state_reader(const End& end, bool tell) {
    StateReader reader;
    if (!recipe_.memory) return reader;
    reader.memory.emplace();
    for (const std::string& text : *recipe_.memory)
        if (const auto range = memory_range(text, images_[end.core].get()))
            reader.memory->push_back(*range);
        else if (tell)
            warn("Core " + target_.cores[end.core].name + ": " + range.error().text());
    return reader;
}

Result<CoreState> RecordRun::state_of(End& end, bool begins) {
    if (begins || !end.changed_at_end) return state_reader(end, begins).read(*end.server, target_.cores[end.core]);
    if (const auto state = end.stand.stands()) return *state;
    return failure("a debugger changed it meanwhile");
}

bool RecordRun::others_changed(const End& end) const {
    std::uint64_t all = lost_servers_;
    for (const auto& other : ends_)
        if (other->server && other.get() != &end) all += other->server->memory_changes() - other->memory_changes_at_begin;
    return all > 0;
}

void RecordRun::look_at_stands() {
    const bool calm = waiting_ == 0;
    for (auto& end : ends_) {
        if (!end->server || end->server_lost || !end->stand.stood()) continue;
        const auto stood = end->stand.stood();
        const auto stands = end->stand.stands();
        end->stand.look(*end->server, target_.cores[end->core], calm, others_changed(*end));
        if (stood == end->stand.stood() && stands == end->stand.stands()) continue;
        const std::lock_guard guard(lock_);
        stands_[end->core] = {end->stand.stood(), end->stand.stands()};
    }
}

RecordRun::Stand RecordRun::stand(std::size_t core) const {
    const std::lock_guard guard(lock_);
    const auto found = stands_.find(core);
    return found == stands_.end() ? Stand{} : found->second;
}

void RecordRun::keep_states(const std::string& when) {
    const bool begins = when == "began";
    std::vector<KeyChange> keys;
    const auto not_kept = [&](const CoreSpec& core, const Problem& why) { warn("How core " + core.name + " stood is not kept: " + why.text()); };
    for (auto& end : ends_) {
        if (!end->server) continue;
        const CoreSpec& core = target_.cores[end->core];
        if (const auto stood = end->stand.stood(); !begins && stood && stood->complete && !stood->at.empty()) {
            const std::string name = "states/" + safe_file_name(core.name + "-stood") + ".csv";
            std::error_code ec;
            fs::create_directories(fs::path(folder_) / "states", ec);
            if (auto written = replace_file((fs::path(folder_) / name).string(), stood_text(*stood)); written)
                keys.push_back({"core", end->core, "stood", toml_quoted(name)});
            else
                not_kept(core, written.error());
        }
        if (end->server_lost || end->server->running() || !tells_core(*end, begins)) continue;
        // Something else decides when tracing begins.
        const bool later = begins && std::any_of(recipe_.traces.begin(), recipe_.traces.end(),
                                                 [&](const TraceWish& w) { return w.start.has_value() && (w.core.empty() || w.core == core.name); });
        if (later) continue;
        const auto state = state_of(*end, begins);
        auto kept = state ? keep_state(*state, folder_, core.name, when) : tl::make_unexpected(state.error());
        if (!kept) {
            not_kept(core, kept.error());
            continue;
        }
        kept->told = !begins;
        for (KeyChange& key : state_keys(*kept, "core." + when, end->core, folder_)) keys.push_back(std::move(key));
        (begins ? target_.cores[end->core].began : target_.cores[end->core].stopped) = std::move(*kept);
    }
    for (std::size_t c = 0; !begins && !touched_ && c < target_.cores.size(); ++c)
        if (std::any_of(ends_.begin(), ends_.end(), [c](const auto& e) { return e->server && e->core == c; }))
            keys.push_back({"core", c, "untouched", "true"});
    if (keys.empty()) return;
    const std::string path = (fs::path(folder_) / "recording.target.toml").string();
    const auto file = read_target_file(path);
    const auto text = file ? changed_target(file->text, keys) : tl::make_unexpected(file.error());
    const auto written = text ? replace_file(path, *text) : tl::make_unexpected(text.error());
    if (!written) warn("How the cores stood is not kept: " + written.error().text());
}

void RecordRun::renew_core(const End& end, bool ask_pc) {
    RunState::Core c;
    c.name = target_.cores[end.core].name;
    c.debug = end.server != nullptr;
    c.lost = end.server_lost;
    c.running = end.server == nullptr || end.server->running();
    if (ask_pc && end.server && !end.server->running())
        if (auto pc = end.server->pc()) {
            c.pc = *pc;
            c.place = place_text(end, *pc);
        }
    const std::lock_guard guard(lock_);
    for (auto& known : state_.cores)
        if (known.name == c.name) {
            c.started_after_s = known.started_after_s;
            c.stands = known.stands;
            if (!c.running) c.reason = known.reason;
            known = c;
            return;
        }
    state_.cores.push_back(c);
}

Result<RecordRun::End*> RecordRun::end_of(const std::string& core) {
    for (auto& e : ends_)
        if (e->server && (core.empty() || target_.cores[e->core].name == core)) return e.get();
    return failure("no debug server for core '" + core + "'", recipe_.path,
                   "add debug = \"HOST:PORT\" to its [[connect]]");
}

Result<void> RecordRun::run() {
    auto walked = walk();
    put_back_traces();
    {
        const std::lock_guard guard(lock_);
        state_.recording = false;
        state_.finished = true;
        state_.discarded = !keep_;
        if (!walked) {
            state_.problem = walked.error();
            for (auto& s : state_.stations)
                if (s.status == Station::Status::now) {
                    s.status = Station::Status::failed;
                    s.lines = {walked.error().what};
                }
        }
    }
    return walked;
}

Result<void> RecordRun::walk() {
    const auto stopped = [&]() -> Result<void> {
        keep_ = false;
        return failure("stopped before anything was recorded", recipe_.path);
    };
    if (auto ok = may_write_folder(folder_, replace_); !ok) return ok;
    if (auto ok = connect_all(); !ok) return ok;
    if (stopping()) return stopped();
    if (recipe_.check_image)
        if (auto ok = check_images(); !ok) return ok;
    if (recipe_.reset)
        if (auto ok = reset_all(); !ok) return ok;
    if (recipe_.run_to)
        if (auto ok = run_to_place(); !ok) return ok;
    if (stopping()) return stopped();
    if (!recipe_.traces.empty())
        if (auto ok = set_traces(); !ok) return ok;
    begin_step(RunState::record);
    if (auto ok = start_all(); !ok) {
        stop("it could not be started");
        for (auto& e : ends_)
            if (e->thread.joinable()) e->thread.join();
        for (auto& e : ends_) e->receiver.reset();
        if (lock_of_folder_) put_back();
        return ok;
    }
    record();
    stop_all();
    begin_step(RunState::save);
    if (!keep_) {
        put_back();
        end_step(RunState::save, Station::Status::passed_over, {"thrown away"});
        return {};
    }
    if (folder_gone_) {
        std::error_code ec;
        if (!replaced_.empty() && !fs::exists(folder_, ec)) fs::rename(replaced_, folder_, ec);
        return failure("the recording's folder was removed while it was written", folder_,
                       "nothing of it is left; record again");
    }
    std::uint64_t bytes = 0;
    for (auto& e : ends_) bytes += e->receiver ? e->receiver->state().bytes : 0;
    if (!replaced_.empty() && bytes == 0) {
        put_back();
        return failure("nothing was received", folder_, "the recording that was there is kept; is trace switched on?");
    }
    if (!replaced_.empty()) {
        std::error_code ec;
        fs::remove_all(replaced_, ec);
    }
    lock_of_folder_.reset();
    end_step(RunState::save, Station::Status::done, {fs::path(folder_).filename().string()});
    return {};
}

// Nothing came of it: what was there before stands there again.
void RecordRun::put_back() {
    std::error_code ec;
    lock_of_folder_.reset();
    fs::remove_all(folder_, ec);
    if (!replaced_.empty()) fs::rename(replaced_, folder_, ec);
    replaced_.clear();
}

// Bytes that are written to a file without a name are lost: better to stop and say so.
void RecordRun::look_after_folder() {
    const auto now = Steady::now();
    if (now - looked_ < Milliseconds(300)) return;
    looked_ = now;
    for (const auto& e : ends_) folder_gone_ = folder_gone_ || (e->receiver && !e->receiver->file_is_there());
    if (folder_gone_) stop("the recording's folder was removed");
}

Result<void> RecordRun::connect_debug(End& end) {
    std::vector<DebugServer*> open;
    for (const auto& other : ends_)
        if (other->server && !other->server_lost) open.push_back(other->server.get());
    auto server = DebugServer::connect(end.spec->debug, Milliseconds(recipe_.patience_ms), end.spec->thread, open);
    if (!server) return tl::make_unexpected(server.error());
    end.server = std::move(*server);
    end.server_lost = false;
    const std::string& isa = target_.cores[end.core].isa;
    const std::string& says = end.server->architecture();
    const bool arm = isa.rfind("armv", 0) == 0, riscv = isa.rfind("rv", 0) == 0;
    if ((arm && says.find("riscv") != std::string::npos) || (riscv && says.find("arm") != std::string::npos))
        return failure("core '" + target_.cores[end.core].name + "' is " + isa + ", but the debug server's is " + says,
                       end.spec->debug, "is this the right port?");
    return {};
}

Result<std::unique_ptr<Source>> RecordRun::make_source(End& end) {
    const SourceSpec& spec = *end.spec->trace;
    if (end.spec->protocol == "console") return make_console_source(end);
    if (end.own_thread()) return open_source(spec, Milliseconds(recipe_.patience_ms));
    if (spec.kind == SourceSpec::Kind::buffer && !end.server) {  // another table of the core names its debug server
        auto other = end_of(end.spec->core);
        if (!other) return tl::make_unexpected(other.error());
        return make_buffer_source(end, **other);
    }
    if (spec.kind == SourceSpec::Kind::poll) {
        auto other = end_of(end.spec->core);
        if (!other) return tl::make_unexpected(other.error());
        return make_poll_source(end, **other);
    }
    if (end.server == nullptr || end.server_lost) {  // the way back after a lost debug server
        if (auto ok = connect_debug(end); !ok) return tl::make_unexpected(ok.error());
        if (auto on = end.server->resume(); !on) return tl::make_unexpected(on.error());
    }
    std::uint64_t at = spec.at, size = spec.size;
    if (!spec.symbol.empty()) {
        const auto& image = images_[end.core];
        const Symbol* symbol = image ? image->symbol_named(spec.symbol) : nullptr;
        if (symbol == nullptr)
            return failure("the image has no symbol '" + spec.symbol + "'",
                           image ? image->path() : recipe_.path + ":" + std::to_string(end.spec->line),
                           "correct 'symbol', or give the address with 'at'");
        at = symbol->address;
        if (size == 0) size = symbol->size;
    }
    if (spec.kind == SourceSpec::Kind::ring) return ring_source(*end.server, at);
    if (spec.kind == SourceSpec::Kind::buffer) return make_buffer_source(end, end);
    if (size == 0)
        return failure("how many bytes to read is not known", recipe_.path + ":" + std::to_string(end.spec->line),
                       "add size = …");
    return dump_source(*end.server, at, size);
}

Result<std::unique_ptr<Source>> RecordRun::make_buffer_source(End& end, End& with) {
    const Unit* unit = nullptr;
    for (const TracePlan& p : state_.plans)
        if (p.core == end.spec->core && !p.sink.empty()) unit = with.units.named(p.sink);
    if (unit == nullptr) unit = trace_buffer(with.units);
    if (unit == nullptr)
        return failure("core '" + end.spec->core + "' has no buffer for trace",
                       recipe_.path + ":" + std::to_string(end.spec->line), "mtrail units shows what it has");
    const Unit* encoder = with.units.first(UnitKind::trace_encoder);
    auto source =
        std::make_unique<BufferSource>(*with.server, *unit, encoder == nullptr ? std::nullopt : std::optional(*encoder),
                                       end.spec->trace->every_ms, Milliseconds(recipe_.patience_ms));
    end.buffer = source.get();
    return source;
}

// What [[sample]] asks for becomes a stream of each core, which the target file describes.
Result<void> RecordRun::plan_polling() {
    std::map<std::size_t, std::vector<const Recipe::Sample*>> by_core;
    for (const Recipe::Sample& s : recipe_.samples) {
        auto end = end_of(s.core);
        if (!end) return tl::make_unexpected(end.error());
        by_core[(*end)->core].push_back(&s);
    }
    for (const auto& [core, samples] : by_core) {
        std::string values;
        for (const Recipe::Sample* s : samples) {
            auto place = find_data(target_.cores[core], s->expression);
            if (!place)
                return failure(place.error().what, recipe_.path + ":" + std::to_string(s->line), place.error().advice);
            if (place->type.empty())
                return failure("'" + s->expression + "' is no single value", recipe_.path + ":" + std::to_string(s->line),
                               "name an element or a member of it");
            values += (values.empty() ? "[{ name = " : ", { name = ") + toml_quoted(s->expression) +
                      ", address = " + hex_text(place->address) + ", type = " + toml_quoted(place->type);
            if (place->mask != ~std::uint64_t{0})
                values += ", mask = " + hex_text(place->mask) + ", shift = " + std::to_string(place->shift);
            std::string names;
            for (const auto& [value, name] : place->names)
                names += (names.empty() ? "{ " : ", ") + std::to_string(value) + " = " + toml_quoted(name);
            if (!names.empty()) values += ", names = " + names + " }";
            std::ostringstream rate;
            rate << s->rate_hz;
            values += ", rate_hz = " + rate.str() + " }";
        }
        // A recording's target file may have such a stream from before.
        std::size_t index = target_.streams.size();
        for (std::size_t i = 0; i < target_.streams.size(); ++i)
            if (target_.streams[i].protocol == Protocol::polled && target_.streams[i].core == target_.cores[core].name)
                index = i;
        std::vector<KeyChange> changes;
        if (index == target_.streams.size())
            changes = {{"stream", index, "protocol", "\"polled\""},
                       {"stream", index, "core", toml_quoted(target_.cores[core].name)}};
        changes.push_back({"stream.polled", index, "values", values + "]"});
        auto text = changed_target(target_.text, changes);
        if (!text) return tl::make_unexpected(text.error());
        auto described = parse_target_file(*text, target_.path);
        if (!described) return tl::make_unexpected(described.error());
        target_ = std::move(*described);
        Recipe::Connect connect;
        connect.core = target_.cores[core].name;
        connect.protocol = "polled";
        connect.trace.emplace();
        connect.trace->kind = SourceSpec::Kind::poll;
        connect.line = samples[0]->line;
        if (std::any_of(polling_.begin(), polling_.end(), [&](const auto& c) { return c.core == connect.core; })) continue;
        polling_.push_back(std::move(connect));
        auto end = std::make_unique<End>();
        end->spec = &polling_.back();
        end->core = core;
        ends_.push_back(std::move(end));
    }
    return {};
}

Result<std::unique_ptr<Source>> RecordRun::make_poll_source(End& end, End& with) {
    auto source = std::make_unique<PollSource>(*with.server, target_.streams[end.stream].polled.values);
    end.poll = source.get();
    if (started_ != Steady::time_point{}) source->begin(started_);  // the way back after a lost server
    return source;
}

// What comes from a console is text; the recording's target file says that there is such a stream.
Result<void> RecordRun::plan_consoles() {
    for (const auto& end : ends_) {
        if (end->spec->protocol != "console" || stream_of(target_, *end->spec)) continue;
        const std::size_t index = target_.streams.size();
        auto text = changed_target(target_.text, {{"stream", index, "protocol", "\"console\""},
                                                  {"stream", index, "core", toml_quoted(end->spec->core)}});
        if (!text) return tl::make_unexpected(text.error());
        auto described = parse_target_file(*text, target_.path);
        if (!described) return tl::make_unexpected(described.error());
        target_ = std::move(*described);
    }
    return {};
}

Result<std::unique_ptr<Source>> RecordRun::make_console_source(End& end) {
    std::unique_ptr<ConsoleSource> source;
    if (end.own_thread()) {
        auto inner = open_source(*end.spec->trace, Milliseconds(recipe_.patience_ms));
        if (!inner) return tl::make_unexpected(inner.error());
        source = std::make_unique<ConsoleSource>(std::move(*inner));
    } else {
        End* with = nullptr;
        for (auto& other : ends_)
            if (other->server && other->core == end.core) with = other.get();
        if (with == nullptr || with->server_lost)
            return failure("core '" + end.spec->core + "' has no debug server", recipe_.path + ":" + std::to_string(end.spec->line),
                           "is it still running?");
        source = std::make_unique<ConsoleSource>(*with->server);
    }
    if (started_ != Steady::time_point{}) source->begin(started_);  // the way back after a line or server was lost
    end.console = source.get();
    return source;
}

Result<void> RecordRun::connect_all() {
    begin_step(RunState::connect);
    std::vector<std::string> lines;
    for (const auto& c : recipe_.connects) {
        auto end = std::make_unique<End>();
        end->spec = &c;
        while (!c.core.empty() && end->core < target_.cores.size() && target_.cores[end->core].name != c.core)
            ++end->core;
        const std::string where = recipe_.path + ":" + std::to_string(c.line);
        if (end->core == target_.cores.size())
            return failure("the target file has no core '" + c.core + "'", where, "name one that it has");
        ends_.push_back(std::move(end));
    }
    for (auto& end : ends_) {
        if (end->spec->debug.empty()) continue;
        if (auto ok = connect_debug(*end); !ok) return ok;
        renew_core(*end, true);
        if (stopping()) return {};
    }
    if (auto ok = plan_traces(); !ok) return ok;
    if (auto ok = plan_polling(); !ok) return ok;
    if (auto ok = plan_consoles(); !ok) return ok;
    if (auto ok = find_streams(); !ok) return ok;
    for (auto& end : ends_) {
        if (end->server) {
            lines.push_back("gdb " + end->spec->debug);
            if (const auto& phase = target_.streams[end->stream].line_phase; phase && end->spec->trace) {
                auto set = end->server->monitor("line phase " + std::to_string(*phase));
                const bool known = set && set->find("unknown") == std::string::npos;
                lines.push_back(known ? "line phase " + std::to_string(*phase) : "its probe takes no line phase");
            }
        } else if (!end->spec->core.empty()) {
            renew_core(*end, false);
        }
        if (end->own_thread()) {
            auto source = make_source(*end);
            if (!source) return tl::make_unexpected(source.error());
            end->source = std::move(*source);
            lines.push_back(end->spec->trace->text());
        }
        if (stopping()) return {};
    }
    end_step(RunState::connect, Station::Status::done, lines);
    return {};
}

Result<void> RecordRun::check_images() {
    begin_step(RunState::check_image);
    std::uint64_t compared = 0;
    for (auto& end : ends_) {
        const auto& image = images_[end->core];
        if (!end->server || !image) continue;
        if (auto halted = end->server->halt(); !halted) return tl::make_unexpected(halted.error());
        auto check = mt::check_image(*end->server, *image, &progress_);
        if (!check) return tl::make_unexpected(check.error());
        if (!check->matches())
            return failure("the image does not match the target's memory: " + count_text(check->different) + " of " +
                               count_text(check->compared) + " bytes differ, the first at " + hex_text(check->first),
                           image->path(), "give the image that is on the target, or load it there");
        compared += check->compared;
    }
    if (compared == 0)
        return failure("no image to compare", recipe_.path, "give 'image' in the target file, and a debug server");
    end_step(RunState::check_image, Station::Status::done, {"matches memory", count_text(compared) + " bytes"});
    return {};
}

Result<void> RecordRun::reset_all() {
    begin_step(RunState::reset);
    std::size_t count = 0;
    for (auto& end : ends_) {
        if (!end->server) continue;
        const auto first = std::find_if(ends_.begin(), ends_.end(), [&](const auto& e) { return e->server && e->server->shares_with(*end->server); });
        if (first->get() == end.get())  // a server resets all of its cores at once
            if (auto ok = end->server->reset(recipe_.reset_command); !ok) return ok;
        renew_core(*end, true);
        ++count;
    }
    end_step(RunState::reset, Station::Status::done, {count == 1 ? "1 core" : std::to_string(count) + " cores"});
    return {};
}

// Runs one core to a place; the others start with it and are halted after it, so that none sleeps for ever
// waiting for another.
Result<void> RecordRun::run_to_place() {
    begin_step(RunState::run_to);
    auto found = end_of(recipe_.run_to->core);
    if (!found) return tl::make_unexpected(found.error());
    return run_core_to(**found, recipe_.run_to->where, recipe_.run_to->times, RunState::run_to);
}

Result<void> RecordRun::run_core_to(End& end, const std::string& where, std::uint64_t wanted, RunState::Step step_of) {
    const auto& image = images_[end.core];
    if (!image && where.rfind("0x", 0) != 0)
        return failure("'" + where + "' needs an image", recipe_.path, "give 'image' in the target file");
    auto at = image ? image->address_of(where) : Result<std::uint64_t>(std::stoull(where, nullptr, 16));
    if (!at) return tl::make_unexpected(at.error());
    if (auto halted = end.server->halt(); !halted) return tl::make_unexpected(halted.error());
    if (auto set = end.server->set_point(DebugServer::Point::software, *at, 2); !set) return tl::make_unexpected(set.error());
    const auto began = Steady::now();
    const auto clear = [&] { (void)end.server->clear_point(DebugServer::Point::software, *at, 2); };
    std::uint64_t times = 0;
    while (times < wanted) {
        if (auto on = end.server->resume(); !on) return on;
        bool stopped = false;
        while (!stopped) {
            auto stop = end.server->wait(Milliseconds(20));
            if (!stop) return tl::make_unexpected(stop.error());
            stopped = stop->has_value();
            const bool late = seconds_of(Steady::now() - began) > recipe_.run_to_limit_s;
            if (!stopped && (late || stopping())) {
                (void)end.server->halt();
                clear();
                if (stopping()) return {};
                auto pc = end.server->pc();
                return failure("'" + where + "' was not reached within " +
                                   duration_text(time_of(recipe_.run_to_limit_s)) +
                                   (pc ? "; the core is at " + place_text(end, *pc) : ""),
                               recipe_.path, "does the firmware get there? run_to_limit = … waits longer");
            }
        }
        auto pc = end.server->pc();
        if (!pc) return tl::make_unexpected(pc.error());
        if ((*pc & ~std::uint64_t{1}) != (*at & ~std::uint64_t{1})) {
            clear();
            return failure("the core stopped at " + place_text(end, *pc) + " before it reached '" + where + "'",
                           end.spec->debug, "a fault, or another breakpoint?");
        }
        if (++times < wanted) {  // over the breakpoint, and on
            clear();
            if (auto step = end.server->step(); !step) return tl::make_unexpected(step.error());
            if (auto set = end.server->set_point(DebugServer::Point::software, *at, 2); !set) return tl::make_unexpected(set.error());
        }
    }
    clear();
    renew_core(end, true);
    if (step_of == RunState::run_to)
        end_step(step_of, Station::Status::done,
                 {place_text(end, *at), "after " + duration_text(time_of(seconds_of(Steady::now() - began)))});
    return {};
}

Result<void> RecordRun::run_core_to_access(End& end, const TraceWish::Trigger& trigger) {
    auto place = find_data(target_.cores[end.core], trigger.access);
    if (!place) return tl::make_unexpected(place.error());
    const auto type = trigger.on == Access::read    ? DebugServer::Point::read
                      : trigger.on == Access::write ? DebugServer::Point::write
                                                    : DebugServer::Point::access;
    const auto length = static_cast<unsigned>(std::min<std::uint64_t>(place->size, 8));
    if (auto set = end.server->set_point(type, place->address, length); !set) return tl::make_unexpected(set.error());
    const auto began = Steady::now();
    Result<void> outcome;
    for (std::uint64_t times = 0; times < trigger.after && outcome;) {
        if (auto on = end.server->resume(); !on) return on;
        for (;;) {
            auto stop = end.server->wait(Milliseconds(20));
            if (!stop) return tl::make_unexpected(stop.error());
            if (*stop) {
                ++times;
                break;
            }
            if (seconds_of(Steady::now() - began) <= recipe_.run_to_limit_s && !stopping()) continue;
            (void)end.server->halt();
            outcome = failure(
                "'" + trigger.access + "' was not accessed within " + duration_text(time_of(recipe_.run_to_limit_s)),
                recipe_.path, "run_to_limit = … waits longer");
            break;
        }
    }
    (void)end.server->clear_point(type, place->address, length);
    return outcome;
}

Result<void> RecordRun::start_all() {
    std::error_code ec;
    if (auto ok = may_write_folder(folder_, replace_); !ok) return ok;
    if (fs::exists(folder_, ec)) {
        replaced_ = folder_ + ".replaced-" + std::to_string(::getpid());
        fs::rename(folder_, replaced_, ec);
        if (ec) {
            replaced_.clear();
            return failure("cannot be moved aside: " + ec.message(), folder_, "check permissions");
        }
    }
    FolderContents contents;
    contents.title = recipe_.name;
    contents.recipe = recipe_.path;
    if (!fs::is_regular_file(recipe_.path, ec)) contents.recipe.clear();
    for (auto& end : ends_)
        if (end->spec->trace)
            contents.recorded[end->stream] = safe_file_name(
                end->who() + (end->spec->protocol.empty() ? "" : "-" + end->spec->protocol) + ".trace");
    // Sources that share a line, told apart by their IDs, share its file.
    for (auto& end : ends_)
        for (const TracePlan& plan : state_.plans) {
            if (!end->spec->trace || !plan.framed || plan.core != target_.cores[end->core].name) continue;
            for (const KeyChange& c : plan.target)
                if (c.table == "stream" && c.key == "trace_id" && !c.value.empty() &&
                    c.index < target_.streams.size() && contents.recorded.count(c.index) == 0 &&
                    target_.streams[end->stream].framing == Framing::tpiu)
                    contents.recorded[c.index] = contents.recorded[end->stream];
        }
    // A stream that is not recorded now is left out, not copied: the folder holds this recording alone.
    auto written = write_recording_folder(target_, contents, folder_, progress_);
    auto lock = written ? FolderLock::take(folder_) : tl::make_unexpected(written.error());
    if (!lock) {
        put_back();
        return tl::make_unexpected(lock.error());
    }
    lock_of_folder_ = std::move(*lock);
    for (auto& end : ends_) {
        if (!end->spec->trace) continue;
        if (!end->source) {
            auto source = make_source(*end);
            if (!source) return tl::make_unexpected(source.error());
            end->source = std::move(*source);
        }
        const std::string path = (fs::path(folder_) / "streams" / contents.recorded[end->stream]).string();
        const bool several = ends_.size() > 1 && contents.recorded.size() > 1;
        auto receiver = Receiver::create(
            path, end->spec->trace->text(), std::move(end->source), [this, e = end.get()] { return make_source(*e); },
            {recipe_.keep == Recipe::Keep::newest, recipe_.limit_bytes, several && !end->server});
        if (!receiver) return tl::make_unexpected(receiver.error());
        end->receiver = std::move(*receiver);
        recorded_.push_back({end->stream, path});
        const std::lock_guard guard(lock_);
        state_.streams.push_back({end->stream, end->who(), end->spec->trace->text(), {}, end->console != nullptr});
    }
    const auto set_end = [&](const std::string& core, const std::string& place, bool watch) -> Result<void> {
        auto found = end_of(core);
        if (!found) return tl::make_unexpected(found.error());
        End& end = **found;
        const auto& image = images_[end.core];
        auto at = image ? image->address_of(place)
                        : Result<std::uint64_t>(failure("'" + place + "' needs an image", recipe_.path,
                                                        "give 'image' in the target file"));
        if (!at) return tl::make_unexpected(at.error());
        if (auto halted = end.server->halt(); !halted) return tl::make_unexpected(halted.error());
        if (!watch) {
            end.until = *at;
            const auto set = end.server->set_point(DebugServer::Point::software, *at, 2);
            return set ? Result<void>() : tl::make_unexpected(set.error());
        }
        const Symbol* symbol = image->symbol_named(place);
        end.watch = *at;
        constexpr std::uint64_t kMostWatched = 1 << 16;
        const std::uint64_t size = symbol != nullptr && symbol->size > 0 ? symbol->size : 4;
        end.watch_length = static_cast<unsigned>(std::min(size, kMostWatched));
        end.watch_type = !recipe_.watch->on_write ? DebugServer::Point::read
                         : recipe_.watch->on_read ? DebugServer::Point::access
                                                  : DebugServer::Point::write;
        auto set = end.server->set_point(end.watch_type, *at, end.watch_length);
        if (set && size <= kMostWatched) return {};
        end.watch.reset();  // part of a variable would be watched without a word
        if (set) (void)end.server->clear_point(end.watch_type, *at, end.watch_length);
        return failure("the debug server cannot watch all " + bytes_text(size) + " of " + place, recipe_.path,
                       "watch a smaller variable" + (set ? std::string() : " (" + set.error().what + ")"));
    };
    if (recipe_.until)
        if (auto ok = set_end(recipe_.until->core, recipe_.until->where, false); !ok) return ok;
    if (recipe_.watch)
        if (auto ok = set_end(recipe_.watch->core, recipe_.watch->symbol, true); !ok) return ok;
    for (CoreSpec& core : target_.cores) {  // those of another recording
        core.began = core.stopped = {};
        core.stood.clear();
        core.untouched = false;
    }
    if (!reads_only()) keep_states("began");
    changes_at_begin_ = changes();
    if (on_begin) on_begin();
    for (auto& end : ends_)  // what a line sent before is no part of it; a file is wanted from its first byte
        if (end->receiver && end->own_thread() && end->spec->trace->kind != SourceSpec::Kind::file)
            end->receiver->discard_waiting();
    started_ = Steady::now();
    for (auto& end : ends_) {
        if (end->receiver) end->receiver->begin(started_);
        if (end->poll != nullptr) end->poll->begin(started_);
        if (end->console != nullptr) end->console->begin(started_);
        if (end->receiver && end->own_thread())
            end->thread = std::thread([this, e = end.get()] {
                while (!stopping()) e->receiver->pump(Milliseconds(50));
            });
    }
    // All cores at once, as far as their debug servers allow; each is marked with when it really started.
    std::optional<Steady::time_point> first;
    for (auto& end : ends_)
        if (end->server) end->memory_changes_at_begin = end->server->memory_changes();
    if (reads_only()) finish_buffers();  // a core that lies in a fault would only overwrite what led there
    for (auto& end : ends_) {
        if (!end->server || reads_only()) continue;
        const auto before = Steady::now();
        if (auto on = end->server->resume(); !on) return on;
        const auto after = Steady::now();
        if (tells_core(*end, false)) {
            StateReader reader = state_reader(*end, false);
            reader.patience = Milliseconds(250);  // somebody may wait for the next command
            end->stand.begin(*end->server, std::move(reader));
        }
        if (!first) first = before;
        const bool is_first = before == *first;
        const double at = is_first ? 0 : seconds_of(before + (after - before) / 2 - *first),
                     slack = seconds_of(after - before) / 2;
        if (end->receiver && contents.recorded.size() > 1) end->receiver->set_start(at, slack);
        renew_core(*end, false);
        const std::lock_guard guard(lock_);
        for (auto& c : state_.cores)
            if (c.name == target_.cores[end->core].name) c.started_after_s = at;
    }
    const std::lock_guard guard(lock_);
    state_.recording = true;
    return {};
}

void RecordRun::record() {
    take_in_hand();
    while (!stopping()) {
        touched_ = touched_ || changes() != changes_at_begin_;
        const auto now = Steady::now();
        bool idle = true;
        bool all_exhausted = true, any = false;  // of what has an end: values and text go on as long as the rest
        std::uint64_t bytes = 0;
        for (auto& end : ends_) {
            if (!end->receiver) continue;
            if (!end->own_thread() && now >= end->next_pump) {
                idle = !end->receiver->pump(Milliseconds(0)) && idle;
                const bool dump = end->spec->trace->kind == SourceSpec::Kind::dump;
                end->next_pump = now + Milliseconds(dump || end->buffer != nullptr ? 0 : end->spec->trace->every_ms);
                if (end->poll != nullptr) end->next_pump = end->poll->next_due();
            }
            const ReceiverState s = end->receiver->state();
            bytes += s.bytes;
            if (end->poll == nullptr && end->console == nullptr) {
                any = true;
                all_exhausted = all_exhausted && s.exhausted;
            }
            if (s.full) stop(s.trouble);
        }
        const double elapsed = seconds_of(now - started_);
        if (recipe_.seconds && elapsed >= *recipe_.seconds) stop("the time was up");
        if (recipe_.bytes && bytes >= *recipe_.bytes) stop("enough bytes were recorded");
        if (any && all_exhausted)
            stop(recipe_.limit_bytes > 0 && !reads_only() ? "the limit was reached" : "the buffer was read to its end");
        watch_cores();
        serve_requests();
        look_at_stands();
        look_after_folder();
        if (idle) std::this_thread::sleep_for(Milliseconds(2));
    }
    hand_.reset();
    std::vector<std::string> lines = {duration_text(time_of(seconds_of(Steady::now() - started_)))};
    std::uint64_t bytes = 0;
    for (auto& end : ends_)
        if (end->receiver) bytes += end->receiver->state().bytes;
    lines.push_back(bytes_text(bytes));
    {
        const std::lock_guard guard(lock_);
        state_.elapsed_s = seconds_of(Steady::now() - started_);
    }
    end_step(RunState::record, Station::Status::done, lines);
}

void RecordRun::watch_cores() {
    for (auto& end : ends_) {
        if (!end->server || end->server_lost || !end->server->running()) continue;
        auto stop = end->server->wait(Milliseconds(0));
        if (!stop) {
            end->server_lost = true;
            ++lost_servers_;
            renew_core(*end, false);
            note("debug server lost: " + stop.error().what);
            if (recipe_.until || recipe_.watch) this->stop("the debug server was lost: " + stop.error().what);
        } else if (*stop) {
            const auto its = std::find_if(ends_.begin(), ends_.end(), [&](const auto& other) {
                return other->server && other->server->shares_with(*end->server) && other->server->is_of(**stop);
            });
            core_stopped(its == ends_.end() ? *end : **its, **stop);
        }
    }
}

void RecordRun::core_stopped(End& end, const DebugStop& stop) {
    auto pc = end.server->pc();
    renew_core(end, true);
    if (!pc) return;
    if (end.until && (*pc & ~std::uint64_t{1}) == (*end.until & ~std::uint64_t{1})) {
        if (++reached_ >= recipe_.until->times) {
            return this->stop(recipe_.until->where + " was reached" +
                              (recipe_.until->times > 1 ? " " + count_text(recipe_.until->times) + " times" : ""));
        }
        (void)end.server->clear_point(DebugServer::Point::software, *end.until, 2);
        if (auto step = end.server->step(); !step) return;
        (void)end.server->set_point(DebugServer::Point::software, *end.until, 2);
        (void)end.server->resume();
        return renew_core(end, false);
    }
    if (end.watch && stop.why == DebugStop::Why::watchpoint)
        return this->stop(recipe_.watch->symbol + (recipe_.watch->on_read ? " was accessed" : " was written") + " in " +
                          place_text(end, *pc));
    const auto answers = hand_->stopped(target_.cores[end.core].name, stop);
    if (!answers) return;
    take_answers(*answers);
    if (!answers->front().running)
        note("core " + target_.cores[end.core].name + " stopped at " + place_text(end, *pc) + ": " + answers->front().reason);
}

void RecordRun::take_in_hand() {
    std::vector<Hand::Core> cores;
    for (std::size_t c = 0; c < target_.cores.size(); ++c) {
        Hand::Core core{target_.cores[c], images_[c], nullptr};
        for (auto& end : ends_)
            if (end->core == c && end->server) core.server = end->server.get();
        cores.push_back(std::move(core));
    }
    Hand::Options options;
    options.reset_command = recipe_.reset_command;
    // Whoever asks for the next thing no longer waits for this one.
    options.give_up = [this] { return stopping() || waiting_ > 0; };
    hand_ = std::make_unique<Hand>(std::move(cores), std::move(options));
}

void RecordRun::serve_requests() {
    for (;;) {
        std::pair<HandCommand, HandDone> next;
        {
            const std::lock_guard guard(lock_);
            if (requests_.empty() || stopping()) return;
            next = std::move(requests_.front());
            requests_.pop_front();
            if (next.first.moves()) --waiting_;
        }
        serve(next.first, next.second);
    }
}

// To the console of the core that is meant, or of the first that has one.
Result<std::vector<HandAnswer>> RecordRun::type(const HandCommand& command) {
    for (auto& end : ends_) {
        const std::string& core = target_.cores[end->core].name;
        if (end->console == nullptr || (!command.core.empty() && command.core != core)) continue;
        if (auto typed = end->console->type(command.place); !typed) return tl::make_unexpected(typed.error());
        std::string line = command.place;
        while (!line.empty() && line.back() == '\n') line.pop_back();
        note("typed into the console of core " + core + ": " + line);
        HandAnswer a;
        a.core = core;
        a.running = true;
        return std::vector{a};
    }
    return failure(command.core.empty() ? "no core has a console" : "core '" + command.core + "' has no console", recipe_.path,
                   "add a [[connect]] with protocol = \"console\"");
}

void RecordRun::serve(const HandCommand& command, const HandDone& done) {
    if (command.kind == HandCommand::Kind::type) {
        const auto typed = type(command);
        if (done) done(typed);
        return;
    }
    hand_->allow_writing(may_write_);
    if (command.kind == HandCommand::Kind::reset || (command.writes() && may_write_))
        for (auto& end : ends_)
            if (end->server && !end->server_lost) end->stand.before_change(*end->server, target_.cores[end->core]);
    const std::size_t before = hand_->written().size();
    const auto answers = hand_->run(command);
    for (std::size_t i = before; i < hand_->written().size(); ++i) note("written by hand: " + hand_->written()[i]);
    using Kind = HandCommand::Kind;
    const bool by_hand = command.kind == Kind::go || command.kind == Kind::halt || command.kind == Kind::reset;
    if (answers) {
        if (by_hand)
            for (const HandAnswer& a : *answers)
                note("core " + a.core + (command.kind == Kind::go ? " resumed" : command.kind == Kind::halt ? " halted" : " reset") + " by hand");
        const bool stood = command.moves() || command.kind == Kind::set || command.kind == Kind::undo ||
                           command.kind == Kind::put;
        if (stood) take_answers(*answers);
    } else {
        // Was it the command, or is the server gone?
        for (auto& end : ends_) {
            if (!end->server || end->server_lost) continue;
            end->server_lost = !end->server->running() && !end->server->pc();
            renew_core(*end, true);
        }
    }
    {
        const std::lock_guard guard(lock_);
        state_.hand = {hand_->points(),   hand_->written(),        state_.hand.said, hand_->together(), hand_->undoable(), may_write_,
                       hand_->brief_halts().first, hand_->brief_halts().second};
    }
    if (done) done(answers);
}

void RecordRun::take_answers(const std::vector<HandAnswer>& answers) {
    for (const HandAnswer& a : answers) {
        const auto end = end_of(a.core);
        if (!end) continue;
        renew_core(**end, true);
        const std::lock_guard guard(lock_);
        for (auto& c : state_.cores) {
            if (c.name != a.core || c.running) continue;
            c.reason = a.reason;
            ++c.stands;
        }
        constexpr std::size_t kMostSaid = 10'000;
        for (const std::string& said : a.said)
            if (state_.hand.said.size() < kMostSaid) state_.hand.said.push_back(said);
        state_.hand.points = hand_->points();
        std::tie(state_.hand.brief_halts, state_.hand.brief_halt_s) = hand_->brief_halts();
    }
    for (const HandAnswer& a : answers)
        for (const std::string& said : a.said) note(said);
}

void RecordRun::stop_all() {
    touched_ = touched_ || changes() != changes_at_begin_;  // taking the trace back again is none
    begin_step(RunState::stop);
    const bool halt = recipe_.leave == Recipe::Leave::halted;
    const auto before = Steady::now();
    std::size_t halted = 0;
    for (auto& end : ends_) {
        if (!end->server || end->server_lost) continue;
        if (halt && end->server->running()) (void)end->server->halt();
        halted += halt ? 1 : 0;
    }
    const double took = seconds_of(Steady::now() - before);
    for (auto& end : ends_) end->changed_at_end = end->server && (end->server->changed_here() || others_changed(*end));
    for (auto& end : ends_)
        if (end->thread.joinable()) end->thread.join();
    reach_units();
    for (auto& end : ends_)  // before the buffers are stopped, which writes to them
        if (end->program && end->server && !end->server_lost)
            for (const std::string& text : end->program->overwritten()) warn(text);
    finish_buffers();
    // What is still on its way belongs to the recording.
    const auto until = Steady::now() + Milliseconds(halt ? 1000 : 100);
    for (auto& end : ends_)
        while (end->receiver && keep_ && (Steady::now() < until || end->buffer != nullptr))
            if (!end->receiver->pump(Milliseconds(halt && end->buffer == nullptr ? 100 : 0))) break;
    put_back_traces();
    std::string reason;
    read_.clear();
    {
        const std::lock_guard guard(lock_);
        reason = state_.stop_reason;
    }
    if (keep_ && !folder_gone_) keep_states("stopped");
    for (auto& end : ends_) {
        if (end->receiver && end->server && end->server->brief_halts() > 0)
            end->receiver->halted(end->server->brief_halts(), end->server->brief_halt_seconds());
        if (end->poll != nullptr) {
            if (auto with = end_of(end->spec->core); with && (*with)->server->brief_halts() > 0)
                end->receiver->halted((*with)->server->brief_halts(), (*with)->server->brief_halt_seconds());
            for (const std::string& line : end->poll->reached()) read_.push_back(line);
        }
        if (end->receiver) end->receiver->end(reason);
        end->buffer = nullptr;
        end->poll = nullptr;
        end->console = nullptr;
        if (!end->server || end->server_lost) continue;
        if (end->until) (void)end->server->clear_point(DebugServer::Point::software, *end->until, 2);
        if (end->watch) (void)end->server->clear_point(end->watch_type, *end->watch, end->watch_length);
        if (!halt) (void)end->server->resume();
        renew_core(*end, true);
        end->server->leave(!halt);
        const std::lock_guard guard(lock_);
        state_.brief_halts += end->server->brief_halts();
        state_.brief_halt_s += end->server->brief_halt_seconds();
    }
    if (!read_out_.empty()) {
        std::uint64_t bytes = 0;
        for (auto& end : ends_)
            if (end->receiver) bytes += end->receiver->state().bytes;
        end_step(RunState::record, Station::Status::done,
                 {duration_text(time_of(seconds_of(before - started_))), bytes_text(bytes)});
    }
    std::vector<std::string> lines = {reason};
    lines.insert(lines.end(), read_out_.begin(), read_out_.end());
    lines.insert(lines.end(), read_.begin(), read_.end());
    if (halted > 0) lines.push_back("halted within " + duration_text(time_of(took)));
    end_step(RunState::stop, Station::Status::done, lines);
}

void RecordRun::warn(const std::string& text) {
    const std::lock_guard guard(lock_);
    state_.warnings.push_back(text);
}

/// Nothing is set up and nothing waited for: what the chip's buffers hold is read, once.
bool RecordRun::reads_only() const {
    bool any = false;
    for (const auto& c : recipe_.connects) {
        if (!c.trace) continue;
        if (c.trace->kind != SourceSpec::Kind::buffer || c.trace->every_ms > 0) return false;
        any = true;
    }
    return any && recipe_.traces.empty() && !recipe_.seconds && !recipe_.bytes && !recipe_.until && !recipe_.watch &&
           !recipe_.mark && !recipe_.run_to && !recipe_.reset;
}

// Units that do not answer may do so once they are switched on: that is put back as all the rest.
Result<void> RecordRun::wake_units(End& end) {
    const TracePlan wake = plan_wake(end.units, *end.memory, given_);
    if (wake.steps.empty()) return failure("nothing to be switched on");
    if (!end.program) end.program = std::make_unique<TraceProgram>(*end.memory, Milliseconds(recipe_.patience_ms));
    if (auto ok = end.program->apply(wake); !ok) return ok;
    auto units = discover_units(*end.memory, given_.cores[end.core], &progress_);
    if (!units) return tl::make_unexpected(units.error());
    end.units = std::move(*units);
    return {};
}

// What the wishes mean, and whether they can be had, is known before anything is done.
Result<void> RecordRun::plan_traces() {
    target_ = given_;
    std::vector<TracePlan> plans;
    for (auto& end : ends_) {
        if (!end->server) continue;
        const CoreSpec& core = given_.cores[end->core];
        const TraceWish* wish = wish_for(recipe_, core.name);
        bool buffer = false;
        for (const auto& c : recipe_.connects)
            buffer = buffer || (c.core == core.name && c.trace && c.trace->kind == SourceSpec::Kind::buffer);
        if (wish == nullptr && !buffer) continue;
        if (!end->memory) end->memory = std::make_unique<ServerMemory>(*end->server);
        auto units = discover_units(*end->memory, core, &progress_);
        if (!units) return tl::make_unexpected(units.error());
        end->units = std::move(*units);
        if (wish == nullptr) {
            auto described = described_target(target_, plan_as_found(end->units, *end->memory, target_));
            if (!described) return tl::make_unexpected(described.error());
            target_ = std::move(*described);
            continue;
        }
        const Image* image = images_[end->core].get();
        auto plan = plan_trace(*wish, end->units, *end->memory, target_, image);
        if (!plan) {
            if (wake_units(*end)) plan = plan_trace(*wish, end->units, *end->memory, target_, image);
        }
        if (!plan) return tl::make_unexpected(plan.error());
        auto described = described_target(target_, *plan);
        if (!described) return tl::make_unexpected(described.error());
        target_ = std::move(*described);
        plans.push_back(std::move(*plan));
    }
    for (const TraceWish& w : recipe_.traces)
        if (!w.core.empty() && target_.core(w.core) == nullptr)
            return failure("the target file has no core '" + w.core + "'", recipe_.path + ":" + std::to_string(w.line),
                           "name one that it has");
    const std::lock_guard guard(lock_);
    state_.plans = std::move(plans);
    return {};
}

Result<void> RecordRun::find_streams() {
    for (auto& end : ends_) {
        if (!end->spec->trace) continue;
        std::optional<std::size_t> found;
        // A buffer holds what tells instructions, if that was asked for or nobody said what.
        const TraceWish* wish = wish_for(recipe_, end->spec->core);
        const bool buffer = end->spec->trace->kind == SourceSpec::Kind::buffer;
        if (end->spec->protocol.empty() &&
            (wish != nullptr ? wish->instructions && (buffer || !wish->wants_events()) : buffer))
            for (std::size_t i = 0; i < target_.streams.size() && !found; ++i)
                if (target_.streams[i].core == end->spec->core && tells_instructions(target_.streams[i].protocol))
                    found = i;
        if (!found) found = stream_of(target_, *end->spec);
        if (!found)
            return failure("the target file has no [[stream]] for " +
                               (end->spec->core.empty() ? "device" : "core '" + end->spec->core + "'") +
                               (end->spec->protocol.empty() ? "" : " of protocol " + end->spec->protocol),
                           recipe_.path + ":" + std::to_string(end->spec->line),
                           "add one that says the protocol of its trace");
        end->stream = *found;
    }
    return {};
}

// Once more with what the registers hold now: a reset, and the firmware, may have changed them.
Result<void> RecordRun::set_traces() {
    begin_step(RunState::set_trace);
    for (const TracePlan& plan : std::vector<TracePlan>(state_.plans)) {
        auto end = end_of(plan.core);
        if (!end) return tl::make_unexpected(end.error());
        if (plan.halt_to_start) {
            auto there = plan.halt_to_start->at.empty() ? run_core_to_access(**end, *plan.halt_to_start)
                                                        : run_core_to(**end, plan.halt_to_start->at,
                                                                      plan.halt_to_start->after, RunState::set_trace);
            if (!there) return there;
        }
        if (plan.halt_to_stop && !plan.halt_to_stop->at.empty() && !recipe_.until)
            recipe_.until = Recipe::Place{plan.core, plan.halt_to_stop->at, plan.halt_to_stop->after};
        if (plan.halt_to_stop && !plan.halt_to_stop->access.empty() && !recipe_.watch)
            recipe_.watch = Recipe::Watch{plan.core, plan.halt_to_stop->access, plan.halt_to_stop->on != Access::write,
                                          plan.halt_to_stop->on != Access::read};
        if (stopping()) return failure("stopped before anything was recorded", recipe_.path);
    }
    if (auto ok = plan_traces(); !ok) return ok;
    if (auto ok = find_streams(); !ok) return ok;
    std::vector<std::string> lines;
    std::size_t written = 0;
    for (const TracePlan& plan : std::vector<TracePlan>(state_.plans)) {
        auto end = end_of(plan.core);
        if (!end) return tl::make_unexpected(end.error());
        if (!(*end)->program)
            (*end)->program = std::make_unique<TraceProgram>(*(*end)->memory, Milliseconds(recipe_.patience_ms));
        if (auto ok = (*end)->program->apply(plan); !ok) return ok;
        written += (*end)->program->written();
        for (const std::string& note : plan.notes) warn(note);
    }
    lines.push_back(plural(written, "register written", "registers written"));
    end_step(RunState::set_trace, Station::Status::done, lines);
    return {};
}

void RecordRun::put_back_traces() {
    for (auto& end : ends_) {
        if (!end->program || !end->program->applied()) continue;
        const auto program = std::move(end->program);
        if (recipe_.keep_trace) continue;
        if (!end->server || end->server_lost) {
            warn("the debug server is lost: what was set up for the trace of core " + target_.cores[end->core].name +
                 " could not be put back");
            continue;
        }
        if (auto back = program->put_back(); !back) warn(back.error().text());
    }
}

// Some debug servers reach nothing while the core runs, though they said they would: then it is halted for the rest.
void RecordRun::reach_units() {
    for (auto& end : ends_) {
        if (!end->memory || !end->server || end->server_lost || !end->server->running()) continue;
        const auto& units = end->units.units;
        const auto known = std::find_if(units.begin(), units.end(), [](const Unit& u) { return u.trouble.empty(); });
        if (known == units.end() ||
            end->memory->read(known->address + (known->kind >= UnitKind::trace_encoder ? 4 : 0xFF0)))
            continue;
        if (end->server->halt())
            warn("the debug server reaches nothing while core " + target_.cores[end->core].name +
                 " runs: it was halted to be read and put back");
    }
}

// The core stands still for it, unless its memory can be read while it runs.
void RecordRun::finish_buffers() {
    for (auto& end : ends_) {
        if (end->buffer == nullptr || end->buffer->finished() || !keep_) continue;
        auto with = end_of(end->spec->core);
        if (!with || (*with)->server_lost) continue;
        auto text = end->buffer->finish(nullptr);
        if (!text)
            warn("the buffer of core " + end->spec->core + " could not be read: " + text.error().text());
        else
            read_out_.push_back(*text);
        // Looked at only, or set for good: it goes on as it did.
        if ((reads_only() && recipe_.leave == Recipe::Leave::running) || recipe_.keep_trace)
            (void)end->buffer->restart();
    }
}

}  // namespace mt
