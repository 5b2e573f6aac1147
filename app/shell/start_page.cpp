#include "shell/start_page.h"

#include <QPushButton>

#include "look/theme.h"

namespace mt::app {

StartPage::StartPage(QWidget* parent) : QWidget(parent) {
    auto* heading = new QLabel(tr("No recording is open"));
    heading->setFont(text_font(16, true));
    auto* what =
        new QLabel(tr("Open a target file (*.target.toml), a saved recording (*.mtrail), the folder of a Common Trace "
                      "Format trace, or any file of raw trace bytes: how it has to be read is found out, and what the "
                      "bytes do not tell is asked. All of these can be dropped on this window."));
    what->setWordWrap(true);
    auto* open = new QPushButton(tr("Open…"));
    open->setObjectName("start_open");
    auto* record = new QPushButton(tr("Record from a target…"));
    record->setObjectName("start_record");
    record->setToolTip(tr("Describe the connection to a board, try it, and record"));
    connect(record, &QPushButton::clicked, this, &StartPage::record_wanted);
    auto* buttons = new QHBoxLayout;
    buttons->setSpacing(10);
    buttons->addWidget(open);
    buttons->addWidget(record);
    buttons->addStretch();
    recent_ = new QLabel;
    recent_->setObjectName("start_recent");
    recent_->setTextFormat(Qt::RichText);
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(48, 40, 48, 40);
    column->setSpacing(14);
    column->addWidget(heading);
    column->addWidget(what);
    column->addLayout(buttons);
    column->addWidget(recent_);
    column->addStretch();
    connect(open, &QPushButton::clicked, this, &StartPage::open_wanted);
    connect(recent_, &QLabel::linkActivated, this, &StartPage::recent_chosen);
}

void StartPage::set_recent(const QStringList& paths) {
    QString text;
    for (const QString& p : paths)
        text += QString("<p style=\"margin:4px 0\"><a href=\"%1\" style=\"color:%2; text-decoration:none\">%1</a></p>")
                    .arg(p.toHtmlEscaped(), theme().measure.name());
    recent_->setText(text.isEmpty() ? QString() : "<p style=\"margin:6px 0\"><b>" + tr("Recent") + "</b></p>" + text);
}

}  // namespace mt::app
