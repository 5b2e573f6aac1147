#include "shell/health.h"

#include "base/text.h"
#include "look/words.h"
#include "share/step_tables.h"
#include "share/tables.h"

namespace mt::app {
namespace {
constexpr std::size_t kMostListed = 12;
}  // namespace

Health::Health(QWidget* parent) : QToolButton(parent) {
    setObjectName("health");
    auto* menu = new QMenu(this);
    menu->setToolTipsVisible(true);
    setMenu(menu);
    setPopupMode(QToolButton::InstantPopup);
    setToolTip(tr("Is the recording complete? Each gap and warning leads to its place"));
    setAccessibleName(tr("Health of the recording"));
    setStyleSheet(
        "QToolButton { border: 0; background: transparent; padding: 4px 18px 4px 4px; } QToolButton::menu-indicator { "
        "subcontrol-origin: padding; subcontrol-position: center right; }");
}

void Health::show_of(Desk& desk) {
    Document& document = desk.document();
    const auto trail = document.trail();
    menu()->clear();
    setText({});
    if (!trail) return;
    QString text =
        words(duration_text(trail->end)) + " · " + words(plural(trail->cores.size(), "core", "cores")) + " · ";
    const auto missing = missing_instructions(*trail);
    QStringList but;
    if (!trail->gaps.empty())
        but << tr("%1 (%2)").arg(words(plural(trail->gaps.size(), "gap", "gaps")),
                                 words(duration_text(trail->gaps.covered())));
    if (!missing.empty()) but << tr("%1 in the instructions").arg(words(plural(missing.size(), "gap", "gaps")));
    text += but.isEmpty() ? tr("complete") : tr("complete except for %1").arg(but.join(tr(" and ")));
    if (!document.busy() && !document.live() && !trail->cores.empty()) {
        const ClockCheck check = document.clock();
        text += check == ClockCheck::agrees        ? tr(" · clock agrees")
                : check == ClockCheck::contradicts ? tr(" · clock suspect")
                                                   : tr(" · clock not checked");
    }
    if (!trail->doubts.empty()) text += " · " + words(plural(trail->doubts.size(), "warning", "warnings"));
    setText(text);
    if (but.isEmpty() && trail->doubts.empty())
        menu()->addAction(tr("Nothing was lost, and there are no warnings."))->setEnabled(false);
    add_gaps(desk);
    add_notes_and_doubts(desk);
}

void Health::add_gaps(Desk& desk) {
    const auto trail = desk.document().trail();
    const auto around = [&desk](Time at, Time half) { desk.navigator().go_to(at - half, at + half, at); };
    for (std::size_t i = 0; i < trail->gaps.size() && i < kMostListed; ++i) {
        const Gap g = trail->gaps[i];
        menu()->addAction(tr("Gap at %1: %2, up to %3")
                              .arg(words(moment_text(g.begin)),
                                   g.kind == GapKind::overflow
                                       ? tr("overflow")
                                       : words(std::string(itm_damage_text(static_cast<ItmDamage>(g.reason)))),
                                   words(duration_text(g.end - g.begin))),
                          &desk, [&desk, g] {
                              const Time room = std::max(Time{(g.end - g.begin).ps / 2}, Time::from_us(50));
                              desk.navigator().go_to(g.begin - room, g.end + room, g.begin);
                          });
    }
    const auto more = [this](std::size_t all, const QString& text) {
        if (all > kMostListed) menu()->addAction(text.arg(words(count_text(all - kMostListed))))->setEnabled(false);
    };
    more(trail->gaps.size(), tr("and %1 more gaps"));
    const auto missing = missing_instructions(*trail);
    for (std::size_t i = 0; i < missing.size() && i < kMostListed; ++i)
        menu()->addAction(tr("Instructions missing at %1: %2")
                              .arg(words(moment_text(missing[i]->begin)), words(missing[i]->gap.text())),
                          &desk, [around, at = missing[i]->begin] { around(at, Time::from_us(50)); });
    more(missing.size(), tr("and %1 more places"));
}

void Health::add_notes_and_doubts(Desk& desk) {
    const auto trail = desk.document().trail();
    if (!trail->notes.empty()) menu()->addSeparator();
    for (const Note& note : trail->notes)
        menu()->addAction(
            tr("Marked at %1: %2").arg(words(moment_text(note.time)), words(note.text)), &desk,
            [&desk, at = note.time] { desk.navigator().go_to(at - Time::from_ms(5), at + Time::from_ms(5), at); });
    if (!trail->doubts.empty()) menu()->addSeparator();
    for (const Doubt& d : trail->doubts) {
        const QString line = words(d.text), all = words(d.text + " " + d.advice);
        auto* a = menu()->addAction(
            line.size() > 110 ? line.left(107) + "…" : line, &desk,
            [&desk, all, offers = desk.target().offers_of(d.mends)] { emit desk.offered(all, false, offers); });
        a->setToolTip(all);
    }
}

}  // namespace mt::app
