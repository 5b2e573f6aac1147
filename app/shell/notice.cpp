#include "shell/notice.h"

#include <QHBoxLayout>
#include <QToolButton>

#include "look/theme.h"

namespace mt::app {

Notice::Notice(QWidget* parent) : QWidget(parent), text_(new QLabel) {
    setAttribute(Qt::WA_StyledBackground);
    text_->setObjectName("notice");
    text_->setWordWrap(true);
    text_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    auto* close = new QToolButton;
    close->setText("✕");
    close->setToolTip(tr("Close this message"));
    close->setAccessibleName(tr("Close this message"));
    connect(close, &QToolButton::clicked, this, &QWidget::hide);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(12, 5, 8, 5);
    row->addWidget(text_, 1);
    row->addWidget(close);
    hide();
}

void Notice::say(const QString& text, bool bad) {
    text_->setText(text);
    setStyleSheet(QString("QWidget { background: %1; } QLabel { color: %2; %3 }")
                      .arg(theme().selected.name(), theme().text.name(), bad ? "font-weight: bold;" : ""));
    show();
}

}  // namespace mt::app
