#include "figures/why_text.h"

#include <QObject>

#include "base/text.h"
#include "judge/sentences.h"
#include "look/html.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {

constexpr std::size_t kMostRows = 12;

QString signed_text(Time t) {
    const Time size{std::abs(t.ps)};
    return (t.ps < 0 ? "−" : "+") + words(duration_text(size));
}

QString cell(const QString& text, bool right = true) {
    return QString("<td align=\"%1\" style=\"padding:1px 6px 1px 0\">%2</td>").arg(right ? "right" : "left", text);
}

QString heading(const QString& text) {
    return QString("<tr><td style=\"color:%1\">%2</td>").arg(theme().second.name(), text) +
           QString(
               "<td align=\"right\" style=\"color:%1\">%2</td><td align=\"right\" style=\"color:%1\">%3</td>"
               "<td align=\"right\" style=\"color:%1\">%4</td></tr>")
               .arg(theme().second.name(), QObject::tr("here"), QObject::tr("typical"), QObject::tr("difference"));
}

QString what_text(const Spent& s) {
    const QString name = words(s.name);
    switch (s.on) {
        case Spent::On::itself:
            return QObject::tr("itself");
        case Spent::On::call:
            return QObject::tr("in %1").arg(name);
        case Spent::On::handler:
            return QObject::tr("preempted by %1").arg(name);
        case Spent::On::held_off:
            return QObject::tr("held off by %1").arg(name);
        case Spent::On::waiting:
            return name;
        case Spent::On::unknown:
            return QObject::tr("not known");
    }
    return name;
}

QString counted(const QString& text, std::uint64_t here, std::uint64_t typical) {
    if (here <= 1 && typical <= 1) return text;
    return text + QString(" <span style=\"color:%1\">%2 : %3</span>")
                      .arg(theme().second.name(), escaped(words(count_text(here))), escaped(words(count_text(typical))));
}

QString short_name(const std::string& file) { return words(file).section('/', -1); }

}  // namespace

PanelText why_text(const WhyLonger& why) {
    PanelText text;
    const Time by = why.length - why.typical_length;
    text.spans.push_back(why.typical);
    text.html =
        QObject::tr("<p><b>%1</b>, %2 %3 than a %4 (the median).</p>")
            .arg(words(duration_text(why.length)), words(duration_text(Time{std::abs(by.ps)})),
                 by.ps < 0 ? QObject::tr("shorter") : QObject::tr("longer"),
                 link_html("span:0", QObject::tr("typical one of %1").arg(words(duration_text(why.typical_length)))));
    text.html += "<table width=\"100%\" cellspacing=\"0\">" + heading(QObject::tr("time spent"));
    std::size_t rows = 0;
    for (const Spent& s : why.parts) {
        if (++rows > kMostRows) break;
        QString what = escaped(what_text(s));
        if (s.longest) {
            what = link_html(QString("span:%1").arg(text.spans.size()), what_text(s));
            text.spans.push_back(*s.longest);
        }
        if (s.on == Spent::On::call) what = counted(what, s.count_here, s.count_typical);
        text.html += "<tr>" + cell(what, false) + cell(words(duration_text(s.here))) +
                     cell(words(duration_text(s.typical))) + cell("<b>" + signed_text(s.difference()) + "</b>") +
                     "</tr>";
    }
    text.html += "</table>";
    if (why.parts.size() > kMostRows)
        text.html += "<p>" + QObject::tr("and %1 more").arg(why.parts.size() - kMostRows) + "</p>";
    rows = 0;
    for (const LineSpent& l : why.lines) {
        if (l.difference().ps == 0 || ++rows > kMostRows) break;
        if (rows == 1)
            text.html += "<table width=\"100%\" cellspacing=\"0\" style=\"margin-top:8px\">" +
                         heading(QObject::tr("its own lines, instructions"));
        text.html += "<tr>" +
                     cell(counted(QString("%1:%2").arg(escaped(short_name(l.file))).arg(l.line), l.count_here,
                                  l.count_typical),
                          false) +
                     cell(words(duration_text(l.here))) + cell(words(duration_text(l.typical))) +
                     cell("<b>" + signed_text(l.difference()) + "</b>") + "</tr>";
    }
    if (rows > 0) text.html += "</table>";
    return text;
}

PanelText fault_text(const Finding& f) {
    PanelText text;
    const auto row = [&](const QString& name, const std::string& value) {
        if (value.empty()) return;
        text.html +=
            QString("<p style=\"margin:5px 0 0 0\"><span style=\"color:%1; font-size:10px\">%2</span><br>%3</p>")
                .arg(theme().second.name(), name, escaped(words(value)));
    };
    if (f.known("raised_by") == nullptr) row(QObject::tr("what is known"), f.cause);
    if (const std::string by = f.told("raised_by"); !by.empty())
        text.html +=
            QString("<p style=\"margin:5px 0 0 0\"><span style=\"color:%1; font-size:10px\">%2</span><br>%3</p>")
                .arg(theme().second.name(), QObject::tr("raised by"),
                     link_html(QString("time:%1").arg(f.begin.ps), words(by)));
    if (f.known("imprecise") != nullptr)
        row(QObject::tr("may be imprecise"), "a write before it may still have been on its way");
    row(QObject::tr("reported"), f.told("reported"));
    for (const Fact& fact : f.facts)
        if (fact.key == "pointer") row(QObject::tr("went by"), pointer_told(f, fact));
    row(QObject::tr("reported value"), f.told("reported_value"));
    row(QObject::tr("stack"), f.told("stack"));
    row(QObject::tr("task"), f.who(Role::task));
    row(QObject::tr("preempted"), f.told("cut_into"));
    if (f.known("never_returned") != nullptr) row(QObject::tr("never returned; inside for"), f.told("inside_for"));
    for (const Fact& fact : f.facts)
        if (fact.key == "variable") row(words(fact.of), fact.text());
    if (f.evidence.empty()) return text;
    text.html += QString("<p style=\"margin:8px 0 2px 0; color:%1; font-size:10px\">%2</p><table cellspacing=\"0\">")
                     .arg(theme().second.name(), QObject::tr("what led to it"));
    for (const auto& e : f.evidence)
        text.html += "<tr>" + cell(link_html(QString("time:%1").arg(e.time.ps), signed_text(e.time - f.begin)), true) +
                     cell(escaped(words(e.what)), false) + "</tr>";
    text.html += "</table>";
    return text;
}

}  // namespace mt::app
