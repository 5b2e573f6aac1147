#include "record/record_strip.h"

#include <QHBoxLayout>
#include <QVBoxLayout>

#include "base/text.h"
#include "look/layout.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {
QString time_words(double s) { return words(duration_text(Time::from_ns(s * 1e9))); }
}  // namespace

RecordStrip::RecordStrip(LiveSession& live, Viewpoint& view, QWidget* parent)
    : QWidget(parent), live_(live), view_(view) {
    setAccessibleName(tr("Recording"));
    bar_ = new QWidget;
    bar_->setObjectName("record_bar");
    bar_->setAutoFillBackground(true);
    clock_ = new QLabel;
    clock_->setObjectName("record_clock");
    clock_->setFixedWidth(96);
    what_ = new QLabel;
    what_->setObjectName("record_what");
    auto* row = new QHBoxLayout(bar_);
    row->setContentsMargins(14, 4, 14, 4);
    row->addWidget(clock_);
    row->addWidget(what_, 1);
    const auto button = [&](const QString& text, const QString& tip, const char* name) {
        auto* b = new QPushButton(text);
        b->setToolTip(tip);
        b->setAccessibleName(tip);
        b->setObjectName(name);
        b->setFocusPolicy(Qt::TabFocus);
        return b;
    };
    start_ = button(tr("Record"), tr("Run the recipe and record (F5)"), "record_start");
    keep_ = button(tr("Stop and keep"), tr("End the recording and save it (Shift+F5)"), "record_keep");
    discard_ = button(tr("Stop and discard"), tr("End the recording and discard it"), "record_discard");
    mark_ = button(tr("Mark this moment"), tr("Write a note into the recording (Ctrl+M)"), "record_mark");
    hold_ = button(tr("Freeze"), tr("The picture stands still, recording goes on (Space)"), "record_hold");
    hold_->setCheckable(true);
    follow_ = button(tr("Follow live"), tr("Show the end of the recording as it grows (End)"), "record_follow");
    line_ = button(tr("Line check…"), tr("Find the best sampling phase of the trace line"), "record_line");
    close_ = button(tr("Close the record page"), tr("Back to the recording alone"), "record_close");
    buttons_ = new QHBoxLayout;
    buttons_->setContentsMargins(14, 8, 14, 2);
    buttons_->setSpacing(8);
    for (auto* b : {start_, keep_, discard_, mark_, hold_, follow_}) buttons_->addWidget(b);
    buttons_->addStretch();
    buttons_->addWidget(line_);
    buttons_->addWidget(close_);
    cores_ = new QLabel;
    cores_->setObjectName("record_cores");
    cores_->setContentsMargins(14, 0, 14, 8);
    auto* column = bare_column(this);
    column->addWidget(bar_);
    column->addLayout(buttons_);
    column->addWidget(cores_);
    connect(start_, &QPushButton::clicked, this, &RecordStrip::start_wanted);
    connect(keep_, &QPushButton::clicked, this, [this] { live_.stop(true); });
    connect(discard_, &QPushButton::clicked, this, &RecordStrip::discard_wanted);
    connect(mark_, &QPushButton::clicked, this, &RecordStrip::mark_wanted);
    connect(hold_, &QPushButton::toggled, this, [this](bool on) {
        if (on != live_.held()) live_.hold(on);
    });
    connect(follow_, &QPushButton::clicked, this, [this] { view_.follow(true); });
    connect(line_, &QPushButton::clicked, this, &RecordStrip::line_check_wanted);
    connect(close_, &QPushButton::clicked, this, &RecordStrip::close_wanted);
    connect(&live, &LiveSession::renewed, this, &RecordStrip::renew);
    connect(&view, &Viewpoint::window_changed, this,
            [this] { follow_->setVisible(live_.recording() && !view_.following()); });
    renew();
}

void RecordStrip::renew_cores() {
    for (const auto& c : live_.state().cores) {
        if (!c.debug) continue;
        bool there = false;
        for (const auto& [name, b] : core_buttons_) there = there || name == c.name;
        if (there) continue;
        auto* b = new QPushButton;
        b->setObjectName("halt_" + words(c.name));
        b->setFocusPolicy(Qt::TabFocus);
        const QString name = words(c.name);
        connect(b, &QPushButton::clicked, this, [this, name] {
            for (const auto& core : live_.state().cores)
                if (words(core.name) == name) live_.halt(name, core.running);
        });
        buttons_->insertWidget(3 + static_cast<int>(core_buttons_.size()), b);
        core_buttons_.emplace_back(c.name, b);
    }
    QStringList lines;
    for (auto& [name, b] : core_buttons_) {
        b->setVisible(false);
        for (const auto& c : live_.state().cores)
            if (c.name == name) {
                b->setVisible(live_.recording() && !c.lost);
                b->setText((c.running ? tr("Halt %1") : tr("Resume %1")).arg(words(name)));
                b->setToolTip(c.running ? tr("Halt this core; its trace stands still meanwhile")
                                        : tr("Let this core run on"));
            }
    }
    for (const auto& c : live_.state().cores) {
        QString line = words(c.name) + ": ";
        if (!c.debug)
            line += tr("no debug server");
        else if (c.lost)
            line += tr("debug server lost");
        else if (c.running)
            line += tr("running");
        else
            line += tr("halted at %1").arg(words(c.place.empty() ? hex_text(c.pc) : c.place));
        if (live_.state().cores.size() > 1 && c.debug && c.started_after_s > 0 && live_.active())
            line += tr(", started %1 after the first").arg(time_words(c.started_after_s));
        lines << line;
    }
    cores_->setText(lines.join("   ·   "));
}

void RecordStrip::renew() {
    const Theme& t = theme();
    // Dark while something goes on; afterwards the moment strip above it is the only dark one.
    const bool dark = live_.active();
    const QColor back = !dark ? t.window : t.night ? t.panel.lighter(135) : t.text;
    const QColor ink = !dark ? t.text : t.night ? t.text : t.panel;
    set_style(*bar_, QString("QWidget#record_bar { background: %1; border-top: 1px solid %3; } "
                             "QLabel { color: %2; background: transparent; }")
                         .arg(back.name(), ink.name(), (dark ? back : t.rule).name()));
    clock_->setFont(fixed_font(12, true));
    set_style(*cores_, QString("color: %1").arg(t.second.name()));
    const RunState& s = live_.state();
    const bool active = live_.active(), recording = live_.recording();
    start_->setVisible(!active);
    start_->setEnabled(live_.recipe().has_value() && !live_.testing());
    start_->setText(s.finished ? tr("Record again") : tr("Record"));
    keep_->setVisible(active);
    keep_->setText(recording ? tr("Stop and keep") : tr("Stop"));
    discard_->setVisible(recording);
    mark_->setVisible(recording);
    hold_->setVisible(recording);
    hold_->setChecked(live_.held());
    follow_->setVisible(recording && !view_.following());
    line_->setVisible(!active);
    close_->setVisible(!active);
    keep_->setDefault(true);
    clock_->setText(recording || s.finished ? time_words(s.elapsed_s) : QString());
    clock_->setVisible(!clock_->text().isEmpty());
    QStringList parts;
    if (recording) {
        std::uint64_t decoded = 0, rate = 0;
        for (const auto& f : live_.figures()) {
            decoded += f.decoded;
            rate += static_cast<std::uint64_t>(f.bytes_per_s);
        }
        parts << tr("%1 on disk").arg(words(bytes_text(s.bytes)));
        parts << (decoded + 1'000'000 >= s.bytes ? tr("all of it decoded")
                                                 : tr("%1 still to decode").arg(words(bytes_text(s.bytes - decoded))));
        if (rate > 0) {
            const double left = static_cast<double>(s.disk_free) / static_cast<double>(rate);
            parts << tr("the disk holds %1 at this rate")
                         .arg(left > 48 * 3600 ? tr("more than two days")
                              : left > 7200    ? tr("%1 h").arg(left / 3600, 0, 'f', 0)
                                               : time_words(left));
        }
        if (live_.held())
            parts << tr("frozen; recording goes on");
        else if (view_.following())
            parts << tr("following live, the newest %1").arg(words(duration_text(view_.to() - view_.from())));
    } else if (active) {
        for (const auto& station : s.stations)
            if (station.status == Station::Status::now) parts << words(station.name) + " …";
    } else if (s.problem) {
        parts << words(s.problem->text());
    } else if (s.finished) {
        parts << (s.discarded ? tr("discarded")
                              : tr("%1 saved as %2").arg(words(bytes_text(s.bytes)), words(s.folder)));
        if (!s.stop_reason.empty()) parts << words(s.stop_reason);
    } else if (live_.recipe()) {
        parts << tr("ready: the recording will be saved as %1").arg(words(s.folder));
    } else {
        parts << tr("Choose a recipe, or describe the connection and make one.");
    }
    what_->setText(parts.join(" · "));
    renew_cores();
}

}  // namespace mt::app
