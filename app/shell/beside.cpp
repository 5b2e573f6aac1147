#include "shell/beside.h"

#include <QFileInfo>
#include <QHBoxLayout>

#include <algorithm>

#include "base/text.h"
#include "look/layout.h"
#include "look/page_parts.h"
#include "look/words.h"

namespace mt::app {
namespace {

// Where what is selected begins; else the cursor.
Time moment_of(const Document& document, const Viewpoint& view) {
    const auto& span = view.selection().span;
    const auto& lanes = document.lanes();
    const Lane* lane = span && lanes ? lanes->find(*span) : nullptr;
    return lane != nullptr ? lane->span(span->level, span->index).begin : view.cursor();
}

}  // namespace

Beside::Beside(Document& first, Viewpoint& first_view, QWidget* parent)
    : QWidget(parent), first_(first), first_view_(first_view) {
    lanes_ = new Lanes(document_, view_, navigator_, store_, judgement_);
    lanes_->setObjectName("lanes_beside");
    lanes_->setAccessibleName(tr("Lanes of the recording before"));
    lanes_->setMinimumSize(260, 80);  // two of them share the room of one
    said_ = hint_label("beside_said");
    align_ = tool_button("beside_align", tr("Align here"),
                    tr("What is selected in each of both, or else their cursors, comes to stand at one place"));
    close_ = tool_button("beside_close", tr("Close"), tr("Only the recording that is open"));
    auto* line = new QHBoxLayout;
    line->setContentsMargins(12, 2, 12, 2);
    line->addWidget(said_, 1);
    line->addWidget(align_);
    line->addWidget(close_);
    auto* column = bare_column(this);
    column->addLayout(line);
    column->addWidget(lanes_, 1);
    connect(align_, &QToolButton::clicked, this, &Beside::align);
    connect(close_, &QToolButton::clicked, this, &Beside::close_it);
    connect(&first_view, &Viewpoint::window_changed, this, &Beside::follow);
    connect(&view_, &Viewpoint::window_changed, this, &Beside::lead);
    connect(&first_view, &Viewpoint::colours_changed, &view_, &Viewpoint::colours_changed);
    connect(&document_, &Document::opened, this, [this] {
        trouble_.clear();
        view_.reset(document_.trail() ? document_.trail()->end : Time{});
        renew();
    });
    const auto grown = [this] {
        const auto trail = document_.trail();
        if (!trail) return;
        view_.extend(trail->end);
        store_.use(document_.recording(), trail);
        follow();
        renew();
    };
    connect(&document_, &Document::grew, this, grown);
    connect(&document_, &Document::finished, this, grown);
    connect(&document_, &Document::failed, this, [this](const Problem& problem) {
        trouble_ = words(problem.text());
        renew();
    });
    connect(&first, &Document::replacing, this, &Beside::close_it);
    hide();
}

void Beside::open(const QString& path) {
    if (path == path_) return;
    path_ = path;
    offset_ = {};
    view_.set_free(true);
    document_.open(path);
    show();
    renew();
    emit changed();
}

void Beside::close_it() {
    if (path_.isEmpty()) return;
    path_.clear();
    document_.cancel();
    hide();
    emit changed();
}

void Beside::align() {
    offset_ = moment_of(document_, view_) - moment_of(first_, first_view_);
    follow();
    renew();
    emit changed();
}

// The upper lanes have moved.
void Beside::follow() {
    if (moving_ || path_.isEmpty()) return;
    moving_ = true;
    view_.show(first_view_.from() + offset_, first_view_.to() + offset_);
    moving_ = false;
}

// The lower lanes were moved: the upper ones as far as they can.
void Beside::lead() {
    if (moving_ || path_.isEmpty()) return;
    moving_ = true;
    first_view_.show(view_.from() - offset_, view_.to() - offset_);
    view_.show(first_view_.from() + offset_, first_view_.to() + offset_);
    moving_ = false;
}

void Beside::renew() {
    const auto recording = document_.recording();
    QString text = tr("before: %1").arg(recording ? words(recording->title) : QFileInfo(path_).fileName());
    if (!trouble_.isEmpty())
        text = trouble_;
    else if (document_.busy())
        text += tr(" · reading …");
    else if (offset_ != Time{})
        text += tr(" · stands %1 %2").arg(words(duration_text(offset_ < Time{} ? Time{} - offset_ : offset_)),
                                          offset_ < Time{} ? tr("later") : tr("earlier"));
    else
        text += tr(" · both from their start; select something in each and align");
    said_->setText(text);
    align_->setEnabled(document_.trail() != nullptr && first_.trail() != nullptr);
}

}  // namespace mt::app
