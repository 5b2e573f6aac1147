// mtrail-board: the simulated Larkspur mount controller, as a file of trace or as a live target.
#include <fstream>
#include <iostream>

#include <CLI/CLI.hpp>

#include "etrace_encoder.h"
#include "instruments.h"
#include "live_board.h"
#include "mount_model.h"
#include "thumb_walk.h"
#include "share/ctf_writer.h"
#include "target/image.h"

namespace {

struct Outputs {
    std::string trace, events, etm, probe, logic;                 ///< files and a folder; empty: not wanted
    double etm_before = 0.003, etm_after = 0.0001;  ///< seconds around the fault
};

bool write_bytes(const std::string& file, const std::vector<std::uint8_t>& bytes) {
    std::ofstream out(file, std::ios::binary);
    out.write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
    out.close();
    if (!out) std::cerr << "mtrail-board: cannot write: " << file << ": check free space and permissions\n";
    return static_cast<bool>(out);
}

int write_file(const board::MountOptions& options, const Outputs& outputs, const mt::Image* image) {
    const std::string& events = outputs.events;
    const auto range = [&](const std::string& name) -> std::pair<std::uint32_t, std::uint32_t> {
        const mt::Symbol* symbol = image == nullptr ? nullptr : image->symbol_named(name);
        if (symbol == nullptr) return {0x08000000, 64};
        return {static_cast<std::uint32_t>(symbol->address), static_cast<std::uint32_t>(symbol->size)};
    };
    std::unique_ptr<mt::CtfWriter> writer;
    board::MountHooks hooks;
    if (!events.empty()) {
        auto made = mt::CtfWriter::create(events, {"Larkspur", options.clock_hz, 1});
        if (!made) {
            std::cerr << "mtrail-board: " << made.error().text() << "\n";
            return 2;
        }
        writer = std::move(*made);
        hooks.os = [&](const mt::OsEvent& event, const mt::OsBlock& texts, std::uint64_t cycle) {
            writer->write(event, static_cast<std::int64_t>(cycle), texts);
        };
    }
    board::Etm4Encoder encoder({});
    std::unique_ptr<board::ThumbWalk> walk;
    if (!outputs.etm.empty()) {
        const auto code = mt::Code::of(*image, "armv7e-m");
        walk = std::make_unique<board::ThumbWalk>(code, mt::FunctionTable::of(*image, *code), &encoder, options.seed);
        const double fault = options.fault_at >= 0 ? options.fault_at : options.seconds - 0.017;
        const auto cycles = [&](double t) {
            return static_cast<std::uint64_t>(std::max(0.0, t) * static_cast<double>(options.clock_hz));
        };
        hooks.walk = walk.get();
        hooks.walk_from = cycles(fault - outputs.etm_before);
        hooks.walk_until = cycles(fault + 0.00019 + outputs.etm_after);
    }
    // The instruments were switched on before the recording began.
    board::Bench bench;
    board::CurrentProbe probe(-0.25, options.seed);
    std::unique_ptr<board::LogicCapture> logic;
    if (!outputs.logic.empty()) logic = std::make_unique<board::LogicCapture>(outputs.logic, options.clock_hz);
    const auto seconds = [&](std::uint64_t cycle) {
        return static_cast<double>(cycle) / static_cast<double>(options.clock_hz);
    };
    const double of_cop = 6.5;  // mA; it interpolates at an even pace
    if (!outputs.probe.empty())
        bench.draw = [&](double board, double heater, std::uint64_t cycle) {
            probe.draw(board + of_cop, heater, seconds(cycle));
        };
    if (!outputs.probe.empty() || logic)
        bench.wire = [&](board::Wire wire, bool high, std::uint64_t cycle) {
            if (wire == board::Wire::debug) probe.sync(high, seconds(cycle));
            if (logic) logic->wire(wire, high, cycle);
        };
    if (bench.wire) hooks.bench = &bench;
    std::vector<std::uint8_t> bytes;
    try {
        bytes = board::record_mount(options, range, hooks);
    } catch (const std::runtime_error& e) {
        std::cerr << "mtrail-board: " << e.what() << ": is it the mount's firmware?\n";
        return 2;
    }
    if (!outputs.probe.empty()) {
        probe.advance(options.seconds + 0.05);
        std::vector<std::uint8_t> samples;
        probe.drain(samples);
        if (!write_bytes(outputs.probe, samples)) return 2;
    }
    if (logic && !logic->finish(static_cast<std::uint64_t>(options.seconds * static_cast<double>(options.clock_hz)))) {
        std::cerr << "mtrail-board: cannot write: " << outputs.logic << ": check free space and permissions\n";
        return 2;
    }
    if (writer)
        if (auto ended = writer->finish(); !ended) {
            std::cerr << "mtrail-board: " << ended.error().text() << "\n";
            return 2;
        }
    if (!outputs.etm.empty()) {
        std::vector<std::uint8_t> etm;
        encoder.drain(etm, true);
        if (!write_bytes(outputs.etm, etm)) return 2;
    }
    return outputs.trace.empty() || write_bytes(outputs.trace, bytes) ? 0 : 2;
}

int write_cop(const board::LiveOptions& live, const board::MountOptions& options, const std::string& file) {
    board::RvCore core(live.cop, options.seed);
    board::EtraceEncoder encoder = board::cop_encoder(live.cop_modes);
    core.listen(&encoder);
    std::ofstream out(file, std::ios::binary);
    const auto cycles = static_cast<std::uint64_t>(options.seconds * static_cast<double>(board::RvCore::kHz));
    std::vector<std::uint8_t> bytes;
    for (std::uint64_t done = 0; done < cycles;) {
        const std::uint64_t n = std::min<std::uint64_t>(cycles - done, board::RvCore::kHz / 10);
        core.run(n);
        done += n;
        if (done == cycles) encoder.stop();
        bytes.clear();
        encoder.drain(bytes);
        out.write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
    }
    out.close();
    if (out) return 0;
    std::cerr << "mtrail-board: cannot write: " << file << ": check free space and permissions\n";
    return 2;
}

}  // namespace

int main(int argc, char** argv) {
    CLI::App app{
        "mtrail-board: the simulated Larkspur mount controller. With --write it writes the trace that its main core\n"
        "would send and ends; otherwise it runs as a live target: debug servers and trace on loopback ports.",
        "mtrail-board"};
    board::LiveOptions live;
    board::MountOptions& options = live.mount;
    std::string cop_file, image_path, cop_path, cop_modes;
    Outputs outputs;
    app.add_option("--write", outputs.trace, "file for the bytes of the serial-wire output; then end");
    app.add_option("--write-etm", outputs.etm,
                   "file for ETMv4 instruction trace of the main core around its fault (needs --image); then end");
    app.add_option("--write-events", outputs.events,
                   "folder for the events of the main core's operating system, as a CTF trace; then end");
    app.add_option("--write-probe", outputs.probe,
                   "file for the samples of the current probe (16 bits, 50 kHz, board current, heater current, sync "
                   "line); then end");
    app.add_option("--write-logic", outputs.logic,
                   "file for the motor's lines as a logic capture has them (VCD); then end");
    app.add_flag("--inherit", options.inherit, "bus_lock lends its holder the priority of who waits for it; with --write-events");
    app.add_option("--write-cop", cop_file, "file for the instruction trace of the co-processor; then end");
    app.add_option("--cop-modes", cop_modes,
                   "optional modes of the co-processor's trace: implicit_return (what it uses if left out), branch_prediction,\n"
                   "jump_target_cache, implicit_exception, sequentially_inferred_jump, full_address, separated by commas;\n"
                   "all; none");
    app.add_option("--image", image_path, "ELF of the main core's firmware");
    app.add_option("--cop", cop_path, "ELF that the co-processor executes");
    auto* seconds = app.add_option("--seconds", options.seconds, "how long to record, or to run before it ends")
                        ->check(CLI::Range(0.01, 3600.0));
    app.add_option("--seed", options.seed, "same seed, same recording");
    app.add_option("--clock", options.clock_hz, "core clock in Hz")->check(CLI::Range(1'000'000, 1'000'000'000));
    app.add_option("--baud", options.baud, "line rate of the serial-wire output")
        ->check(CLI::Range(100'000, 100'000'000));
    app.add_flag("--healthy", options.healthy, "nothing goes wrong in the firmware");
    app.add_option("--fault-at", options.fault_at, "seconds until the bus fault; never if left out (live)");

    app.add_option("--bind", live.bind, "address to listen on; only this machine can connect if left out");
    app.add_option("--gdb", live.gdb_main, "port of the main core's debug server; 0: any that is free");
    app.add_option("--gdb-cop", live.gdb_cop, "port of the co-processor's debug server; 0: any that is free");
    app.add_option("--trace", live.trace, "port of the main core's trace stream; 0: any that is free");
    app.add_option("--trace-cop", live.trace_cop, "port of the co-processor's instruction trace; 0: any that is free");
    app.add_option("--events", live.events,
                   "port of the recorder in the main core's firmware (CTF packets); 0: any that is free");
    app.add_option("--probe", live.probe,
                   "port of the current probe: samples of 16 bits at 50 kHz, board current, heater current, sync line; "
                   "0: any that is free");
    app.add_flag("--terminal", live.terminal, "send the trace to a pseudo-terminal too");
    app.add_option("--ports-file", live.ports_file, "write the ports as TOML into this file once they listen");
    app.add_flag("--bare", live.bare, "the firmware sets up no trace: only what a debugger sets in the units is sent");
    app.add_option("--speed", live.speed, "times real time")->check(CLI::Range(0.01, 10'000.0));
    app.add_option("--flood", live.flood,
                   "send this recorded stream over and over as fast as it is taken, in place of the trace");

    app.add_option("--flood-rate", live.flood_rate, "MB/s of --flood")->check(CLI::Range(0.01, 10'000.0));

    auto& t = live.troubles;
    app.add_option("--drop", t.drop, "chance that a trace byte is lost")->check(CLI::Range(0.0, 1.0));
    app.add_option("--flip", t.flip, "chance that a trace byte has a wrong bit")->check(CLI::Range(0.0, 1.0));
    app.add_option("--delay", t.delay_ms, "ms by which trace comes late");
    app.add_option("--stall-at", t.stall_at, "seconds after which trace stands still …");
    app.add_option("--stall-for", t.stall_for, "… for so many seconds");
    app.add_option("--close-after", t.close_after, "close each trace connection after so many bytes");
    app.add_option("--lose-each", t.lose_each, "lose the last 64 of each so many bytes");
    app.add_flag("--refuse-memory", t.refuse_memory, "the debug server refuses to read and write memory");
    app.add_flag("--no-access-running", t.no_access_running, "the debug server reaches no memory while the core runs");
    app.add_option("--unit-off", t.units.off,
                   "trace unit without power: dwt, itm, etm, tpiu, funnel, tmc, encoder, ram-sink, …");
    app.add_option("--unit-asleep", t.units.asleep,
                   "trace unit that answers only once it is woken: etm by its power request, dwt, itm, tpiu by TRCENA");
    app.add_option("--unit-wrong-id", t.units.wrong_id, "trace unit whose identification is wrong");
    app.add_option("--unit-lock-stays", t.units.lock_stays, "trace unit whose lock does not open");
    app.add_option("--unit-write-lost", t.units.write_lost, "trace unit to which writes do not stick");
    app.add_option("--answer-slowly", t.answer_slowly_ms, "ms that each answer of the debug server takes");
    app.add_option("--malformed-each", t.malformed_each, "each so many answers of the debug server are malformed");
    app.add_option("--phase", t.phase, "sampling phase of the trace line")->check(CLI::Range(0u, 23u));
    app.add_option("--clean-phases", t.clean_count, "how many of the 24 phases read the line right")
        ->check(CLI::Range(0u, 24u));
    CLI11_PARSE(app, argc, argv);

    const auto open = [](const std::string& path, std::shared_ptr<const mt::Image>& image) {
        if (path.empty()) return true;
        auto opened = mt::Image::open(path);
        if (!opened) {
            std::cerr << "mtrail-board: " << opened.error().text() << "\n";
            return false;
        }
        image = *opened;
        return true;
    };
    if (!open(image_path, live.image) || !open(cop_path, live.cop)) return 2;
    if (!cop_file.empty() && live.cop == nullptr) {
        std::cerr << "mtrail-board: --write-cop needs a program: give --cop FILE.elf\n";
        return 2;
    }
    if (!cop_modes.empty()) {
        const auto modes = board::cop_mode::named(cop_modes);
        if (!modes) {
            std::cerr << "mtrail-board: --cop-modes " << cop_modes << ": there is no such mode; see --help\n";
            return 2;
        }
        live.cop_modes = *modes;
        std::cerr << "mtrail-board: the target file needs in [stream.etrace]:\n" << board::cop_mode::target_keys(*modes);
    }
    if (!outputs.etm.empty() && live.image == nullptr) {
        std::cerr << "mtrail-board: --write-etm needs the program: give --image FILE.elf\n";
        return 2;
    }
    int code = 0;
    const bool main_core = !outputs.trace.empty() || !outputs.events.empty() || !outputs.etm.empty() ||
                           !outputs.probe.empty() || !outputs.logic.empty();
    if (main_core) code = write_file(options, outputs, live.image.get());
    if (!cop_file.empty() && code == 0) code = write_cop(live, options, cop_file);
    if (main_core || !cop_file.empty()) return code;
    live.end_after = seconds->count() > 0 ? options.seconds : 0;
    return board::run_live(live);
}
