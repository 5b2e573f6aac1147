#include "share/lane_picture.h"

#include <algorithm>
#include <cmath>
#include <cstdio>

#include "base/text.h"
#include "share/html_page.h"

namespace mt {
namespace {

constexpr double kWidth = 1000, kNames = 150, kRow = 22, kBar = 14, kScale = 20;
constexpr std::size_t kMostSpans = 2000;  ///< of a lane; of more the picture shows where they are
constexpr double kTold = 0.5;             ///< what lies closer together cannot be told apart

std::string number(double v) {
    char text[32];
    std::snprintf(text, sizeof text, "%.2f", v);
    return text;
}
std::string rect(double x, double y, double w, double h, const char* colour, double opacity = 1) {
    return "<rect x=\"" + number(x) + "\" y=\"" + number(y) + "\" width=\"" + number(std::max(0.5, w)) + "\" height=\"" +
           number(h) + "\" fill=\"" + colour + "\"" + (opacity < 1 ? " opacity=\"" + number(opacity) + "\"" : "") + "/>";
}
std::string text(double x, double y, const std::string& what, const char* anchor, const char* colour = "var(--second)") {
    return "<text x=\"" + number(x) + "\" y=\"" + number(y) + "\" font-size=\"11\" text-anchor=\"" + anchor + "\" fill=\"" +
           colour + "\">" + html_text(what) + "</text>";
}

const char* colour_of(Ink ink) {
    switch (ink) {
        case Ink::interrupt:
            return "var(--other)";
        case Ink::waiting:
            return "var(--partly)";
        case Ink::fault:
        case Ink::gap:
            return "var(--never)";
        default:
            return "var(--run)";
    }
}

// What there is room for beside the lanes.
std::string short_name(const std::string& name) {
    if (name.size() <= 24) return name;
    std::size_t cut = 22;
    while (cut > 0 && (static_cast<unsigned char>(name[cut]) & 0xC0) == 0x80) --cut;  // never within a character
    return name.substr(0, cut) + "…";
}

// As many digits as tell the steps of the scale apart: "9.824 346 s".
std::string tick_text(Time t, double step_ps) {
    const std::string whole = moment_text(t);
    const std::size_t point = whole.find('.');
    if (point == std::string::npos) return whole;
    std::size_t digits = 1;
    for (double step = 1e11; step > step_ps * 1.001 && digits < 9; step /= 10) ++digits;
    std::string cut = whole.substr(0, point + 1);
    for (std::size_t i = point + 1; i < whole.size() && digits > 0; ++i) {
        cut += whole[i];
        digits -= whole[i] >= '0' && whole[i] <= '9' ? 1 : 0;
    }
    return cut + " s";
}

class Picture {
  public:
    Picture(Time from, Time to) : from_(from), to_(to) {}
    double x(Time t) const {
        const double share = static_cast<double>((t - from_).ps) / static_cast<double>((to_ - from_).ps);
        return kNames + std::clamp(share, 0.0, 1.0) * (kWidth - kNames);
    }

    void states(const Lane& lane, double y, std::string& out) const {
        if (lane.states_between(from_, to_) > kMostSpans) {  // how much of each stretch it ran
            constexpr int kParts = 425;
            for (int i = 0; i < kParts; ++i) {
                const Time a{from_.ps + (to_ - from_).ps / kParts * i}, b{from_.ps + (to_ - from_).ps / kParts * (i + 1)};
                const double share = lane.running_share(a, b);
                if (share > 0.002) out += rect(x(a), y + kBar * (1 - share), x(b) - x(a), kBar * share, "var(--run)");
            }
            return;
        }
        lane.each_state(from_, to_, [&](const LaneState& s) {
            const double a = x(s.begin), b = x(s.end);
            if (s.look == LaneState::runs)
                out += rect(a, y, b - a, kBar, "var(--run)", s.faint ? 0.3 : 1);
            else if (s.look == LaneState::held_off)
                out += rect(a, y + kBar / 2 - 2, b - a, 4, "var(--never)", 0.8);
            else if (s.look == LaneState::waits_for_lock)
                out += rect(a, y + kBar / 2 - 1, b - a, 2, "var(--partly)");
        });
    }
    void bars(const Lane& lane, std::size_t level, double y, double height, std::string& out) const {
        const auto [first, last] = lane.touching(level, from_, to_);
        const std::size_t each = (last - first) / (20 * kMostSpans) + 1;
        double joined_from = 0, joined_to = -1;  // bars so close that they are one
        const auto put = [&] {
            if (joined_to >= joined_from) out += rect(joined_from, y, joined_to - joined_from, height, colour_of(lane.ink()));
        };
        for (std::size_t i = first; i < last; i += each) {
            const Span s = lane.span(level, i);
            if (s.begin > to_ || s.end < from_ || (s.flags & Span::kSilent) != 0) continue;
            const double a = x(s.begin), b = std::max(a + kTold, x(s.end));
            if (joined_to >= joined_from && a >= joined_from && a <= joined_to + kTold) {
                joined_to = std::max(joined_to, b);
            } else {
                put();
                joined_from = a;
                joined_to = b;
            }
            if (b - a < 20) continue;
            put();
            joined_to = joined_from - 1;
            const std::string label = lane.label(level, i);
            if (b - a > 12 + 6.5 * static_cast<double>(label.size()) && !label.empty() && height > 10)
                out += text(a + 4, y + height - 3.5, label, "start", "var(--ground)");
        }
        put();
    }
    void line(const Lane& lane, double y, std::string& out) const {
        const auto [low, high] = lane.bounds();
        const auto [first, last] = lane.touching(0, from_, to_);
        if (first >= last || !(high > low)) return;
        std::string points;
        const std::size_t each = (last - first) / kMostSpans + 1;
        double before = 0;
        for (std::size_t i = first; i < last; i += each) {
            const double at = x(lane.span(0, i).begin), v = y + kBar * (1 - (lane.value(i) - low) / (high - low));
            if (!points.empty()) points += number(at) + "," + number(before) + " ";
            points += number(at) + "," + number(v) + " ";
            before = v;
        }
        points += number(kWidth) + "," + number(before);
        out += "<polyline fill=\"none\" stroke=\"var(--run)\" points=\"" + points + "\"/>";
    }

  private:
    Time from_, to_;
};

}  // namespace

std::string lanes_svg(const LaneBook& lanes, const std::vector<LaneId>& which, Time from, Time to,
                      std::optional<std::pair<Time, Time>> marked) {
    if (!(from < to)) return {};
    const Picture picture(from, to);
    std::string rows;
    double y = kScale + 4;
    for (const LaneId& id : which) {
        const Lane* lane = id ? lanes.find(id) : nullptr;
        if (lane == nullptr) continue;
        std::size_t levels = lane->shape() == Shape::stack ? std::min<std::size_t>(lane->levels(), 6) : 1;
        rows += text(kNames - 8, y + kBar - 3, short_name(lane->name()), "end", "var(--text)");
        if (lane->shape() == Shape::states)
            picture.states(*lane, y, rows);
        else if (lane->shape() == Shape::line)
            picture.line(*lane, y, rows);
        else
            for (std::size_t level = 0; level < levels; ++level)
                picture.bars(*lane, level, y + static_cast<double>(level) * kBar, kBar - (levels > 1 ? 1 : 0), rows);
        y += kRow + static_cast<double>(levels - 1) * kBar;
    }
    if (rows.empty()) return {};
    // Round steps of time: five to ten of them.
    const double length = static_cast<double>((to - from).ps);
    double step = std::pow(10, std::floor(std::log10(length / 5)));
    for (const double factor : {5.0, 2.0})
        if (length / (step * factor) >= 5) {
            step *= factor;
            break;
        }
    std::string scale;
    for (double t = std::ceil(static_cast<double>(from.ps) / step) * step; t <= static_cast<double>(to.ps); t += step) {
        const Time at{static_cast<std::int64_t>(t)};
        scale += "<line x1=\"" + number(picture.x(at)) + "\" x2=\"" + number(picture.x(at)) + "\" y1=\"" + number(kScale) +
                 "\" y2=\"" + number(y) + "\" stroke=\"var(--rule)\"/>";
        if (picture.x(at) > kNames + 30 && picture.x(at) < kWidth - 30)
            scale += text(picture.x(at), kScale - 6, tick_text(at, step), "middle");
    }
    std::string mark;
    if (marked) {
        const double a = picture.x(marked->first), b = picture.x(marked->second);
        mark = rect(a, kScale, std::max(2.0, b - a), y - kScale, "var(--partly)", 0.18);
    }
    return "<svg viewBox=\"0 0 " + number(kWidth) + " " + number(y) + "\" role=\"img\" aria-label=\"lanes\">" + scale + mark +
           rows + "</svg>\n";
}

}  // namespace mt
