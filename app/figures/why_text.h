// What the panel says in words: why something took longer than others of its kind, and what a fault was.
#pragma once

#include <vector>

#include <QString>

#include "judge/finding.h"
#include "judge/why_longer.h"

namespace mt::app {

/// Links in what is said: "span:N" is the Nth of these, "time:PS" a moment.
struct PanelText {
    QString html;
    std::vector<SpanRef> spans;
};

/// Where the time went, against a typical one.
PanelText why_text(const WhyLonger& why);
/// A fault: the instruction, what it touched, the stack, the task, and the last that was executed before.
PanelText fault_text(const Finding& fault);

}  // namespace mt::app
