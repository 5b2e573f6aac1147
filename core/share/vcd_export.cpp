#include "share/vcd_export.h"

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <memory>
#include <ostream>

#include "measure/lane_kind.h"
#include "share/state_codes.h"
#include "model/lane.h"

namespace mt {
namespace {

constexpr int kWindows = 2000;

struct Signal {
    std::unique_ptr<const Lane> lane;
    std::string id, name, kind;
    std::size_t core = 0;
    char last = 0;      ///< of wires and registers: what was written last
    int nested = 0;     ///< spans of a wire that last now
    bool gaps = false;  ///< the kind is the gaps themselves
};

struct Change {
    Time time;
    std::size_t signal;
    int what;  ///< wires: 1 begins, 0 ends; registers: the state; values and events: the sample
    bool operator<(const Change& o) const { return time != o.time ? time < o.time : signal < o.signal; }
};

// 18.2.1: identifiers are of printable characters, ! to ~.
std::string identifier(std::size_t n) {
    std::string id;
    do {
        id += static_cast<char>('!' + n % 94);
        n /= 94;
    } while (n > 0);
    return id;
}

std::string reference(const std::string& name) {
    std::string out;
    for (const char c : name) out += static_cast<unsigned char>(c) > ' ' && c != '$' && c != 0x7F ? c : '_';
    return out.empty() ? "_" : out;
}

std::vector<Signal> signals_of(const Trail& trail) {
    std::vector<Signal> all;
    for (const LaneKind* kind : LaneKinds::all()) {
        if (!kind->told(trail)) continue;
        for (const std::uint64_t index : kind->lanes(trail)) {
            Signal s;
            s.lane = kind->lane(trail, index);
            if (!s.lane || s.lane->shape() == Shape::stack) continue;
            s.core = s.lane->core();
            s.name = s.lane->name();
            s.kind = std::string(kind->id());
            s.gaps = s.lane->ink() == Ink::gap;
            s.id = identifier(all.size());
            all.push_back(std::move(s));
        }
    }
    return all;
}

void write_head(const Trail& trail, const std::vector<Signal>& all, std::ostream& out) {
    out << "$version Mindful Trail $end\n$comment tasks: 0 nothing, 1 runs, 2 interrupted, 3 ready but held off, "
           "4 waits for a lock, 5 waits $end\n$timescale 1 ps $end\n";
    std::size_t core = ~std::size_t{0};
    std::string kind;
    const auto close = [&] {
        if (!kind.empty()) out << "$upscope $end\n";
        kind.clear();
    };
    std::vector<const Signal*> sorted;
    for (const Signal& s : all) sorted.push_back(&s);
    std::stable_sort(sorted.begin(), sorted.end(), [](const Signal* a, const Signal* b) { return a->core < b->core; });
    for (const Signal* s : sorted) {
        if (s->core != core) {
            close();
            if (core != ~std::size_t{0}) out << "$upscope $end\n";
            core = s->core;
            out << "$scope module " << reference(core < trail.cores.size() ? trail.cores[core].name : "recording")
                << " $end\n";
        }
        if (s->kind != kind) {
            close();
            kind = s->kind;
            out << "$scope module " << reference(kind) << " $end\n";
        }
        switch (s->lane->shape()) {
            case Shape::line:
                out << "$var real 64 ";
                break;
            case Shape::ticks:
                out << "$var event 1 ";
                break;
            case Shape::states:
                out << "$var reg 3 ";
                break;
            default:
                out << "$var wire 1 ";
        }
        out << s->id << ' ' << reference(s->name) << " $end\n";
    }
    close();
    if (core != ~std::size_t{0}) out << "$upscope $end\n";
    out << "$enddefinitions $end\n$dumpvars\n";
    for (const Signal& s : all) {
        if (s.lane->shape() == Shape::bars) out << "0" << s.id << "\n";
        if (s.lane->shape() == Shape::states) out << "bx " << s.id << "\n";
    }
    out << "$end\n";
}

// What changes within [from, to).
void changes_of(const Signal& s, std::size_t index, Time from, Time to, std::vector<Change>& out) {
    const Lane& lane = *s.lane;
    if (lane.shape() == Shape::states) {
        Time end = from;
        lane.each_state(from, to, [&](const LaneState& state) {
            if (!(state.begin < from) && state.begin < to) out.push_back({state.begin, index, state_code(state)});
            end = state.end;
        });
        return;
    }
    const auto range = lane.touching(0, from, to);
    for (std::size_t i = range.first; i < range.second; ++i) {
        const Span span = lane.span(0, i);
        const bool begins = !(span.begin < from) && span.begin < to, ends = !(span.end < from) && span.end < to;
        if (lane.shape() == Shape::bars) {
            if ((span.flags & Span::kSilent) != 0) continue;
            if (begins) out.push_back({span.begin, index, 1});
            if (ends) out.push_back({span.end, index, 0});
        } else if (begins) {
            out.push_back({span.begin, index, static_cast<int>(i)});
        }
    }
}

}  // namespace

Result<void> write_vcd(const Trail& trail, std::ostream& out, Progress& progress) {
    std::vector<Signal> all = signals_of(trail);
    write_head(trail, all, out);
    const Time step{std::max<std::int64_t>(trail.end.ps / kWindows, 1'000'000)};
    std::vector<Change> changes;
    std::optional<Time> now;
    for (Time from{0}; !(trail.end < from); from = from + step) {
        if (progress.cancelled()) return failure("writing was cancelled");
        progress.report(static_cast<std::uint64_t>(from.ps), static_cast<std::uint64_t>(trail.end.ps) + 1);
        changes.clear();
        for (std::size_t i = 0; i < all.size(); ++i) changes_of(all[i], i, from, from + step, changes);
        std::stable_sort(changes.begin(), changes.end());
        for (const Change& c : changes) {
            Signal& s = all[c.signal];
            const auto at = [&] {
                if (now && *now == c.time) return;
                now = c.time;
                out << '#' << c.time.ps << '\n';
            };
            char text[48];
            switch (s.lane->shape()) {
                case Shape::bars: {
                    s.nested = std::max(0, s.nested + (c.what != 0 ? 1 : -1));
                    const char value = s.nested > 0 ? '1' : '0';
                    if (value == std::exchange(s.last, value)) break;
                    at();
                    out << value << s.id << '\n';
                    break;
                }
                case Shape::states: {
                    const char value = c.what < 0 ? 'x' : static_cast<char>('0' + c.what);
                    if (value == std::exchange(s.last, value)) break;
                    at();
                    if (c.what < 0)
                        out << "bx " << s.id << '\n';
                    else
                        out << 'b' << (c.what & 4 ? "1" : "")
                            << (c.what & 4   ? (c.what & 2 ? "1" : "0")
                                : c.what & 2 ? "1"
                                             : "")
                            << (c.what & 1 ? '1' : '0') << ' ' << s.id << '\n';
                    break;
                }
                case Shape::line:
                    at();
                    std::snprintf(text, sizeof text, "r%.16g ", s.lane->value(static_cast<std::size_t>(c.what)));
                    out << text << s.id << '\n';
                    break;
                case Shape::ticks:
                    at();
                    out << '1' << s.id << '\n';
                    break;
                case Shape::stack:
                    break;
            }
        }
        if (!out) return failure("cannot be written", "", "check free space and permissions");
    }
    out << '#' << trail.end.ps << '\n';
    return {};
}

}  // namespace mt
