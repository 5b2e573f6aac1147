#include "doubt/connection_test.h"

#include <cmath>
#include <filesystem>
#include <thread>

#include "base/text.h"
#include "capture/ring.h"
#include "control/debug_server.h"
#include "control/image_check.h"
#include "doubt/arrival_pace.h"
#include "doubt/step_fit.h"
#include "flow/itm_pipe.h"
#include "recording/recording.h"

namespace mt {
namespace {

using Steady = std::chrono::steady_clock;
constexpr std::size_t kMostHeard = 8 << 20;

class Attempt {
  public:
    Attempt(const Recipe& recipe, const Recording& base, const Recipe::Connect& connect, std::size_t core,
            Progress& progress)
        : recipe_(recipe), base_(base), connect_(connect), core_(core), progress_(progress) {
        const auto stream = stream_of(base.target, connect);
        report_.core = !connect.core.empty() ? connect.core
                       : stream              ? base.target.streams[*stream].samples.name
                                             : std::string(protocol_name(Protocol::samples));
    }
    ConnectionReport run(double listen_s) {
        if (connect_.protocol == "console") return look_at_console();
        if (auto ok = look_at_core(); !ok) return bad(ok.error());
        if (connect_.trace)
            if (auto ok = listen(listen_s); !ok) return bad(ok.error());
        return report_;
    }

  private:
    ConnectionReport bad(const Problem& problem) {
        report_.good = false;
        report_.findings.push_back(problem.what + (problem.where.empty() ? "" : " (" + problem.where + ")"));
        report_.advice = problem.advice;
        return report_;
    }
    // A console may rightly be silent.
    ConnectionReport look_at_console() {
        if (connect_.trace && connect_.trace->kind <= SourceSpec::Kind::file) {
            auto source = open();
            if (!source) return bad(source.error());
            report_.findings.push_back("connected to " + connect_.trace->text());
        } else {
            report_.findings.push_back("its text comes while the core runs");
        }
        return report_;
    }
    Result<void> look_at_core() {
        if (connect_.debug.empty()) return {};
        const std::chrono::milliseconds patience(recipe_.patience_ms);
        auto server = DebugServer::connect(connect_.debug, patience, connect_.thread);
        if (!server) return tl::make_unexpected(server.error());
        server_ = std::move(*server);
        report_.findings.push_back("connected to " + connect_.debug);
        if (auto halted = server_->halt(); !halted) return tl::make_unexpected(halted.error());
        auto pc = server_->pc();
        if (!pc) return tl::make_unexpected(pc.error());
        const auto& image = base_.images[core_];
        std::string place = hex_text(*pc);
        const Symbol* function = image ? image->function_at(*pc) : nullptr;
        if (function != nullptr) place += " (" + function->name + ")";
        report_.findings.push_back("core halted at " + place);
        if (image) {
            auto check = check_image(*server_, *image, &progress_);
            if (!check) return tl::make_unexpected(check.error());
            if (!check->matches())
                return failure("the image does not match: " + count_text(check->different) + " of " +
                                   count_text(check->compared) + " bytes differ, the first at " +
                                   hex_text(check->first),
                               image->path(), "give the image that is on the target");
            report_.findings.push_back("image matches, " + count_text(check->compared) + " bytes");
        }
        return server_->resume();
    }
    Result<std::unique_ptr<Source>> open() {
        const SourceSpec& spec = *connect_.trace;
        if (spec.kind == SourceSpec::Kind::console)  // its server is asked in the table that names it
            return failure("what a debug server prints comes only while a recording runs", spec.text());
        if (spec.kind <= SourceSpec::Kind::file)
            return open_source(spec, std::chrono::milliseconds(recipe_.patience_ms));
        std::uint64_t at = spec.at, size = spec.size;
        if (!spec.symbol.empty()) {
            const auto& image = base_.images[core_];
            const Symbol* symbol = image ? image->symbol_named(spec.symbol) : nullptr;
            if (symbol == nullptr)
                return failure("the image has no symbol '" + spec.symbol + "'", recipe_.path,
                               "correct 'symbol', or give the address with 'at'");
            at = symbol->address;
            if (size == 0) size = symbol->size;
        }
        return spec.kind == SourceSpec::Kind::ring ? ring_source(*server_, at) : dump_source(*server_, at, size);
    }
    Result<void> listen(double listen_s) {
        auto source = open();
        if (!source) return tl::make_unexpected(source.error());
        if (connect_.debug.empty()) report_.findings.push_back("connected to " + connect_.trace->text());
        std::vector<std::uint8_t> heard(kMostHeard);
        std::size_t bytes = 0;
        const auto began = Steady::now();
        const auto passed = [&] { return std::chrono::duration<double>(Steady::now() - began).count(); };
        while (passed() < listen_s && bytes < heard.size() && !progress_.cancelled()) {
            auto n = (*source)->read(std::span(heard).subspan(bytes), std::chrono::milliseconds(50));
            if (!n) return tl::make_unexpected(n.error());
            bytes += *n;
            pace_.arrived(passed(), *n);
            if (*n == 0 && connect_.trace->kind > SourceSpec::Kind::file)
                std::this_thread::sleep_for(std::chrono::milliseconds(connect_.trace->every_ms));
            if ((*source)->exhausted()) break;
        }
        heard.resize(bytes);
        if (bytes == 0)
            return failure("no trace came in " + duration_text(Time::from_ns(listen_s * 1e9)), connect_.trace->text(),
                           "is trace enabled on the target, and is this the right port or line?");
        return judge(heard, passed());
    }
    // Follows the program for as long as was listened.
    Result<void> judge_steps(std::span<const std::uint8_t> heard, const StreamSpec& spec) {
        const auto code = Code::of(*base_.images[core_], base_.target.cores[core_].isa);
        const StepFit fit = step_fit(spec, code, heard);
        const auto suspect = suspect_parameter(spec, code, heard.first(std::min<std::size_t>(heard.size(), 64 << 10)));
        if (fit.syncs == 0)
            return failure("no synchronisation in it", "",
                           suspect ? suspect->text()
                                   : "is the framing, the protocol or the bit rate wrong? Some targets synchronise "
                                     "rarely: then record, and look again");
        report_.findings.push_back(count_text(fit.steps) + " instructions followed");
        report_.findings.push_back(plural(fit.bad_bytes, "bad byte", "bad bytes"));
        report_.good = fit.bad_bytes == 0 && fit.contradictions == 0;
        if (suspect)
            report_.advice = suspect->text();
        else if (fit.hopeless() && fit.contradictions > 0)
            report_.advice = "packets and program do not fit together: is this the image that runs?";
        else if (!report_.good)
            report_.advice = "bytes are damaged on the way: check the line, its rate and its phase (line check)";
        return {};
    }
    // Looks for packets that the metadata describes.
    Result<void> judge_events(std::span<const std::uint8_t> heard, const StreamSpec& spec) {
        EventPlace place = event_place(spec);
        auto metadata = open_event_metadata(place);
        if (!metadata) return tl::make_unexpected(metadata.error());
        std::vector<CtfPacket> packets;
        std::vector<EventSource::Damage> damage;
        PacketLister(*(*metadata)->metadata).list(heard, {}, false, packets, damage);
        if (packets.empty())
            return failure("no packet that the metadata describes in it", "",
                           "is this the right port or ring, and does the metadata belong to this firmware?");
        std::uint64_t events = 0, bad = 0;
        const char* trouble = "";
        for (const auto& d : damage) bad += d.length;
        CtfCursor cursor(*(*metadata)->metadata);
        for (const auto& p : packets) {
            cursor.open(heard, p);
            while (cursor.next()) ++events;
            if (*trouble == 0) trouble = cursor.trouble();
        }
        report_.findings.push_back(plural(events, "event", "events") + " in " +
                                   plural(packets.size(), "packet", "packets"));
        report_.findings.push_back(plural(bad, "bad byte", "bad bytes"));
        report_.good = bad == 0 && *trouble == 0;
        if (*trouble != 0)
            report_.advice =
                std::string("a packet cannot be read (") + trouble + "): does the metadata belong to this firmware?";
        else if (bad > 0)
            report_.advice = "bytes are damaged on the way: check the line and its rate";
        return {};
    }
    // Its clock gives the rate; only how many bytes a sample has can be told by it.
    void judge_samples(const SamplesParameters& spec, double bytes_a_second) {
        const double bytes = pace_.tells() ? pace_.rate() : bytes_a_second;
        const double rate = bytes / static_cast<double>(spec.frame_bytes());
        report_.good = std::abs(rate / spec.rate_hz - 1) < 0.1 + (pace_.tells() ? pace_.doubt() : 0);
        report_.findings.push_back(bytes_text(static_cast<std::uint64_t>(bytes)) + "/s of trace, " +
                                   count_text(static_cast<std::uint64_t>(std::lround(rate))) +
                                   " samples of each channel a second");
        if (!report_.good)
            report_.advice = "rate_hz says " + count_text(static_cast<std::uint64_t>(spec.rate_hz)) +
                             ": are it, type and channels in [stream.samples] those of the device?";
    }
    Result<void> judge(std::span<const std::uint8_t> heard, double seconds) {
        std::string text =
            bytes_text(static_cast<std::uint64_t>(static_cast<double>(heard.size()) / seconds)) + "/s of trace";
        const auto stream = stream_of(base_.target, connect_);
        const StreamSpec* spec = stream ? &base_.target.streams[*stream] : nullptr;
        if (spec != nullptr && tells_instructions(spec->protocol) && base_.images[core_]) {
            report_.findings.push_back(text);
            return judge_steps(heard, *spec);
        }
        if (spec != nullptr && spec->protocol == Protocol::ctf) {
            report_.findings.push_back(text);
            return judge_events(heard, *spec);
        }
        if (spec != nullptr && spec->protocol == Protocol::samples) {
            judge_samples(spec->samples, static_cast<double>(heard.size()) / seconds);
            return {};
        }
        if (spec == nullptr || spec->protocol != Protocol::itm) {
            report_.findings.push_back(text + ", which this version does not decode");
            return {};
        }
        std::optional<TpiuDeframer> frames;
        if (spec->framing == Framing::tpiu) frames.emplace(spec->trace_id, !tpiu_has_full_sync(heard));
        ItmPipe pipe(std::move(frames), ItmDecoder::Start::at_sync, {base_.target.cores[core_].clock_hz},
                     spec->timestamp_prescaler);
        std::vector<TimedPacket> packets;
        pipe.feed(heard, packets);
        std::uint64_t bad = 0, syncs = 0;
        for (const auto& p : packets) {
            if (p.packet.kind == ItmKind::sync) ++syncs;
            if (p.packet.kind == ItmKind::damage &&
                p.packet.number != static_cast<std::uint16_t>(ItmDamage::no_sync_yet))
                bad += p.packet.length;
        }
        report_.findings.push_back(text);
        if (syncs == 0)
            return failure("no synchronisation in it", "",
                           spec->framing == Framing::none && tpiu_has_full_sync(heard)
                               ? "it holds formatter synchronisations: set framing = \"tpiu\" and a trace_id"
                               : "is the framing, the protocol or the bit rate wrong? Some targets synchronise rarely: "
                                 "then record, and look again");
        report_.findings.push_back(plural(bad, "bad byte", "bad bytes"));
        if (bad > 0) {
            report_.good = false;
            report_.advice = "bytes are damaged on the way: check the line, its rate and its phase (line check)";
        }
        return {};
    }

    const Recipe& recipe_;
    const Recording& base_;
    const Recipe::Connect& connect_;
    std::size_t core_;
    Progress& progress_;
    std::unique_ptr<DebugServer> server_;
    ConnectionReport report_;
    ArrivalPace pace_;
};

}  // namespace

Result<std::vector<ConnectionReport>> test_connections(const Recipe& recipe, double listen_s, Progress& progress) {
    auto base = open_without_streams(recipe.target);
    if (!base) return tl::make_unexpected(base.error());
    std::vector<ConnectionReport> reports;
    for (const auto& connect : recipe.connects) {
        std::size_t core = 0;
        // A device beside the cores belongs to none.
        while (!connect.core.empty() && core < (*base)->target.cores.size() &&
               (*base)->target.cores[core].name != connect.core)
            ++core;
        if (core == (*base)->target.cores.size())
            return failure("the target file has no core '" + connect.core + "'", recipe.target, "name one that it has");
        reports.push_back(Attempt(recipe, **base, connect, core, progress).run(listen_s));
    }
    return reports;
}

}  // namespace mt
