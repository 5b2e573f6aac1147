#include "shell/signals_import.h"

#include <QDialogButtonBox>
#include <QFile>
#include <QFileInfo>
#include <QHeaderView>
#include <QVBoxLayout>

#include <algorithm>

#include "base/text.h"
#include "look/theme.h"
#include "look/words.h"
#include "signals/signal_file.h"

namespace mt::app {
namespace {

enum Column { kName, kScope, kUnit, kSamples, kLeast, kGreatest, kFirst, kColumns };
constexpr int kMostRows = 2000, kLines = 6;

QString first_values(const ValueLane& lane) {
    QStringList all;
    for (std::size_t i = 0; i < std::min<std::size_t>(lane.samples.size(), 4); ++i) all << words(lane.text(i));
    return all.join(", ") + (lane.samples.size() > 4 ? ", …" : "");
}

// How the file begins, if it is text that is not packed.
QString beginning(const QString& path) {
    QFile file(path);
    if (!file.open(QIODevice::ReadOnly)) return {};
    QStringList lines;
    for (int i = 0; i < kLines && !file.atEnd(); ++i) {
        const QByteArray line = file.readLine(400);
        if (line.contains('\0')) return {};
        lines << QString::fromUtf8(line).trimmed();
    }
    return lines.join('\n');
}

}  // namespace

bool SignalsImport::is_signal_file(const QString& path) {
    QString name = QFileInfo(path).fileName().toLower();
    for (const char* packed : {".gz", ".xz", ".zst"})
        if (name.endsWith(packed)) name.chop(static_cast<int>(qstrlen(packed)));
    for (const char* end : {".vcd", ".csv", ".tsv", ".mf4", ".mdf"})
        if (name.endsWith(end)) return true;
    return false;
}

SignalsImport::SignalsImport(const QString& path, QWidget* parent) : QDialog(parent), progress_(std::make_shared<Progress>()) {
    setWindowTitle(tr("Signals in %1").arg(QFileInfo(path).fileName()));
    resize(760, 480);
    said_ = new QLabel(tr("Reading …"));
    said_->setObjectName("import_said");
    said_->setWordWrap(true);
    lines_ = new QPlainTextEdit(beginning(path));
    lines_->setReadOnly(true);
    lines_->setFont(fixed_font(11));
    lines_->setLineWrapMode(QPlainTextEdit::NoWrap);
    lines_->setAccessibleName(tr("How the file begins"));
    lines_->setMaximumHeight(kLines * 18 + 20);
    lines_->setVisible(!lines_->toPlainText().isEmpty());
    table_ = new QTableWidget(0, kColumns);
    table_->setObjectName("import_signals");
    table_->setAccessibleName(tr("Signals of the file"));
    table_->setHorizontalHeaderLabels(
        {tr("signal"), tr("in"), tr("unit"), tr("samples"), tr("least"), tr("greatest"), tr("first values")});
    table_->verticalHeader()->hide();
    table_->horizontalHeader()->setStretchLastSection(true);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel);
    take_ = buttons->addButton(tr("Lay beside the recording"), QDialogButtonBox::AcceptRole);
    take_->setObjectName("import_take");
    take_->setEnabled(false);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(table_, &QTableWidget::itemChanged, this, [this] { renew(); });
    auto* column = new QVBoxLayout(this);
    column->addWidget(said_);
    column->addWidget(lines_);
    column->addWidget(table_, 1);
    column->addWidget(buttons);
    reader_ = std::thread([this, path = path.toStdString(), progress = progress_] {
        auto file = read_signal_file(path, {}, progress.get());
        if (progress->cancelled()) return;
        auto shared = std::make_shared<Result<SignalFile>>(std::move(file));
        QMetaObject::invokeMethod(this, [this, shared] { show_file(*shared); }, Qt::QueuedConnection);
    });
}

SignalsImport::~SignalsImport() {
    progress_->cancel();
    reader_.join();
}

void SignalsImport::show_file(const Result<SignalFile>& file) {
    if (!file) {
        said_->setText(words(file.error().text()));
        emit looked();
        return;
    }
    QString text = tr("%1, %2").arg(words(file->format), words(plural(file->lanes.size(), "signal", "signals")));
    for (const std::string& warning : file->warnings) text += "\n" + words(warning);
    if (file->lanes.size() > kMostRows) text += tr("\nThe first %1 are listed; all are taken.").arg(kMostRows);
    said_->setText(text);
    const QSignalBlocker quiet(table_);
    table_->setRowCount(static_cast<int>(std::min<std::size_t>(file->lanes.size(), kMostRows)));
    for (int r = 0; r < table_->rowCount(); ++r) {
        const ValueLane& lane = file->lanes[static_cast<std::size_t>(r)];
        const auto number = [&](std::uint64_t bits) {
            return lane.value_names.empty() ? words(lane.value_of(bits).text()) : QString();
        };
        const QString cells[kColumns] = {words(lane.name),
                                         words(lane.source),
                                         words(lane.unit),
                                         words(count_text(lane.samples.size())),
                                         number(lane.least),
                                         number(lane.greatest),
                                         first_values(lane)};
        for (int c = 0; c < kColumns; ++c) {
            auto* item = new QTableWidgetItem(cells[c]);
            if (c == kSamples || c == kLeast || c == kGreatest) item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
            table_->setItem(r, c, item);
        }
        table_->item(r, kName)->setCheckState(Qt::Checked);
    }
    table_->resizeColumnsToContents();
    renew();
    emit looked();
}

bool SignalsImport::all_chosen() const {
    for (int r = 0; r < table_->rowCount(); ++r)
        if (table_->item(r, kName)->checkState() != Qt::Checked) return false;
    return true;
}

QStringList SignalsImport::chosen() const {
    QStringList names;
    for (int r = 0; r < table_->rowCount(); ++r)
        if (table_->item(r, kName)->checkState() == Qt::Checked) {
            const QString scope = table_->item(r, kScope)->text(), name = table_->item(r, kName)->text();
            names << (scope.isEmpty() ? name : scope + "." + name);
        }
    return names;
}

void SignalsImport::renew() { take_->setEnabled(!chosen().isEmpty()); }

}  // namespace mt::app
