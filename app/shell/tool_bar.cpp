#include "shell/tool_bar.h"

#include <QHBoxLayout>
#include <QTimer>

namespace mt::app {

ToolBar::ToolBar(QWidget* parent) : QToolBar(tr("Tools"), parent) {
    setMovable(false);
    setContextMenuPolicy(Qt::PreventContextMenu);
    back_ = button("‹", tr("Back to the place before (Alt+Left)"), "back");
    forward_ = button("›", tr("Forward (Alt+Right)"), "forward");
    connect(back_, &QToolButton::clicked, this, [this] { desk_->viewpoint().back(); });
    connect(forward_, &QToolButton::clicked, this, [this] { desk_->viewpoint().forward(); });
    search_ = new Search;
    search_->setFixedWidth(330);
    addWidget(search_);
    ruler_ =
        button(tr("A–B"), tr("Measure: drag in the lanes from A to B; both snap to entries and exits (R)"), "ruler");
    ruler_->setCheckable(true);
    connect(ruler_, &QToolButton::clicked, this, [this](bool on) { desk_->lanes()->set_measuring(on); });
    auto* space = new QWidget;
    space->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Preferred);
    addWidget(space);
    progress_ = new QProgressBar;
    progress_->setFixedWidth(150);
    progress_->setRange(0, 1000);
    progress_->setTextVisible(false);
    progress_->setAccessibleName(tr("Decoding"));
    auto* stop = stop_ = new QPushButton(tr("Stop"));
    stop->setObjectName("stop");
    stop->setToolTip(tr("Stop decoding; what was decoded so far stays"));
    stop->setSizePolicy(QSizePolicy::Fixed, QSizePolicy::Fixed);
    connect(stop, &QPushButton::clicked, this, [this] { desk_->document().cancel(); });
    busy_ = new QWidget;
    busy_->setObjectName("busy");
    busy_->setSizePolicy(QSizePolicy::Fixed, QSizePolicy::Preferred);
    auto* busy_row = new QHBoxLayout(busy_);
    busy_row->setContentsMargins(0, 0, 6, 0);
    busy_row->addWidget(progress_);
    busy_row->addWidget(stop);
    busy_shown_ = addWidget(busy_);
    health_ = new Health;
    health_shown_ = addWidget(health_);
}

QToolButton* ToolBar::button(const QString& text, const QString& tip, const QString& name) {
    auto* b = new QToolButton;
    b->setText(text);
    b->setToolTip(tip);
    b->setAccessibleName(tip);
    b->setObjectName(name);
    addWidget(b);
    return b;
}

// What a tool bar holds is shown and hidden by its action.
void ToolBar::show_of(Desk& desk) {
    desk_ = &desk;
    search_->look_in(desk);
    const bool there = desk.document().trail() != nullptr;
    back_->setEnabled(there && desk.viewpoint().can_go_back());
    forward_->setEnabled(there && desk.viewpoint().can_go_forward());
    ruler_->setChecked(desk.lanes()->measuring());
    health_shown_->setVisible(there);
    health_->show_of(desk);
    busy_shown_->setVisible(desk.document().busy());
    stop_->setVisible(desk.document().busy());
    show_progress();
}

void ToolBar::show_progress() {
    progress_->setValue(static_cast<int>(desk_->document().progress() * 1000));
    if (desk_->document().busy())
        QTimer::singleShot(80, progress_,
                           [this] { progress_->setValue(static_cast<int>(desk_->document().progress() * 1000)); });
}

}  // namespace mt::app
