#include "look/time_axis.h"

#include <QObject>

#include <array>
#include <cmath>

#include "base/text.h"

namespace mt::app {
namespace {

struct Unit {
    std::int64_t ps;
    const char* name;
};
constexpr std::array<Unit, 5> kUnits = {
    {{1'000'000'000'000, "s"}, {1'000'000'000, "ms"}, {1'000'000, "µs"}, {1'000, "ns"}, {1, "ps"}}};

std::int64_t round_step(double least_ps) {
    std::int64_t power = 1;
    while (static_cast<double>(power) * 10 <= least_ps && power < 1'000'000'000'000'000) power *= 10;
    for (const std::int64_t f : {1, 2, 5, 10})
        if (static_cast<double>(power * f) >= least_ps) return power * f;
    return power * 10;
}

// The shortest decimal that shows t exactly to `unit`, in groups of three.
QString seconds_text(Time t, std::int64_t unit_ps) {
    const int decimals = unit_ps >= 1'000'000'000'000 ? 0
                         : unit_ps >= 1'000'000'000   ? 3
                         : unit_ps >= 1'000'000       ? 6
                         : unit_ps >= 1000            ? 9
                                                      : 12;
    const std::int64_t whole = t.ps / 1'000'000'000'000;
    QString text = QString::number(whole);
    if (decimals == 0) return text + " s";
    const QString part = QString("%1").arg(t.ps % 1'000'000'000'000, 12, 10, QChar('0')).left(decimals);
    for (int i = 0; i < part.size(); i += 3) text += (i == 0 ? "." : " ") + part.mid(i, 3);
    return text + " s";
}

}  // namespace

TimeTicks time_ticks(Time from, Time to, int wanted) {
    TimeTicks out;
    const double width = static_cast<double>((to - from).ps);
    if (width <= 0 || wanted < 1) return out;
    const std::int64_t step = round_step(width / wanted);
    std::size_t u = 0;
    while (u + 1 < kUnits.size() && (kUnits[u].ps > step * 20 || static_cast<double>(kUnits[u].ps) > width)) ++u;
    const Unit unit = kUnits[u];
    // Where labels would grow long, count from a round place at or before the left edge.
    const bool far = from.ps / unit.ps >= 1000 && unit.ps < kUnits[0].ps;
    if (far) {
        const std::int64_t coarse = unit.ps * 1000 <= step * 100 ? unit.ps * 1000 : unit.ps;
        out.offset = {from.ps / coarse * coarse};
        if ((to - out.offset).ps / unit.ps >= 10000) out.offset = {from.ps / unit.ps * unit.ps};
        out.offset_text =
            "from " + seconds_text(out.offset, coarse >= unit.ps * 1000 && out.offset.ps % (unit.ps * 1000) == 0
                                                   ? unit.ps * 1000
                                                   : unit.ps);
    }
    std::int64_t first = (from - out.offset).ps / step * step;
    if (first < (from - out.offset).ps) first += step;
    for (std::int64_t at = first; at <= (to - out.offset).ps; at += step) {
        const double value = static_cast<double>(at) / static_cast<double>(unit.ps);
        out.ticks.push_back({{out.offset.ps + at}, QString::number(value, 'g', 6) + " " + unit.name});
    }
    return out;
}

TimeTicks even_ticks(const EvenScale& scale, Time from, Time to, int wanted) {
    TimeTicks out;
    switch (scale.steps()) {
        case EvenScale::Steps::instructions:
            out.offset_text = QObject::tr("by instruction");
            break;
        case EvenScale::Steps::switches:
            out.offset_text = QObject::tr("by task switch");
            break;
        case EvenScale::Steps::changes:
            out.offset_text = QObject::tr("by change of handler");
            break;
    }
    const double left = scale.place(from), right = scale.place(to);
    if (right <= left || wanted < 1) return out;
    const auto step = static_cast<double>(std::max<std::int64_t>(1, round_step((right - left) / wanted)));
    for (double at = std::ceil(left / step) * step; at <= right; at += step)
        out.ticks.push_back(
            {scale.time(at), QString::fromStdString(count_text(static_cast<std::uint64_t>(std::max(0.0, at))))});
    return out;
}

}  // namespace mt::app
