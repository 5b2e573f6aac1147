#include "shell/past_strip.h"

#include <QHBoxLayout>

#include "base/text.h"
#include "look/page_parts.h"
#include "look/words.h"

namespace mt::app {

PastStrip::PastStrip(Document& document, Footsteps& steps, StatePage& state, QWidget* parent)
    : QWidget(parent), document_(document), steps_(steps) {
    setObjectName("past_strip");
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(12, 4, 12, 4);
    row->setSpacing(6);
    const auto button = [&](const char* name, const QString& text, const QString& tip, auto what) {
        auto* b = tool_button(name, text, tip);
        b->setFocusPolicy(Qt::TabFocus);
        connect(b, &QToolButton::clicked, this, what);
        row->addWidget(b);
        return b;
    };
    Footsteps* s = &steps;
    button("past_back_function", tr("⟸ function"), tr("To where another function ran before (Alt+↑ in the instructions)"), [s] { s->step_function(-1); });
    button("past_back_line", tr("⟸ line"), tr("To where another source line ran before (Shift+↑)"), [s] { s->step_line(-1); });
    button("past_back", tr("⟸ instr."), tr("To the instruction before (↑)"), [s] { s->step_instruction(-1); });
    button("past_on", tr("instr. ⟹"), tr("To the next instruction (↓)"), [s] { s->step_instruction(1); });
    button("past_on_line", tr("line ⟹"), tr("To where another source line runs next (Shift+↓)"), [s] { s->step_line(1); });
    button("past_on_function", tr("function ⟹"), tr("To where another function runs next (Alt+↓)"), [s] { s->step_function(1); });
    button("past_new_line", tr("first never run ⟹"), tr("To the next source line that had not run before in this recording (Ctrl+Alt+N)"),
           [s] { s->step_new_line(); });
    where_ = hint_label("past_where");
    row->addWidget(where_, 1);
    put_ = button("past_put", tr("Put the target here…"), tr("Write what is known of this state into the halted target"), [state = &state] { state->want_put(); });
    put_->hide();
    connect(&steps, &Footsteps::current_changed, this, &PastStrip::renew);
    connect(&document, &Document::opened, this, &PastStrip::renew);
    renew();
}

void PastStrip::set_in_hand(bool on, const QString& stands) {
    put_->setVisible(on);
    if (stands == stands_) return;
    stands_ = on ? stands : QString();
    renew();
}

void PastStrip::renew() {
    const auto step = steps_.current();
    QString text = step ? tr("instruction %1 · %2").arg(words(count_text(*step)), steps_.texts(*step).value(1)) : tr("no instruction chosen yet");
    if (!stands_.isEmpty()) text += tr(" · the target itself: %1").arg(stands_);
    where_->setText(text);
}

}  // namespace mt::app
