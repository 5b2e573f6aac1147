#include "identify/identify.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <regex>
#include <sstream>

#include "base/text.h"
#include "identify/file_sort.h"
#include "identify/looks.h"
#include "target/target_edit.h"
#include "wire/tpiu.h"

namespace mt {
namespace {

constexpr std::size_t kSample = 1 << 20;

// From the first byte that differs from those before; a little of these stays, as synchronisations begin with zeros.
std::span<const std::uint8_t> sample_of(std::span<const std::uint8_t> bytes) {
    const auto first = std::find_if(bytes.begin(), bytes.end(), [&](std::uint8_t b) { return b != bytes[0]; });
    if (first == bytes.end()) return bytes.subspan(0, std::min(kSample, bytes.size()));
    auto from = static_cast<std::size_t>(first - bytes.begin());
    from = from > 64 ? (from - 64) / 16 * 16 : 0;
    return bytes.subspan(from, std::min(kSample, bytes.size() - from));
}

// A way to take a stream out of the file.
struct Way {
    StreamSpec spec;
    std::vector<std::uint8_t> unframed;
};

std::vector<Way> framed_ways(std::span<const std::uint8_t> raw) {
    const bool synced = tpiu_has_full_sync(raw);
    TpiuDeframer counting(1, !synced);
    std::vector<std::uint8_t> none;
    std::vector<TpiuDeframer::Break> breaks;
    counting.feed(raw, none, breaks);
    const TpiuCounts& counts = counting.counts();
    // Without a mark nothing says that there are frames but that few IDs share the bytes.
    if (synced && counts.lost_bytes * 2 > raw.size()) return {};
    std::vector<std::pair<std::uint64_t, unsigned>> ids;
    std::uint64_t all = 0, stray = 0;
    for (unsigned id = 1; id < 128; ++id) {
        all += counts.bytes_of_id[id];
        if (id >= 0x70 && id != 0x7D) stray += counts.bytes_of_id[id];  // reserved (D4.2.4)
        if (counts.bytes_of_id[id] > 0 && id < 0x70) ids.emplace_back(counts.bytes_of_id[id], id);
    }
    std::sort(ids.rbegin(), ids.rend());
    if (all == 0 || (!synced && (stray * 50 > all || ids.size() > 8))) return {};
    std::vector<Way> ways;
    for (std::size_t i = 0; i < ids.size() && ways.size() < 6; ++i) {
        if (ids[i].first * 200 < all && ids[i].first < 512) continue;
        Way way;
        way.spec.framing = Framing::tpiu;
        way.spec.trace_id = static_cast<std::uint8_t>(ids[i].second);
        TpiuDeframer frames(way.spec.trace_id, !synced);
        breaks.clear();
        frames.feed(raw, way.unframed, breaks);
        ways.push_back(std::move(way));
    }
    return ways;
}

}  // namespace

std::string Identified::verdict() const {
    if (!sort.empty()) return "this is no trace that is known here: it is " + sort;
    if (guesses.empty()) return "this is no trace that is known here: no protocol fits its bytes";
    const Guess& best = guesses.front();
    if (!sure()) return "this is no trace that is known here; the best guess is " + best.name() + ", but: " + best.why;
    return best.name() + ": " + best.why;
}

Identified identify(std::span<const std::uint8_t> bytes, std::shared_ptr<const Image> image, const std::string& isa,
                    const Progress& progress) {
    Identified out;
    const auto sample = bytes.empty() ? bytes : sample_of(bytes);
    out.sort = file_sort(sample.size() < 64 || sample.data() != bytes.data()
                             ? bytes.subspan(0, std::min(bytes.size(), kSample))
                             : sample);
    if (!out.sort.empty() && (sample.data() == bytes.data() || sample.size() < 64)) return out;
    out.sort.clear();
    LookedWith with;
    with.image = std::move(image);
    with.isa = !isa.empty() ? isa : with.image != nullptr ? with.image->isa() : std::string();
    if (with.image != nullptr && Code::can_follow(with.isa)) with.code = Code::of(*with.image, with.isa);

    std::vector<Way> ways(1);
    ways[0].unframed.assign(sample.begin(), sample.end());
    for (Way& way : framed_ways(sample)) ways.push_back(std::move(way));
    for (const Way& way : ways) {
        if (progress.cancelled()) break;
        std::vector<Guess> found = look_itm(way.spec, way.unframed, with);
        for (Guess& g : look_others(way.spec, way.unframed, with)) found.push_back(std::move(g));
        // Bare: what comes out of the frames is looked at as bytes of their own.
        StreamSpec bare = way.spec;
        bare.framing = Framing::none;
        for (Guess& g : look_steps(bare, way.unframed, with, progress)) {
            g.stream.framing = way.spec.framing;
            g.stream.trace_id = way.spec.trace_id;
            found.push_back(std::move(g));
        }
        for (Guess& g : found) {
            // A source that is hardly there explains little of the file.
            if (way.spec.framing == Framing::tpiu)
                g.fit *= 0.9 + 0.1 * static_cast<double>(way.unframed.size()) / static_cast<double>(sample.size());
            if (g.fit > 0.02) out.guesses.push_back(std::move(g));
        }
    }
    std::stable_sort(out.guesses.begin(), out.guesses.end(),
                     [](const Guess& a, const Guess& b) { return a.fit > b.fit; });
    if (out.guesses.size() > 12) out.guesses.resize(12);
    return out;
}

void heed_name(Identified& found, const std::string& path) {
    static const std::regex rate(R"((?:^|[^0-9.])(\d{1,4}(?:[.]\d{1,6})?)[ _-]?(k|m)hz)", std::regex::icase);
    const std::string name = std::filesystem::path(path).filename().string();
    std::smatch match;
    if (name.size() > 255 || !std::regex_search(name, match, rate)) return;
    const double hz = std::stod(match[1]) * (match[2] == "k" || match[2] == "K" ? 1e3 : 1e6);
    if (hz < 1000 || hz > 1e10) return;
    const auto whole = static_cast<std::uint64_t>(std::llround(hz));
    for (Guess& g : found.guesses) {
        if (!g.readable() || g.stream.protocol != Protocol::itm) continue;
        std::erase_if(g.clocks, [&](const ClockGuess& c) { return c.hz == whole; });
        g.clocks.insert(g.clocks.begin(), {whole, "as the file's name says"});
    }
}

std::string target_text(const Guess& guess, const std::vector<std::string>& files, const std::string& image,
                        const std::string& name) {
    const StreamSpec &s = guess.stream, usual;
    std::ostringstream out;
    out << "format = \"mindful-trail-target/1\"\nname   = " << toml_quoted(name)
        << "\n\n[[core]]\nname     = \"main\"\n";
    if (!guess.isa.empty())
        out << "isa      = \"" << guess.isa << "\"\n";
    else
        out << "isa      = \""
            << (s.protocol == Protocol::etrace || s.protocol == Protocol::ntrace ? "rv32imac"
                : s.protocol == Protocol::pft                                    ? "armv7-a"
                                                                                 : "armv7e-m")
            << "\"  # not known: the image tells\n";
    if (!guess.clocks.empty())
        out << "clock_hz = " << guess.clocks[0].hz << "  # a guess: " << guess.clocks[0].why << "\n";
    else if (s.protocol == Protocol::itm)
        out << "clock_hz = 100000000  # not known: all times are off by one factor until it is right\n";
    if (!image.empty()) out << "image    = " << toml_quoted(image) << "\n";
    out << "\n[[stream]]\nfile     = ";
    for (std::size_t i = 0; i < files.size(); ++i)
        out << (files.size() == 1 ? "" : i == 0 ? "[" : ", ") << toml_quoted(files[i]);
    out << (files.size() == 1 ? "" : "]") << "\nprotocol = \"" << protocol_name(s.protocol) << "\"\nframing  = \""
        << (s.framing == Framing::tpiu ? "tpiu" : "none") << "\"\n";
    if (s.framing == Framing::tpiu) out << "trace_id = " << int{s.trace_id} << "\n";
    if (s.protocol != Protocol::ctf) out << "core     = \"main\"\n";
    std::ostringstream keys;
    const auto number = [&](const char* key, auto value, auto normal) {
        if (value != normal) keys << key << " = " << value << "\n";
    };
    const auto on = [&](const char* key, bool value, bool normal) {
        if (value != normal) keys << key << " = " << (value ? "true" : "false") << "\n";
    };
    switch (s.protocol) {
        case Protocol::itm:
            keys << "timestamp_prescaler = " << s.timestamp_prescaler << "\n";
            break;
        case Protocol::etm4:
            on("cycle_count", s.etm4.cycle_count, usual.etm4.cycle_count);
            on("return_stack", s.etm4.return_stack, usual.etm4.return_stack);
            if (s.etm4.commit_in_cycles) keys << "commopt = 0\n";
            number("context_id_bytes", s.etm4.context_id_bytes, usual.etm4.context_id_bytes);
            break;
        case Protocol::pft:
            on("cycle_accurate", s.pft.cycle_accurate, usual.pft.cycle_accurate);
            on("return_stack", s.pft.return_stack, usual.pft.return_stack);
            number("context_id_bytes", s.pft.context_id_bytes, usual.pft.context_id_bytes);
            break;
        case Protocol::etm3:
            on("cycle_accurate", s.etm3.cycle_accurate, usual.etm3.cycle_accurate);
            on("alternative_branch", s.etm3.alternative_branch, usual.etm3.alternative_branch);
            on("data_address", s.etm3.data_address, usual.etm3.data_address);
            on("data_value", s.etm3.data_value, usual.etm3.data_value);
            number("context_id_bytes", s.etm3.context_id_bytes, usual.etm3.context_id_bytes);
            break;
        case Protocol::etrace: {
            const EtraceParameters &e = s.etrace, &n = usual.etrace;
            number("iaddress_width", e.iaddress_width, n.iaddress_width);
            number("iaddress_lsb", e.iaddress_lsb, n.iaddress_lsb);
            number("privilege_width", e.privilege_width, n.privilege_width);
            number("ecause_width", e.ecause_width, n.ecause_width);
            number("context_width", e.context_width, n.context_width);
            number("time_width", e.time_width, n.time_width);
            number("return_stack_size", e.return_stack_size, n.return_stack_size);
            number("call_counter_size", e.call_counter_size, n.call_counter_size);
            number("encoder_mode_width", e.encoder_mode_width, n.encoder_mode_width);
            number("cache_size", e.cache_size, n.cache_size);
            number("bpred_size", e.bpred_size, n.bpred_size);
            number("f0s_width", e.f0s_width, n.f0s_width);
            number("src_id_bits", e.src_id_bits, n.src_id_bits);
            on("implicit_return", e.implicit_return, n.implicit_return);
            on("full_address", e.full_address, n.full_address);
            keys << "encapsulation = \"length-byte\"\n";
            break;
        }
        case Protocol::ntrace:
            number("src_bits", s.ntrace.src_bits, usual.ntrace.src_bits);
            on("timestamps", s.ntrace.timestamps, usual.ntrace.timestamps);
            on("implicit_return", s.ntrace.implicit_return, usual.ntrace.implicit_return);
            break;
        default:
            break;
    }
    if (!keys.str().empty()) out << "\n[stream." << protocol_name(s.protocol) << "]\n" << keys.str();
    return out.str();
}

}  // namespace mt
