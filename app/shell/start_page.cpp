#include "shell/start_page.h"

#include <QAbstractButton>
#include <QApplication>
#include <QDir>
#include <QFileInfo>
#include <QPainter>
#include <QPushButton>
#include <QScrollArea>

#include "look/layout.h"
#include "look/theme.h"

namespace mt::app {
namespace {

// One recording: its name, what is known of it, and its ridge.
class Card : public QAbstractButton {
  public:
    Card(const QString& name, const QString& below, const QString& path, const RecentFacts& facts) : facts_(facts) {
        setObjectName("start_card");
        setText(name);
        below_ = below;
        setToolTip(path);
        setAccessibleName(tr("Open %1").arg(name));
        setAccessibleDescription(below);
        setFocusPolicy(Qt::StrongFocus);
        setCursor(Qt::PointingHandCursor);
        setAttribute(Qt::WA_Hover);
        setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
    }
    QSize sizeHint() const override { return {360, facts_.ridge.isNull() ? 48 : 58}; }

  protected:
    void paintEvent(QPaintEvent*) override {
        const Theme& t = theme();
        QPainter p(this);
        p.setRenderHint(QPainter::Antialiasing);
        p.setPen(QPen(hasFocus() ? t.measure : t.rule, hasFocus() ? 1.6 : 1));
        p.setBrush(underMouse() || isDown() ? t.selected : t.panel);
        p.drawRoundedRect(QRectF(rect()).adjusted(1, 1, -1, -1), 4, 4);
        double right = width() - 12;
        if (!facts_.ridge.isNull()) {
            const QRectF where(right - 190, 8, 190, height() - 16);
            p.setRenderHint(QPainter::SmoothPixmapTransform);
            p.drawImage(where, facts_.ridge);
            right = where.left() - 12;
        }
        const QRectF area(12, 6, right - 12, height() - 12);
        p.setFont(text_font(13, true));
        p.setPen(t.text);
        p.drawText(QRectF(area.left(), area.top(), area.width(), area.height() / 2), Qt::AlignLeft | Qt::AlignVCenter,
                   QFontMetrics(p.font()).elidedText(text(), Qt::ElideMiddle, static_cast<int>(area.width())));
        p.setFont(text_font(11));
        p.setPen(t.second);
        p.drawText(QRectF(area.left(), area.center().y(), area.width(), area.height() / 2),
                   Qt::AlignLeft | Qt::AlignVCenter,
                   QFontMetrics(p.font()).elidedText(below_, Qt::ElideMiddle, static_cast<int>(area.width())));
    }

  private:
    QString below_;
    RecentFacts facts_;
};

QLabel* heading(const QString& text) {
    auto* l = new QLabel(text);
    l->setFont(text_font(13, true));
    l->setSizePolicy(QSizePolicy::Preferred, QSizePolicy::Fixed);
    return l;
}

// Where the demonstration lies: installed, or beside the build.
QString demonstration_folder() {
    const QDir here(QApplication::applicationDirPath());
    for (const char* place : {"../share/mindful-trail/demo", "../../../demo"})
        if (QFileInfo::exists(here.filePath(QString(place) + "/larkspur.target.toml")))
            return QDir::cleanPath(here.filePath(place));
    return {};
}

}  // namespace

StartPage::StartPage(QWidget* parent) : QWidget(parent) {
    auto* title = new QLabel(tr("Open a recording"));
    title->setFont(text_font(18, true));
    auto* what =
        new QLabel(tr("Drop a file or folder on this window, or choose one. Raw trace bytes need no target file: the "
                      "format and settings are identified, and you are asked only for what the bytes cannot tell."));
    what->setWordWrap(true);
    auto* buttons = new QHBoxLayout;
    buttons->setSpacing(10);
    const auto button = [&](const QString& text, const char* name, const QString& tip, auto wanted) {
        auto* b = new QPushButton(text);
        b->setObjectName(name);
        b->setToolTip(tip);
        connect(b, &QPushButton::clicked, this, wanted);
        buttons->addWidget(b);
    };
    button(tr("Open…"), "start_open", tr("A target file, a saved recording, a packed trace"), &StartPage::open_wanted);
    button(tr("New target from bytes…"), "start_new",
           tr("Choose a file of raw trace bytes; protocol and settings are identified"), &StartPage::new_target_wanted);
    button(tr("Record from a target…"), "start_record", tr("Describe the connection to a board, try it, and record"),
           &StartPage::record_wanted);
    button(tr("Your first ten minutes"), "start_guide", tr("A tour with the demonstration, step by step"),
           &StartPage::guide_wanted);
    buttons->addStretch();

    recent_box_ = new QWidget;
    recent_ = bare_column(recent_box_, 6);
    auto* demonstration = new QWidget;
    demonstration->setSizePolicy(QSizePolicy::Preferred, QSizePolicy::Fixed);
    demonstration_ = bare_column(demonstration, 6);
    add_demonstration();
    auto* reads = new QLabel(tr(
        "<p style=\"margin:0 0 4px 0\"><b>Trace bytes</b> – ITM and DWT, ETMv3 and ETMv4, PFT, RISC-V E-Trace and "
        "N-Trace, micro trace buffer; bare or in formatter frames; plain, gzip, xz or zstd; split over several files</p>"
        "<p style=\"margin:0 0 4px 0\"><b>Event traces</b> – folders of the Common Trace Format 1.8 and 2, also packed "
        "as "
        "tar; packets of the recorder for your firmware</p>"
        "<p style=\"margin:0 0 4px 0\"><b>Programs</b> – ELF with DWARF, Intel HEX, S-records; CMSIS-SVD and ORTI for "
        "names</p>"
        "<p style=\"margin:0 0 4px 0\"><b>Measured elsewhere</b> – VCD, CSV, ASAM MDF 4; streams of current and "
        "analogue channels</p>"
        "<p style=\"margin:0\"><b>Its own</b> – target files, recipes, saved recordings</p>"));
    reads->setObjectName("start_reads");
    reads->setTextFormat(Qt::RichText);
    reads->setWordWrap(true);
    reads->setAlignment(Qt::AlignTop);
    auto* left = new QVBoxLayout;
    left->addWidget(recent_box_);
    left->addStretch(1);
    auto* right = new QVBoxLayout;
    right->setSpacing(0);
    right->addWidget(demonstration);
    right->addSpacing(18);
    right->addWidget(heading(tr("Supported formats")));
    right->addSpacing(4);
    right->addWidget(reads, 1);
    auto* sides = new QHBoxLayout;
    sides->setSpacing(36);
    sides->addLayout(left, 6);
    sides->addLayout(right, 5);
    auto* page = new QWidget;
    auto* column = column_in(page, {48, 34, 48, 24}, 12);
    column->addWidget(title);
    column->addWidget(what);
    column->addLayout(buttons);
    column->addSpacing(10);
    column->addLayout(sides, 1);
    auto* scroll = new QScrollArea;
    scroll->setWidgetResizable(true);
    scroll->setAccessibleName(tr("Start"));
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setWidget(page);
    bare_column(this)->addWidget(scroll);
}

void StartPage::add_demonstration() {
    const QString folder = demonstration_folder();
    demonstration_->addWidget(heading(tr("Demonstration")));
    const std::tuple<const char*, QString, QString> all[] = {
        {"larkspur.target.toml", tr("A night that went wrong"),
         tr("Two cores of a telescope mount, 20 s: interrupts, tasks, instructions, a fault")},
        {"larkspur-repaired.target.toml", tr("The same night, repaired"),
         tr("Events of its operating system, to compare")},
        {"larkspur-night.swo", tr("The raw bytes"),
         tr("As a colleague would send them: format and settings are identified")},
        {"night-start.recipe.toml", tr("Record it live"),
         tr("A recipe for the simulated board; start it with ./trailhead board")},
    };
    int there = 0;
    for (const auto& [file, name, below] : all) {
        const QString path = folder + "/" + file;
        if (folder.isEmpty() || !QFileInfo::exists(path)) continue;
        auto* card = new Card(name, below, path, {});
        connect(card, &QAbstractButton::clicked, this,
                [this, path] { path.endsWith(".toml") ? emit chosen(path) : emit bytes_chosen(path); });
        demonstration_->addWidget(card);
        ++there;
    }
    if (there == 0) demonstration_->addWidget(new QLabel(tr("The demonstration is not installed.")));
}

void StartPage::set_recent(const Recent& recent) {
    while (QLayoutItem* old = recent_->takeAt(0)) {
        if (old->widget() != nullptr) {
            old->widget()->hide();
            old->widget()->deleteLater();
        }
        delete old;
    }
    recent_->addWidget(heading(tr("Recent")));
    const QStringList paths = recent.paths();
    for (const QString& path : paths) {
        const RecentFacts facts = recent.facts(path);
        const QFileInfo file(path);
        QString below = file.path();
        if (!file.exists())
            below = tr("no longer there: %1").arg(file.path());
        else if (facts.findings >= 0)
            below = QStringList{facts.findings == 1 ? tr("1 finding") : tr("%1 findings").arg(facts.findings),
                                facts.length, file.path()}
                        .join(" · ");
        auto* card = new Card(file.fileName(), below, path, facts);
        card->setEnabled(file.exists());
        connect(card, &QAbstractButton::clicked, this, [this, path] { emit chosen(path); });
        recent_->addWidget(card);
    }
    if (paths.isEmpty()) {
        auto* none = new QLabel(tr("No recent recordings. Start with the demonstration."));
        none->setWordWrap(true);
        recent_->addWidget(none);
    }
}

}  // namespace mt::app
