#include "shell/notice.h"

#include <QPushButton>
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
    offers_ = new QHBoxLayout;
    offers_->setSpacing(8);
    row->addLayout(offers_);
    row->addWidget(close);
    hide();
}

void Notice::say(const QString& text, bool bad, const std::vector<Offer>& offers) {
    text_->setText(text);
    while (QLayoutItem* old = offers_->takeAt(0)) {
        old->widget()->deleteLater();
        delete old;
    }
    for (const Offer& offer : offers) {
        auto* button = new QPushButton(offer.label);
        button->setObjectName("offer");
        connect(button, &QPushButton::clicked, this, [act = offer.act] { act(); });
        offers_->addWidget(button);
    }
    setStyleSheet(QString("mt--app--Notice { background: %1; } QLabel { color: %2; %3 }")
                      .arg(theme().selected.name(), theme().text.name(), bad ? "font-weight: bold;" : ""));
    show();
}

}  // namespace mt::app
