// How fast instruction trace becomes a model: instructions per second on one core and on all, and the ratio to a plain
// pass over the stream's bytes in the same run. Captures are short: each is repeated until it has some 25 million
// instructions, as if tracing had been switched off and on again.
#include <benchmark/benchmark.h>
#include <sched.h>

#include <chrono>
#include <filesystem>
#include <fstream>

#include "etrace_encoder.h"
#include "flow/step_log.h"
#include "flow/step_pipe.h"
#include "memory_pass.h"
#include "older_trace.h"
#include "pass/reading.h"
#include "recording/step_setup.h"
#include "rv_program.h"

namespace {

using namespace mt;
using SteadyClock = std::chrono::steady_clock;
namespace fs = std::filesystem;

// A capture many times over, in a folder of its own.
class Repeated {
  public:
    Repeated(const std::string& name, const std::string& stream, std::uint64_t times)
        : folder_(fs::temp_directory_path() / ("mtrail-steps-" + std::to_string(::getpid()))) {
        const fs::path from = fs::path(MT_DATA) / "steps";
        fs::create_directories(folder_ / name);
        for (const auto& entry : fs::directory_iterator(from))
            if (entry.path().extension() == ".elf")
                fs::copy_file(entry.path(), folder_ / entry.path().filename(), fs::copy_options::overwrite_existing);
        fs::copy_file(from / name / "recording.target.toml", path(name), fs::copy_options::overwrite_existing);
        std::ifstream in(from / name / stream, std::ios::binary);
        const std::string once((std::istreambuf_iterator<char>(in)), {});
        std::ofstream out(folder_ / name / stream, std::ios::binary);
        for (std::uint64_t i = 0; i < times; ++i) out << once;
    }
    ~Repeated() {
        std::error_code ec;
        fs::remove_all(folder_, ec);
    }
    fs::path path(const std::string& name) const { return folder_ / name / "recording.target.toml"; }

  private:
    fs::path folder_;
};

// What a stretch of program has that trace must tell, or can leave out: rates compare only where these are alike.
struct Density {
    std::uint64_t instructions = 0;
    std::uint64_t branches = 0;  ///< with jumps, calls and returns, whether taken or not
    std::uint64_t indirect = 0;  ///< of those, that lead where a register or memory says
    std::uint64_t traps = 0;

    void add(const Code& code, const RunCounts& runs) {
        for (std::size_t s = 0; s < runs.ends.size(); ++s) {
            const Code::Slot& slot = code[static_cast<std::uint32_t>(s)];
            if (slot.flow == Flow::next) continue;
            branches += runs.ends[s];
            if (slot.target == Code::kNowhere && slot.flow != Flow::barrier && slot.flow != Flow::trap) indirect += runs.ends[s];
        }
    }
    void tell(benchmark::State& state) const {
        const auto each = [&](std::uint64_t n) { return static_cast<double>(n) / static_cast<double>(instructions); };
        state.SetItemsProcessed(static_cast<std::int64_t>(instructions));
        state.counters["branches_each"] = each(branches);
        state.counters["indirect_each"] = each(indirect);
        if (traps > 0) state.counters["traps_each"] = each(traps);
    }
};

// A repeated capture; `once`: instructions each time.
std::optional<Repeated> repeated_capture(const char* name, const char* stream) {
    std::uint64_t once = 0;
    const auto recording = open_recording(std::string(MT_DATA "/steps/") + name + "/recording.target.toml");
    Progress progress;
    if (recording) once = (*read_trail(**recording, progress))->steps[0].steps;
    if (once == 0) return std::nullopt;
    return std::optional<Repeated>(std::in_place, name, stream, 25'000'000 / once + 1);
}

constexpr std::size_t kPiece = 4096;

// `feed` feeds a log that hands on to nobody.
template <class Feed>
void walk(Density& density, const std::shared_ptr<const Code>& code, const std::shared_ptr<const FunctionTable>& functions, Feed feed) {
    StepLog log(code, functions, [&](std::unique_ptr<StepBlock> block) {
        for (const StepBlock::Item& item : block->items()) density.instructions += item.steps();
        density.traps += block->traps.size();
        return block;
    });
    feed(log);
    log.flush();
    density.add(*code, log.counts());
}

// Packets and the way through the program alone, on one core, without a model of calls: what a protocol costs, however
// many calls and exceptions the program has.
void walked(benchmark::State& state, const char* name, const char* stream) {
    const auto repeated = repeated_capture(name, stream);
    if (!repeated) return state.SkipWithError("not opened");
    const auto recording = open_recording(repeated->path(name).string());
    const Recording::Stream& s = (*recording)->step_streams[0];
    const auto raw = s.bytes();
    const auto code = (*recording)->code[s.core];
    const double plain = bench::memory_pass_seconds(raw, 9);
    Density density;
    double spent = 0;
    for (auto _ : state) {
        const auto from = SteadyClock::now();
        StepPipe pipe = make_step_pipe(**recording, 0);
        walk(density, code, (*recording)->functions[s.core], [&](StepLog& log) {
            for (std::size_t at = 0; at < raw.size(); at += kPiece)
                pipe.feed(raw.subspan(at, std::min(kPiece, raw.size() - at)), log);
            pipe.finish(log);
        });
        spent += std::chrono::duration<double>(SteadyClock::now() - from).count();
    }
    density.tell(state);
    state.counters["of_memory_pass"] = plain * static_cast<double>(state.iterations()) / spent;
}

// E-Trace of a random program with four times the indirect branches and a hundred times the exceptions that the captures' has.
void walked_random_etrace(benchmark::State& state) {
    struct Watcher : board::RvListener {
        explicit Watcher(board::EtraceEncoder& e) : encoder(e) {}
        void retired(const board::RvRetired& insn) override { encoder.retired(insn); }
        void trapped(const board::RvTrapped& t) override { encoder.trapped(t); }
        void restarted() override {}
        board::EtraceEncoder& encoder;
    };
    const auto seed = static_cast<std::uint64_t>(state.range(0));
    const RvProgram program(seed);
    board::RvCore core(nullptr, seed);
    program.load(core);
    board::EtraceEncoder encoder({}, {}, 500);
    Watcher watcher(encoder);
    core.listen(&watcher);
    core.run(4'000'000);
    encoder.stop();
    std::vector<std::uint8_t> trace;
    encoder.drain(trace);
    const auto bytes = program.bytes();
    Image::Piece piece;
    piece.address = board::RvCore::kRam;
    piece.bytes = bytes;
    const auto code = Code::of(std::span(&piece, 1), "rv32imac");
    const auto functions = FunctionTable::of(std::vector<Function>{}, *code);
    Density density;
    for (auto _ : state)
        walk(density, code, functions, [&](StepLog& log) {
            EtraceDecoder decoder({});
            EtraceFlow flow(code, {});
            std::vector<EtracePacket> packets;
            const auto follow = [&] {
                flow.feed(packets, log);
                packets.clear();
            };
            const std::span<const std::uint8_t> raw(trace);
            for (std::size_t at = 0; at < raw.size(); at += kPiece) {
                decoder.feed(raw.subspan(at, std::min(kPiece, raw.size() - at)), packets, follow);
                follow();
            }
        });
    density.tell(state);
}

// PFT and ETMv3 of a random program, beside which E-Trace's can be laid: the densities say how alike they are.
void walked_random_older(benchmark::State& state, Protocol protocol) {
    const auto seed = static_cast<std::uint64_t>(state.range(0));
    const test::OlderWalk walk_of = test::older_walk(seed, 60'000);
    StreamSpec spec;
    spec.protocol = protocol;
    const std::vector<std::uint8_t> trace =
        protocol == Protocol::pft ? test::PftEncoder(walk_of, spec.pft, seed, false).bytes : test::Etm3Encoder(walk_of, spec.etm3, seed, false).bytes;
    Density density;
    for (auto _ : state)
        walk(density, walk_of.code, walk_of.functions, [&](StepLog& log) {
            StepPipe pipe(spec, walk_of.code, {});
            const std::span<const std::uint8_t> raw(trace);
            for (std::size_t at = 0; at < raw.size(); at += kPiece) pipe.feed(raw.subspan(at, std::min(kPiece, raw.size() - at)), log);
            pipe.finish(log);
        });
    density.tell(state);
}

void followed(benchmark::State& state, const char* name, const char* stream, bool one) {
    const auto repeated = repeated_capture(name, stream);
    if (!repeated) return state.SkipWithError("not opened");
    const auto recording = open_recording(repeated->path(name).string());
    const auto raw = (*recording)->step_streams[0].bytes();
    const double plain = bench::memory_pass_seconds(raw, 9);
    cpu_set_t all, use;
    ::sched_getaffinity(0, sizeof all, &all);
    use = all;
    if (one) {
        int last = 0;
        for (int c = 0; c < CPU_SETSIZE; ++c)
            if (CPU_ISSET(c, &all)) last = c;
        CPU_ZERO(&use);
        CPU_SET(last, &use);
    }
    ::sched_setaffinity(0, sizeof use, &use);
    Density density;
    double spent = 0;
    for (auto _ : state) {
        const auto from = SteadyClock::now();
        Progress progress;
        const auto trail = read_trail(**recording, progress);
        spent += std::chrono::duration<double>(SteadyClock::now() - from).count();
        const StepTrail& steps = (*trail)->steps[0];
        density.instructions += steps.steps;
        density.traps += steps.traps.size();
        density.add(*steps.code, steps.counters->runs);
    }
    ::sched_setaffinity(0, sizeof all, &all);
    density.tell(state);
    state.counters["bytes_each"] =
        static_cast<double>(raw.size()) * static_cast<double>(state.iterations()) / static_cast<double>(density.instructions);
    state.counters["of_memory_pass"] = plain * static_cast<double>(state.iterations()) / spent;
}

#define FOLLOWED(what, name, stream)                                                                                \
    BENCHMARK_CAPTURE(walked, what, name, stream)->Unit(benchmark::kMillisecond)->UseRealTime();                    \
    BENCHMARK_CAPTURE(followed, what##_one_core, name, stream, true)->Unit(benchmark::kMillisecond)->UseRealTime(); \
    BENCHMARK_CAPTURE(followed, what##_all_cores, name, stream, false)->Unit(benchmark::kMillisecond)->UseRealTime()

FOLLOWED(etrace, "rv-etrace-mount", "trace.bin");
FOLLOWED(etrace_rv64, "rv64-etrace-mount", "trace.bin");
FOLLOWED(etrace_full, "rv-etrace-mount-full", "trace.bin");
FOLLOWED(etrace_modes, "rv-etrace-mount-modes", "trace.bin");
FOLLOWED(etrace_implicit_return, "rv-etrace-mount-return", "trace.bin");
FOLLOWED(ntrace_history, "rv-ntrace-mount-htm", "trace.bin");
FOLLOWED(etm4, "arm-etm-mount", "capture.bin");
FOLLOWED(etm4_return_stack, "arm-etm-mount-rs", "capture.bin");
FOLLOWED(etm4_cycles, "arm-etm-mount-cc", "capture.bin");
FOLLOWED(etm4_a64, "arm-etm-a-mount", "capture.bin");
FOLLOWED(pft, "arm-pft-mount", "capture.bin");
FOLLOWED(pft_broadcast, "arm-pft-mount-bb", "capture.bin");
FOLLOWED(pft_cycles, "arm-pft-mount-cc", "capture.bin");
FOLLOWED(etm3, "arm-etm3-mount", "capture.bin");
FOLLOWED(etm3_cycles, "arm-etm3-mount-cc", "capture.bin");

BENCHMARK(walked_random_etrace)->Arg(1)->Arg(5)->Unit(benchmark::kMillisecond)->UseRealTime();
BENCHMARK_CAPTURE(walked_random_older, pft, Protocol::pft)->Arg(1)->Arg(5)->Unit(benchmark::kMillisecond)->UseRealTime();
BENCHMARK_CAPTURE(walked_random_older, etm3, Protocol::etm3)->Arg(1)->Arg(5)->Unit(benchmark::kMillisecond)->UseRealTime();

}  // namespace
