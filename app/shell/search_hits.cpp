#include "shell/search_hits.h"

#include <QFile>
#include <QFileInfo>

#include <algorithm>
#include <set>

#include "base/text.h"
#include "look/words.h"
#include "measure/kinds/kinds.h"

namespace mt::app {
namespace {

constexpr std::size_t kMostOfAKind = 6;

/// How well a name fits: the smaller the better; nothing: not at all.
std::optional<int> fit(const QString& name, const QString& wanted) {
    if (name.compare(wanted, Qt::CaseInsensitive) == 0) return 0;
    if (name.startsWith(wanted, Qt::CaseInsensitive)) return 1;
    if (name.contains(wanted, Qt::CaseInsensitive)) return 2;
    return std::nullopt;
}

struct Ranked {
    int rank;
    Hit hit;
};

void keep_best(std::vector<Ranked>& of_a_kind, std::vector<Ranked>& all) {
    std::stable_sort(of_a_kind.begin(), of_a_kind.end(),
                     [](const Ranked& a, const Ranked& b) { return a.rank < b.rank; });
    for (std::size_t i = 0; i < of_a_kind.size() && i < kMostOfAKind; ++i) all.push_back(std::move(of_a_kind[i]));
    of_a_kind.clear();
}

// To the next instance of an activity, seen from the cursor; before it when going back.
void go_to_activity(Desk& desk, const LaneKind& kind, std::uint64_t activity, bool forwards) {
    const auto trail = desk.document().trail();
    if (!trail) return;
    const auto& chosen = desk.viewpoint().selection().span;
    const bool there = chosen && chosen->lane.kind == &kind && desk.document().lanes()->find(*chosen) != nullptr &&
                       kind.activity_of(*trail, *chosen) == activity;
    if (there)
        if (const auto next = kind.next(*trail, *chosen, forwards ? 1 : -1)) return desk.navigator().go_to(*next);
    if (const auto first = kind.first_from(*trail, activity, desk.viewpoint().cursor() + Time{1}, true))
        return desk.navigator().go_to(*first);
    if (const LaneId lane = kind.lane_of(*trail, activity); desk.document().lanes()->find(lane) != nullptr) {
        desk.show_measures(false);
        desk.viewpoint().select(lane);
    }
}

void add_names(Desk& desk, const QString& wanted, std::vector<Ranked>& all) {
    const auto trail = desk.document().trail();
    for (const LaneKind* kind : LaneKinds::all()) {
        std::vector<Ranked> found;
        for (const LaneKind::Name& name : kind->names(*trail)) {
            const QString text = words(name.name);
            auto rank = fit(text, wanted);
            if (words(name.number) == wanted) rank = 0;
            if (!rank) continue;
            found.push_back({*rank,
                             {words(kind->many()), text, name.number.empty() ? QString() : words(name.number),
                              [&desk, kind, activity = name.index](bool forwards) {
                                  go_to_activity(desk, *kind, activity, forwards);
                              }}});
        }
        keep_best(found, all);
    }
}

void add_findings(Desk& desk, const QString& wanted, std::vector<Ranked>& all) {
    std::vector<Ranked> found;
    const auto& findings = desk.document().findings();
    for (std::size_t i = 0; i < findings.size(); ++i) {
        const Finding& f = findings[i];
        if (!fit(words(f.title), wanted) && !fit(words(f.cause), wanted)) continue;
        found.push_back({3, {QObject::tr("Findings"), words(f.title), words(moment_text(f.begin)), [&desk, i](bool) {
                                 desk.navigator().go_to_finding(i);
                             }}});
    }
    keep_best(found, all);
}

void add_notes(Desk& desk, const QString& wanted, std::vector<Ranked>& all) {
    std::vector<Ranked> found;
    for (const Note& note : desk.document().trail()->notes)
        if (fit(words(note.text), wanted))
            found.push_back(
                {3,
                 {QObject::tr("Marks made while recording"), words(note.text), words(moment_text(note.time)),
                  [&desk, t = note.time](bool) { desk.navigator().go_to(t); }}});
    keep_best(found, all);
}

// Functions and variables that the images know and no lane shows: where they stand, and that nothing is recorded of
// them.
void add_symbols(Desk& desk, const QString& wanted, std::vector<Ranked>& all) {
    const auto recording = desk.document().recording();
    const auto trail = desk.document().trail();
    for (const bool functions : {true, false}) {
        std::vector<Ranked> found;
        std::set<QString> drawn;
        for (const LaneKind* kind : {&functions_kind(), &values_kind(), &states_kind()})
            for (const LaneKind::Name& name : kind->names(*trail)) drawn.insert(words(name.name));
        const auto add = [&](std::size_t c, const Image& image, const QString& core, const std::function<std::uint32_t(std::uint64_t)>& slot_of) {
            for (const Symbol& symbol : image.symbols()) {
                const QString name = words(symbol.name);
                const auto rank = fit(name, wanted);
                if (symbol.function != functions || symbol.label || !rank || drawn.count(name) != 0) continue;
                const QString at = words(hex_text(symbol.address, 8));
                const QString told =
                    functions ? QObject::tr("%1 at %2 was not executed in what was traced of %3.").arg(name, at, core)
                              : QObject::tr("%1 at %2 (%3 bytes) is a variable of %4; nothing is recorded of it.")
                                    .arg(name, at)
                                    .arg(symbol.size)
                                    .arg(core);
                found.push_back(
                    {*rank + 2,
                     {functions ? QObject::tr("Functions that did not run") : QObject::tr("Variables of the image"),
                      name, core + ", " + at, [&desk, told, functions, c, slot = slot_of(symbol.address)](bool) {
                          emit desk.told(told, false);
                          if (functions) desk.show_source(c, slot);
                      }}});
            }
        };
        for (std::size_t c = 0; c < recording->images.size(); ++c) {
            if (recording->images[c] == nullptr) continue;
            const QString core = words(trail->cores[c].name);
            const Code* code = recording->code[c].get();
            add(c, *recording->images[c], core, [code](std::uint64_t a) { return code == nullptr ? Code::kNowhere : code->slot_of(a); });
            for (const ProcessImage& p : recording->processes[c])
                add(c, *p.image, QObject::tr("%1, process %2").arg(core, words(p.name)),
                    [code, &p](std::uint64_t a) { return code == nullptr ? Code::kNowhere : p.slot_of(*code, a); });
        }
        keep_best(found, all);
    }
}

// Lines of the target file, with the table that each stands in.
void add_settings(Desk& desk, const QString& wanted, std::vector<Ranked>& all) {
    constexpr qint64 kMostBytes = 256 * 1024;
    QFile file(words(desk.document().recording()->target.path));
    if (file.fileName().isEmpty() || !file.open(QIODevice::ReadOnly)) return;
    std::vector<Ranked> found;
    const QString name = QFileInfo(file.fileName()).fileName();
    QString table;
    int number = 0;
    for (const QByteArray& bytes : file.read(kMostBytes).split('\n')) {
        ++number;
        const QString line = QString::fromUtf8(bytes).section('#', 0, 0).trimmed();
        if (line.startsWith('[')) table = line;
        const auto rank = fit(line.section('=', 0, 0).trimmed(), wanted);
        if (!line.contains('=') || (!rank && !fit(line, wanted))) continue;
        const QString told = QObject::tr("%1, line %2, %3: %4").arg(name).arg(number).arg(table, line);
        found.push_back({rank ? *rank + 2 : 5,
                         {QObject::tr("Settings of the recording"), line, table,
                          [&desk, told](bool) { emit desk.told(told, false); }}});
    }
    keep_best(found, all);
}

// The rest needs decoding: the next row from here that has it, page by page.
void add_pages(Desk& desk, const QString& wanted, std::vector<Ranked>& all) {
    const EvidencePage* front = desk.evidence()->current();
    for (EvidencePage* page : desk.evidence()->pages()) {
        if (!page->can_find() || !page->has_something()) continue;
        all.push_back({page == front ? 4 : 5,
                       {QObject::tr("Next in the recording"),
                        QObject::tr("“%1” in %2").arg(wanted, page->title()),
                        {},
                        [&desk, page, wanted](bool forwards) {
                            desk.evidence()->show();
                            desk.evidence()->show_page(page->widget());
                            emit desk.quieted();
                            page->find_text(wanted, forwards, [&desk](const QString& why_not) {
                                if (!why_not.isEmpty()) emit desk.told(why_not, false);
                            });
                        }}});
    }
}

void add_commands(const QList<QAction*>& commands, const QString& wanted, std::vector<Ranked>& all) {
    std::vector<Ranked> found;
    for (QAction* a : commands) {
        const QString name = a->text().remove('&');
        const auto rank = fit(name, wanted);
        if ((!rank && !fit(a->toolTip(), wanted)) || !a->isEnabled()) continue;
        found.push_back({rank && *rank < 2 ? 3 : 6 + rank.value_or(3),  // one that is named so, before the rest
                         {QObject::tr("Commands"), name, a->shortcut().toString(QKeySequence::NativeText),
                          [a](bool) { a->trigger(); }}});
    }
    keep_best(found, all);
}

}  // namespace

std::vector<Hit> hits_of(Desk& desk, const QList<QAction*>& commands, const QString& text) {
    const QString wanted = text.trimmed();
    if (wanted.isEmpty()) return {};
    std::vector<Ranked> all;
    if (desk.document().trail()) {
        if (desk.navigator().time_of(wanted))
            all.push_back({-1, {QObject::tr("Time"), wanted, {}, [&desk, wanted](bool) {
                                    desk.navigator().go_to_text(wanted);
                                }}});
        add_names(desk, wanted, all);
        add_findings(desk, wanted, all);
        add_notes(desk, wanted, all);
        add_symbols(desk, wanted, all);
        add_settings(desk, wanted, all);
        add_pages(desk, wanted, all);
    }
    add_commands(commands, wanted, all);
    // The best of all first; the others stay with their kind.
    std::stable_sort(all.begin(), all.end(), [](const Ranked& a, const Ranked& b) { return a.rank < b.rank; });
    std::vector<Hit> hits;
    std::vector<QString> groups;
    for (const Ranked& r : all)
        if (std::find(groups.begin(), groups.end(), r.hit.group) == groups.end()) groups.push_back(r.hit.group);
    for (const QString& group : groups)
        for (Ranked& r : all)
            if (r.hit.group == group && r.hit.go) hits.push_back(std::move(r.hit));
    return hits;
}

}  // namespace mt::app
