#include "record/line_check_dialog.h"

#include <QHBoxLayout>
#include <QMetaObject>
#include <QPainter>
#include <QVBoxLayout>

#include <algorithm>
#include <cmath>

#include "base/text.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {

constexpr double kPlotLeft = 58, kPlotBottom = 40, kPlotTop = 16;
constexpr double kDecades = 6;  ///< the scale reaches down to one bit in a million; clean stands below it

const Recipe::Connect* measurable(const Recipe& recipe) {
    for (const auto& c : recipe.connects)
        if (!c.debug.empty() && c.trace && c.trace->kind <= SourceSpec::Kind::serial) return &c;
    return nullptr;
}

}  // namespace

PhasePlot::PhasePlot(QWidget* parent) : QWidget(parent) {
    setMinimumHeight(220);
    setAccessibleName(tr("Error rate over sampling phase"));
}

void PhasePlot::show_phases(std::vector<LinePhase> measured, std::size_t total, const LineCheck* result) {
    measured_ = std::move(measured);
    total_ = total;
    have_result_ = result != nullptr;
    if (result != nullptr) result_ = *result;
    update();
}

void PhasePlot::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    const Theme& t = theme();
    p.fillRect(rect(), t.panel);
    const QRectF plot(kPlotLeft, kPlotTop, width() - kPlotLeft - 16, height() - kPlotTop - kPlotBottom);
    p.setFont(text_font(11));
    const auto y_of = [&](double error) {
        if (error <= 0) return plot.bottom();
        return plot.top() + std::clamp(-std::log10(error), 0.0, kDecades) / (kDecades + 1) * plot.height();
    };
    for (int d = 0; d <= static_cast<int>(kDecades); d += 2) {
        const double y = y_of(std::pow(10, -d));
        p.setPen(QPen(t.rule, 1, Qt::DotLine));
        p.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y));
        p.setPen(t.second);
        const QString label = d == 0 ? "100 %" : d == 2 ? "1 %" : d == 4 ? "0.01 %" : "1 ppm";
        p.drawText(QRectF(0, y - 8, kPlotLeft - 8, 16), Qt::AlignRight | Qt::AlignVCenter, label);
    }
    p.setPen(t.second);
    p.drawText(QRectF(0, plot.bottom() - 8, kPlotLeft - 8, 16), Qt::AlignRight | Qt::AlignVCenter, tr("clean"));
    p.setPen(t.rule);
    p.drawLine(plot.bottomLeft(), plot.bottomRight());
    if (total_ == 0) {
        p.setPen(t.second);
        p.drawText(plot, Qt::AlignCenter, tr("Bits read wrong at each sampling phase will stand here."));
        return;
    }
    const double step = plot.width() / static_cast<double>(total_);
    if (have_result_ && result_.window > 0) {
        QColor clean = t.land;
        clean.setAlpha(55);
        for (unsigned i = 0; i < result_.window; ++i) {
            const double x = plot.left() + step * static_cast<double>((result_.first + i) % total_);
            p.fillRect(QRectF(x, plot.top(), step, plot.height()), clean);
        }
        const double x = plot.left() + step * (result_.best + 0.5);
        p.setPen(QPen(t.measure, 2));
        p.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()));
        p.setFont(text_font(11, true));
        p.drawText(QRectF(x - 60, 0, 120, kPlotTop), Qt::AlignCenter, tr("phase %1").arg(result_.best));
        p.setFont(text_font(11));
    }
    for (const LinePhase& m : measured_) {
        const QPointF at(plot.left() + step * (m.phase + 0.5), y_of(m.error()));
        if (m.clean()) {
            p.setPen(QPen(t.land, 2));
            p.setBrush(t.panel);
            p.drawEllipse(at, 4.5, 4.5);
        } else {
            p.setPen(Qt::NoPen);
            p.setBrush(t.interrupt);
            p.drawRect(QRectF(at.x() - step * 0.28, at.y(), step * 0.56, plot.bottom() - at.y()));
        }
    }
    p.setPen(t.second);
    const std::size_t each = std::max<std::size_t>(1, static_cast<std::size_t>(std::ceil(26 / step)));
    for (std::size_t i = 0; i < total_; i += each)
        p.drawText(QRectF(plot.left() + step * (static_cast<double>(i) + 0.5) - 20, plot.bottom() + 4, 40, 14),
                   Qt::AlignCenter, QString::number(i));
    p.drawText(QRectF(plot.left(), plot.bottom() + 20, plot.width(), 16), Qt::AlignCenter, tr("sampling phase"));
}

LineCheckDialog::LineCheckDialog(const Recipe& recipe, QWidget* parent) : QDialog(parent), recipe_(recipe) {
    setWindowTitle(tr("Line check"));
    plot_ = new PhasePlot;
    text_ = new QLabel;
    text_->setObjectName("line_text");
    text_->setWordWrap(true);
    text_->setMinimumHeight(54);
    text_->setAlignment(Qt::AlignTop | Qt::AlignLeft);
    start_ = new QPushButton(tr("Measure"));
    start_->setObjectName("line_start");
    store_ = new QPushButton(tr("Store in the target file"));
    store_->setObjectName("line_store");
    store_->setEnabled(false);
    close_ = new QPushButton(tr("Close"));
    auto* buttons = new QHBoxLayout;
    buttons->addWidget(start_);
    buttons->addWidget(store_);
    buttons->addStretch();
    buttons->addWidget(close_);
    auto* column = new QVBoxLayout(this);
    column->addWidget(plot_, 1);
    column->addWidget(text_);
    column->addLayout(buttons);
    resize(700, 380);
    connect(start_, &QPushButton::clicked, this, &LineCheckDialog::start);
    connect(store_, &QPushButton::clicked, this, &LineCheckDialog::store_result);
    connect(close_, &QPushButton::clicked, this, &QDialog::reject);
    if (measurable(recipe_) == nullptr) {
        start_->setEnabled(false);
        text_->setText(
            tr("The line check needs a connection with a debug server that controls the trace line, and a TCP or "
               "serial trace source. This recipe has none."));
    } else {
        text_->setText(
            tr("The probe is asked for a known pattern at each sampling phase; the phase in the middle of the "
               "widest clean window is set. Trace is not recorded meanwhile."));
    }
}

LineCheckDialog::~LineCheckDialog() {
    if (progress_) progress_->cancel();
    if (worker_.joinable()) worker_.join();
}

void LineCheckDialog::start() {
    if (worker_.joinable()) worker_.join();
    start_->setEnabled(false);
    store_->setEnabled(false);
    measured_.clear();
    progress_ = std::make_shared<Progress>();
    text_->setText(tr("Measuring …"));
    const Recipe::Connect connect_to = *measurable(recipe_);
    worker_ = std::thread(
        [this, connect_to, patience = std::chrono::milliseconds(recipe_.patience_ms), progress = progress_] {
            const auto outcome = [&]() -> Result<LineCheck> {
                auto server = DebugServer::connect(connect_to.debug, patience, connect_to.thread);
                if (!server) return tl::make_unexpected(server.error());
                auto source = open_source(*connect_to.trace, patience);
                if (!source) return tl::make_unexpected(source.error());
                const auto count = (*server)->monitor("line phases");
                const std::size_t total = count ? std::strtoul(count->c_str(), nullptr, 10) : 0;
                return check_line(
                    **server, **source,
                    [this, total](const LinePhase& p) {
                        QMetaObject::invokeMethod(
                            this,
                            [this, p, total] {
                                measured_.push_back(p);
                                total_ = total;
                                plot_->show_phases(measured_, total_, nullptr);
                            },
                            Qt::QueuedConnection);
                    },
                    *progress);
            }();
            QMetaObject::invokeMethod(
                this, [this, outcome] { finish(outcome); }, Qt::QueuedConnection);
        });
}

void LineCheckDialog::finish(const Result<LineCheck>& outcome) {
    start_->setEnabled(true);
    start_->setText(tr("Measure again"));
    if (!outcome) {
        text_->setText(words(outcome.error().text()));
        return;
    }
    check_ = *outcome;
    plot_->show_phases(check_.phases, check_.phases.size(), &check_);
    if (check_.best < 0) {
        text_->setText(
            tr("No phase reads the line without errors. Is the line too fast, too long, or badly terminated?"));
        return;
    }
    QString text = tr("Phase %1 of %2 is the middle of a clean window %3 wide; it is set.")
                       .arg(check_.best)
                       .arg(check_.phases.size())
                       .arg(check_.window);
    if (check_.narrow())
        text +=
            " " +
            tr("The window is narrow: temperature or another cable may spoil it. Slow the line down, or shorten it.");
    text_->setText(text);
    store_->setEnabled(true);
}

void LineCheckDialog::store_result() {
    const auto target = read_target_file(recipe_.target);
    if (!target) {
        text_->setText(words(target.error().text()));
        return;
    }
    for (const auto& s : target->streams) {
        if (s.core != measurable(recipe_)->core) continue;
        const auto stored_now = store_phase(recipe_.target, s.line, check_);
        if (!stored_now) {
            text_->setText(words(stored_now.error().text()));
            return;
        }
        store_->setEnabled(false);
        text_->setText(
            tr("Stored in %1; recordings use phase %2 from now on.").arg(words(recipe_.target)).arg(check_.best));
        emit stored(text_->text());
        return;
    }
    text_->setText(tr("The target file has no stream for this core."));
}

}  // namespace mt::app
