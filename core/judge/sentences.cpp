#include "judge/sentences.h"

#include <cctype>
#include <cstdio>

#include "base/text.h"
#include "measure/refs.h"

namespace mt {
namespace {

using Kind = FindingKind;

std::uint64_t count_of(const Finding& f, std::string_view key) {
    const Fact* fact = f.known(key);
    const auto* n = fact == nullptr ? nullptr : std::get_if<std::uint64_t>(&fact->value);
    return n == nullptr ? 0 : *n;
}

// "3 entries".
std::string some(const Finding& f, std::string_view key, const char* one, const char* many) {
    return plural(count_of(f, key), one, many);
}

// The facts of a key, as `each` makes them, with commas between.
template <class Each>
std::string listed(const Finding& f, std::string_view key, Each each) {
    std::string all;
    for (const Fact& fact : f.facts)
        if (fact.key == key) all += (all.empty() ? "" : ", ") + each(fact);
    return all;
}
std::string names_with_numbers(const Finding& f, std::string_view key) {
    return listed(f, key, [](const Fact& fact) { return fact.of + " " + fact.text(); });
}

// A share with so many digits: "2.1 %".
std::string percent(const Finding& f, std::string_view key, int digits) {
    const Fact* fact = f.known(key);
    const auto* share = fact == nullptr ? nullptr : std::get_if<Share>(&fact->value);
    char text[32];
    std::snprintf(text, sizeof text, "%.*f %%", digits, share == nullptr ? 0 : share->value * 100);
    return text;
}

// What other findings said that were joined to this one, and what it was in before.
std::string joined(const Finding& f) {
    std::string text;
    for (const Fact& fact : f.facts)
        if (fact.key == "also")
            text += " Also: " + std::get<std::string>(fact.value) +
                    (fact.of.empty() ? "" : ", the worst of " + fact.of) + ".";
    if (f.known("trouble_before") != nullptr)
        text += " It was in trouble before: " + f.told("trouble_before") + ", " + f.told("earlier_by") + " earlier.";
    return text;
}

std::string late_interrupt(const Finding& f) {
    std::string text = "Normal is within " + f.told("normal") + " of its " + f.told("period") + " grid. ";
    const std::string others = names_with_numbers(f, "ran");
    if (f.known("kept_by_threads") == nullptr) return text + "Until then ran: " + others + ".";
    text += "Thread mode kept the core meanwhile: interrupts were masked";
    if (f.with(Role::masker) != nullptr)
        text +=
            " by " + f.who(Role::masker) + " for " + f.told("masked_for") + " (usually " + f.told("masked_usual") + ")";
    if (f.with(Role::function) != nullptr)
        text += " in or around " + f.who(Role::function) + " (" + some(f, "samples", "sample", "samples") +
                " in such stretches)";
    else if (f.known("asleep") != nullptr)
        text += " or the core slept too deep to answer";
    return text + (others.empty() ? "." : "; also ran: " + others + ".");
}

std::string missed(const Finding& f) {
    if (f.lane.kind == &tasks_kind())
        return "It becomes ready every " + f.told("period") + ", here " + f.told("passed") +
               " passed. Its job before had long ended, and no loss is known in between: nobody made it ready.";
    const std::string others = names_with_numbers(f, "ran");
    std::string text =
        "It comes every " + f.told("period") + ", here " + f.told("passed") +
        " passed between two entries, and no loss is known in between. " +
        (others.empty() ? "Thread mode had the core meanwhile: the source paused, or interrupts were masked."
                        : "Meanwhile ran: " + others + ".");
    if (f.known("masked_for") != nullptr)
        text += " " + f.who(Role::runner) + " masked interrupts for " + f.told("masked_for") + ".";
    return text;
}

std::string took_long(const Finding& f) {
    if (f.lane.kind == &tasks_kind())
        return f.told("took") + " of processor time against " + f.told("usual") + " (95 % under " + f.told("p95") +
               ")" +
               (f.known("beside") == nullptr
                    ? ""
                    : ", and " + some(f, "beside", "job beside it", "jobs beside it") + " too") +
               ". It was its own work: what preempted it is not counted.";
    if (f.lane.kind == &interrupts_kind())
        return f.told("took") + " of its own against " + f.told("usual") + " (99 % under " + f.told("p99") + "). " +
               (f.known("cut_in") != nullptr ? "What preempted it, " + f.told("cut_in") + ", is not counted in that."
                                             : "Nothing preempted it: the time is its own work.");
    std::string text = f.told("took") + " against " + f.told("usual") + " on average of " + f.told("calls") +
                       " calls, without what preempted them.";
    if (f.known("same_lines") != nullptr)
        text += " It ran the same lines as often as a usual call: it waited, or times here are only interpolated.";
    std::string lines;
    for (std::size_t i = 0; i + 1 < f.facts.size(); ++i)
        if (f.facts[i].key == "line_ran") {
            const std::string usually = f.facts[i + 1].text();
            lines += (lines.empty() ? " " : ", ") + f.facts[i].of + " (" + f.facts[i].text() + " times, usually " +
                     (usually == "0" ? "never" : usually) + ")";
        }
    return lines.empty() ? text : text + " A usual call does not run so often:" + lines + ".";
}

std::string storm(const Finding& f) {
    const std::string share = f.told("share") + " of the core meanwhile.";
    if (f.known("elsewhere") != nullptr)
        return "In all the rest of the recording it came " + some(f, "elsewhere", "time", "times") + "; here every " +
               f.told("period") + ". It had " + share;
    return f.told("entries") + " entries within " + f.told("within") + ", where as many usually take " +
           f.told("usual") + "; it had " + share;
}

std::string lost(const Finding& f) {
    const std::string left_out = " around it are excluded from all figures.";
    if (f.known("offset") != nullptr)
        return "At offset " + f.told("offset") + ": " + f.told("damage") + ", " + f.told("given_up") +
               " skipped (damaged) up to the next " + f.told("up_to") + ". Instances" + left_out;
    if (f.known("recorder") == nullptr)
        return "The target's trace buffer overflowed: more was to be sent than the line carries. Instances" + left_out;
    return "The recorder lost " +
           (f.known("events") != nullptr ? some(f, "events", "event", "events") : std::string("events")) +
           (f.known("packets") != nullptr ? " in " + some(f, "packets", "packet", "packets") : "") +
           ": its buffer was full, or packets were not fetched in time. Jobs, waits and interrupts" + left_out;
}

std::string what_faulted(const Finding& f) {
    std::string where = "At program address " + f.told("pc");
    if (f.known("touched") != nullptr) where += ", which touched " + f.told("touched");
    return where + (f.known("before_end") != nullptr
                        ? ". The system stopped " + f.told("before_end") + " before the recording ends."
                        : ". Nothing was recorded after it.");
}

std::string fault(const Finding& f) {
    if (f.known("pc") != nullptr) return what_faulted(f);
    std::string text, raised;
    if (f.with(Role::task) != nullptr) text = "In task " + f.who(Role::task) + ": " + f.told("reported") + ". ";
    const auto add = [&raised](const std::string& part) { raised += (raised.empty() ? "" : "; ") + part; };
    if (f.known("raised_by") != nullptr)
        add("Raised by " + f.told("raised_by") +
            (f.known("imprecise") != nullptr ? ", unless a write before it was still on its way" : ""));
    for (const Fact& pointer : f.facts)
        if (pointer.key == "pointer") add(pointer_told(f, pointer));
    if (f.known("reported_value") != nullptr)
        add((raised.empty() ? "It reported the value " : "reported the value ") + f.told("reported_value"));
    if (f.known("stack") != nullptr) add("on the stack: " + f.told("stack"));
    if (!raised.empty()) text += raised + ". ";
    text += "It preempted " + f.told("cut_into");
    if (f.known("sampled_in") != nullptr)
        text += "; " + f.told("sampled_before") + " before, the program counter was in " + f.told("sampled_in");
    if (const Fact* variable = f.known("variable")) text += "; " + variable->of + " was " + variable->text();
    text += ". ";
    if (f.known("ends_with_it") != nullptr) return text + "The recording ends with it.";
    if (f.known("never_returned") != nullptr)
        return text + "It never returned: the recording ends " +
               (f.known("inside_for") != nullptr ? f.told("inside_for") + " later inside it." : "inside it.");
    return text + (f.known("handled_for") != nullptr ? "Its handler ran for " + f.told("handled_for") + "."
                                                     : std::string("Its handler returned."));
}

std::string inversion(const Finding& f) {
    std::string text = f.who(Role::holder) +
                       ", of lower priority, held it and could not go on: " + f.who(Role::runner) +
                       ", of a priority between them, ran " + f.told("others_ran") + " meanwhile: priority inversion. ";
    text += f.known("priority_lent") != nullptr
                ? "The holder's priority is raised at times, but not far or not soon enough here."
                : "Nothing raised the holder's priority: give the lock priority inheritance.";
    for (const Fact& fact : f.facts)
        if (fact.key == "waited_too") text += " " + fact.of + " waited too, " + fact.text() + ".";
    return text;
}

std::string convoy(const Finding& f) {
    std::string text = f.told("had_to_wait") + " of those who took it had to wait, against " + f.told("elsewhere") +
                       " elsewhere; the longest wait was " + f.told("longest") + " (" + f.known("longest")->of + ").";
    if (f.known("held_times") != nullptr)
        text += " " + f.who(Role::holder) + " held it " + f.told("held_times") + " × as long as usual (" +
                f.told("held") + " against " + f.told("held_usual") + ").";
    return text;
}

std::string deadlock(const Finding& f) {
    std::string chain;
    for (std::size_t i = 0; i + 1 < f.facts.size(); ++i)
        if (f.facts[i].key == "wants")
            chain += (chain.empty() ? "" : ", ") + f.facts[i].of + " wants " + f.facts[i].text() + ", which " +
                     f.facts[i + 1].text() + " holds";
    return chain + ". Neither ran again in the last " + f.told("before_end") +
           " of the recording: take the locks in the same order everywhere.";
}

std::string starvation(const Finding& f) {
    std::string text = "It was ready all the time; usually it runs within " + f.told("usual") +
                       ". Meanwhile the core went to " + names_with_numbers(f, "ran") + ".";
    if (const Fact* hog = f.known("worked_times"))
        text += " " + hog->of + " worked " + hog->text() + " × as long a job as usual.";
    return text;
}

std::string overlap(const Finding& f) {
    std::string text =
        f.who(Role::victim) + " began while " + f.who() + " was in the middle of it, for " + f.told("overlap") + ".";
    for (const Fact& fact : f.facts)
        if (fact.key == "unguarded")
            text += " " + fact.of + " did not hold " + fact.text() + ", which guards it elsewhere.";
    return text;
}

std::string full_queue(const Finding& f) {
    if (f.known("waited") != nullptr)
        return "It held " + some(f, "peak", "entry", "entries") + "; 90 % of the time it holds at most " +
               f.told("usual_most") + ". Nothing was lost, but its sender stood still until a reader made room" +
               (count_of(f, "waits") > 1 ? ", " + some(f, "waits", "time", "times") + " in all" : "") + ".";
    std::string text = f.told("sender") + " found it full with " + f.told("capacity") + " entries";
    if (const Fact* reader = f.known("reader")) {
        text += ". " + reader->text() + ", its reader, ";
        if (f.known("held_off") != nullptr)
            text += "was held off for " + f.told("held_off") + ", most of it by " + f.who(Role::runner);
        else if (f.known("waited_for_lock") != nullptr)
            text += "waited " + f.told("waited_for_lock") + " for a lock";
        else if (f.known("run") != nullptr)
            text += "took " + f.told("run") + " of processor time a job against " + f.told("usual") + " usually";
        else
            text += "did not keep up: " + parts_text(f);
    }
    return text + ".";
}

std::string drift(const Finding& f) {
    return some(f, "periods", "period", "periods") + " in a row were " + percent(f, "off_by", 1) +
           (f.known("longer") != nullptr ? " longer" : " shorter") + " than usual; elsewhere half are within " +
           f.told("usual_off") + ". Was its timer programmed anew, or does what makes it ready run at another rate?";
}

std::string current(const Finding& f) {
    std::string text = f.who(Role::runner) + " had the core for " + f.told("ran") + " of it";
    if (f.known("usual") != nullptr) text += " and draws " + f.told("usual") + " as a rule";
    text += ": nothing that ran accounts for it. It cost " + f.told("charge") + ".";
    if (f.known("ran_before") != nullptr)
        text += " Before it ran " + f.who(Role::also) + ": did it leave something switched on?";
    const std::string others = listed(f, "also_in", [](const Fact& fact) { return fact.text(); });
    return others.empty() ? text : text + " " + others + " tells the same.";
}

// "; guide wrote it".
std::string written_by(const Finding& f) {
    return f.known("writer") == nullptr ? std::string() : " " + f.told("writer") + " wrote it.";
}

std::string cause_alone(const Finding& f) {
    switch (f.kind) {
        case Kind::fault:
            return fault(f);
        case Kind::late_response:
            return f.lane.kind == &interrupts_kind() ? late_interrupt(f)
                                                     : "Usual is " + f.told("usual") + " (95 % under " + f.told("p95") +
                                                           "). The time went to " + parts_text(f) + ".";
        case Kind::missed_activation:
            return missed(f);
        case Kind::duration_outlier:
            return took_long(f);
        case Kind::interrupt_storm:
            return storm(f);
        case Kind::deep_nest:
            return f.told("chain") + ". Of " + f.told("executions") + " handler executions " +
                   some(f, "so_deep", "was", "were") + " this deep: mind the stack.";
        case Kind::clock_doubt:
            return "At the stated clock its period is no usual tick; for a tick of " + f.told("usual_tick") +
                   " the core clock would be " + f.told("likelier_clock") + " rather than " + f.told("stated_clock") +
                   ". All times scale with it.";
        case Kind::gap:
            return lost(f);
        case Kind::image_doubt:
            return f.told("outside") + " of the program-counter samples lie where " + f.told("image") +
                   " holds no code, first at " + f.told("first_outside") +
                   ". Names may be wrong: is it the image that ran?";
        case Kind::unexpected_recursion:
            return f.told("odd_calls") + " of its " + f.told("calls") +
                   " calls came from itself or its callees; all others did not. Is it safe to enter twice?";
        case Kind::never_returned:
            return f.told("odd_calls") + " of its " + f.told("calls") +
                   " calls ended in a jump out of it (longjmp, an abandoned stack); what it held may not have been "
                   "given back.";
        case Kind::jitter_burst:
            return some(f, "periods", "period was", "periods were") + " off by up to " + f.told("off_by") + " of " +
                   f.told("period") + "; elsewhere 90 % are within " + f.told("usual_off") +
                   ". It was not busy with the job before: what makes it ready came at the wrong times.";
        case Kind::period_drift:
            return drift(f);
        case Kind::priority_inversion:
            return inversion(f);
        case Kind::lock_convoy:
            return convoy(f);
        case Kind::deadlock:
            return deadlock(f);
        case Kind::starvation:
            return starvation(f);
        case Kind::unguarded_overlap:
            return overlap(f);
        case Kind::queue_overflow:
            return full_queue(f);
        case Kind::slow_growth:
            return "Its processor time per job was " + f.told("first_quarter") +
                   " in the first quarter of the recording and " + f.told("last_quarter") +
                   " in the last, growing all the while over " + f.told("jobs") +
                   " jobs. Is there a list that only grows?";
        case Kind::overload:
            return "99 % of its busy stretches are shorter than " + f.told("p99") + ". It was taken by " +
                   names_with_numbers(f, "ran") + ".";
        case Kind::never_ran:
            return "It was created " + f.told("before_end") + " before the recording ends, and " +
                   (f.known("was_ready") != nullptr ? "something more urgent had the core whenever it was ready."
                                                    : "nothing ever made it ready.");
        case Kind::unaccounted_current:
            return current(f);
        case Kind::charge_outlier:
            return "Its " + f.told("jobs") + " jobs draw " + f.told("usual") + " as a rule (" + f.who(Role::also) +
                   "); this one took " + f.told("charge") + " in all" +
                   (f.alike > 1 ? ", and " + count_text(f.alike) + " jobs are like it" : "") + ".";
        case Kind::device_clock:
            return "By " + count_text(count_of(f, "matched")) + " edges that it and the recording both saw. What it "
                   "measured is laid right; without that it would be " + f.told("grows_to") + " off by the end.";
        case Kind::value_outlier:
            return "99 % of its " + f.told("samples") + " samples lie between " + f.told("usual_least") + " and " +
                   f.told("usual_most") + "." + written_by(f);
        case Kind::value_jump:
            return "From " + f.told("from") + " at once. 99 % of its " + f.told("steps") + " steps are at most " +
                   f.told("usual_step") + "." + written_by(f);
        case Kind::value_stuck:
            return "It was told " + f.told("times") + " times in a row with the same value" +
                   (f.known("to_the_end") != nullptr ? ", up to the end of the recording" : "") +
                   "; elsewhere 99 % of such rows have at most " + f.told("usual") + ". Whoever writes it still runs.";
        case Kind::odd_writer:
            return "It wrote " + f.told("value") + "; all other " + f.told("writes") + " writes " +
                   (f.known("function") != nullptr ? "are in " : "come from ") +
                   listed(f, "usual_writer", [](const Fact& fact) { return fact.text(); }) + ".";
        case Kind::lost_update:
            return f.told("writer") + " read " + f.told("read") + ", " + f.told("other") + " cut in and wrote " +
                   f.told("meanwhile") + ", and " + f.told("writer") + " wrote " + f.told("value") +
                   " from what it had read before" +
                   (f.alike > 1 ? "; so " + count_text(f.alike) + " times in all" : "") +
                   ". No lock kept them apart.";
        case Kind::stray_edge:
            return "Each of its other " + f.told("edges") + " edges goes with an execution of " + f.told("handler") +
                   "; here it moved for " + f.told("lasted") + " and nothing ran that moves it. Is it disturbed from outside?";
        case Kind::disturbed_sample:
            return "99 % of its " + f.told("samples") + " samples lie between " + f.told("usual_least") + " and " +
                   f.told("usual_most") + ", and so would this one but for a single byte: a byte that was disturbed on "
                   "its way here looks just like this. If the line is sound, the program wrote it." + written_by(f);
    }
    return {};
}

std::string capitalised(std::string text) {
    if (!text.empty()) text[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(text[0])));
    return text;
}

}  // namespace

// "r3 was 0x0a4011f8, loaded 1.2 µs before from pages + 4 by …, written 12.4 ms before by …"
std::string pointer_told(const Finding& f, const Fact& pointer) {
    const auto of_it = [&](std::string_view key) {
        for (const Fact& fact : f.facts)
            if (fact.key == key && fact.of == pointer.of) return fact.text();
        return std::string();
    };
    std::string text = pointer.of + " was " + pointer.text();
    if (const std::string by = of_it("pointer_set_by"); !by.empty()) {
        const std::string from = of_it("pointer_from");
        text += (from.empty() ? ", set " : ", loaded from " + from + " ") + of_it("pointer_set_before") + " before by " + by;
    }
    if (const std::string by = of_it("pointer_written_by"); !by.empty())
        text += ", where it had been written " + of_it("pointer_written_before") + " before by " + by;
    return text;
}

std::string title_of(const Finding& f) {
    const std::string who = f.who();
    switch (f.kind) {
        case Kind::fault:
            return f.known("fault") != nullptr ? capitalised(f.told("fault"))
                                               : who + (f.alike == 1 ? "" : " (" + count_text(f.alike) + " times)");
        case Kind::late_response:
            return f.lane.kind == &interrupts_kind() ? who + " entered " + f.told("late_by") + " late"
                                                     : who + " answered after " + f.told("response");
        case Kind::missed_activation:
            return who + " missed " + some(f, "missed", "activation", "activations");
        case Kind::duration_outlier:
            return who +
                   (f.known("beside") != nullptr   ? ": a row of jobs ran up to "
                    : f.lane.kind == &tasks_kind() ? " ran "
                                                   : " took ") +
                   f.told("times") + " × its usual time";
        case Kind::interrupt_storm:
            return who + (f.known("elsewhere") != nullptr
                              ? " came " + f.told("entries") + " times in " + f.told("within")
                              : std::string(" came in a burst"));
        case Kind::deep_nest:
            return "Nest of " + f.told("depth") + " handlers";
        case Kind::clock_doubt:
            return who + " measures " + f.told("tick") + ": is the clock right?";
        case Kind::gap:
            return f.known("offset") != nullptr
                       ? some(f, "stretches", "damaged stretch", "damaged stretches") + ", " + f.told("bytes")
                       : "Trace lost " + (f.alike > 1 ? count_text(f.alike) + " times, " : std::string()) +
                             "for up to " + f.told("longest");
        case Kind::image_doubt:
            return "The image does not fit the recording";
        case Kind::unexpected_recursion:
            return who + " was called while it was running";
        case Kind::never_returned:
            return who + " was left without a return";
        case Kind::jitter_burst:
            return who + " lost its beat for " + f.told("lasted");
        case Kind::period_drift:
            return who + " came every " + f.told("period") + " instead of " + f.told("usual");
        case Kind::priority_inversion:
            return who + " waited " + f.told("waited") + " for " + f.who(Role::lock);
        case Kind::lock_convoy:
            return "A convoy at " + f.who(Role::lock) + ": " + some(f, "waits", "wait", "waits") + " in " +
                   f.told("lasted");
        case Kind::deadlock: {
            const std::uint64_t others = count_of(f, "members") - 1;
            return "Deadlock of " + who + " and " +
                   (others == 1 ? f.who(Role::victim) : plural(others, "other", "others"));
        }
        case Kind::starvation:
            return who + " got no processor for " + f.told("waited");
        case Kind::unguarded_overlap:
            return who + " and " + f.who(Role::victim) + " used " + f.who(Role::resource) + " at the same time";
        case Kind::queue_overflow:
            return f.known("waited") != nullptr
                       ? f.who(Role::queue) + " was full: " + who + " waited " + f.told("waited")
                       : f.who(Role::queue) + " overflowed: " + some(f, "lost", "entry", "entries") + " lost";
        case Kind::slow_growth:
            return who + " takes longer and longer: " + percent(f, "growth", 0) + " more by the end";
        case Kind::overload:
            return f.core + " did not rest for " + f.told("lasted");
        case Kind::never_ran:
            return who + " never ran";
        case Kind::unaccounted_current:
            return who + " " + f.told("above") + " too high for " + f.told("lasted");
        case Kind::charge_outlier:
            return "A job of " + who + " drew " + f.told("drew");
        case Kind::device_clock:
            return "The clock of " + who + " is " + f.told("off") + (f.known("slow") != nullptr ? " slow" : " fast");
        case Kind::value_outlier:
            return who + " was " + f.told("value");
        case Kind::value_jump:
            return who + " jumped to " + f.told("value");
        case Kind::value_stuck:
            return who + " stayed at " + f.told("value") + " for " + f.told("lasted");
        case Kind::odd_writer:
            return f.told("writer") + " wrote " + who + (count_of(f, "odd_writes") > 1 ? " twice" : "");
        case Kind::lost_update:
            return "An update of " + who + " was lost";
        case Kind::stray_edge:
            return who + " moved without " + f.told("handler");
        case Kind::disturbed_sample:
            return who + " was " + f.told("value") + " once, perhaps by a disturbed line";
    }
    return {};
}

std::string cause_of(const Finding& f) { return cause_alone(f) + joined(f); }

std::string parts_text(const Finding& f) {
    const std::string others = names_with_numbers(f, "other_task");
    return listed(f, "part", [&](const Fact& part) {
        std::string what = part.of;
        if (what == "other tasks" && !others.empty()) what += " (" + others + ")";
        if (what == "waiting for a lock" && f.known("part_lock") != nullptr)
            what = "waiting for " + f.told("part_lock");
        return what + " " + part.text();
    });
}

}  // namespace mt
