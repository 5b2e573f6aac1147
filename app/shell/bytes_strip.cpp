#include "shell/bytes_strip.h"

#include <QDir>
#include <QFile>
#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QMetaObject>
#include <QSaveFile>
#include <QSignalBlocker>
#include <QVBoxLayout>

#include "base/mapped_file.h"
#include "base/packed.h"
#include "base/text.h"
#include "identify/parts.h"
#include "look/html.h"
#include "look/layout.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {

bool is_elf(const QString& path) {
    QFile file(path);
    return file.open(QIODevice::ReadOnly) && file.read(4) == QByteArray(
                                                                 "\x7F"
                                                                 "ELF",
                                                                 4);
}

// The one image in the file's folder, if there is just one.
QString image_beside(const QString& path) {
    QString found;
    for (const QFileInfo& f : QFileInfo(path).dir().entryInfoList(QDir::Files)) {
        if (f.absoluteFilePath() == QFileInfo(path).absoluteFilePath() || !is_elf(f.absoluteFilePath())) continue;
        if (!found.isEmpty()) return {};
        found = f.absoluteFilePath();
    }
    return found;
}

}  // namespace

BytesStrip::BytesStrip(QWidget* parent) : QWidget(parent) {
    setAccessibleName(tr("How the bytes are read"));
    setAttribute(Qt::WA_StyledBackground);
    name_ = new QLabel;
    name_->setObjectName("bytes_name");
    guesses_ = new QComboBox;
    guesses_->setObjectName("bytes_guesses");
    guesses_->setAccessibleName(tr("Read as"));
    guesses_->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    image_ = new QToolButton;
    image_->setObjectName("bytes_image");
    image_->setAccessibleName(tr("The image that ran"));
    image_->setToolTip(tr("The ELF file that ran: names, and the way of the instructions through the program"));
    clock_label_ = new QLabel(tr("core clock"));
    clock_ = new QComboBox;
    clock_->setObjectName("bytes_clock");
    clock_->setAccessibleName(tr("Core clock in Hz"));
    clock_->setEditable(true);
    clock_->setInsertPolicy(QComboBox::NoInsert);
    clock_->setMinimumWidth(130);
    prescaler_label_ = new QLabel(tr("Hz   prescaler"));
    prescaler_ = new QComboBox;
    prescaler_->setObjectName("bytes_prescaler");
    prescaler_->setAccessibleName(tr("Timestamp prescaler"));
    for (const int p : {1, 4, 16, 64}) prescaler_->addItem(QString::number(p), p);
    keep_ = new QPushButton(tr("Save target file…"));
    keep_->setObjectName("bytes_keep");
    keep_->setToolTip(tr("Writes down how the bytes are read; from then on that file opens the recording"));
    why_ = new QLabel;
    why_->setObjectName("bytes_why");
    why_->setWordWrap(true);
    why_->setFont(text_font(11));
    auto* row = new QHBoxLayout;
    row->setSpacing(8);
    row->addWidget(name_);
    row->addWidget(guesses_);
    row->addWidget(image_);
    row->addWidget(clock_label_);
    row->addWidget(clock_);
    row->addWidget(prescaler_label_);
    row->addWidget(prescaler_);
    row->addStretch(1);
    row->addWidget(keep_);
    auto* column = column_in(this, {12, 6, 12, 6}, 3);
    column->addLayout(row);
    column->addWidget(why_);
    connect(guesses_, &QComboBox::activated, this, [this] {
        show_guess();
        read();
    });
    connect(image_, &QToolButton::clicked, this, [this] {
        const QString path = QFileDialog::getOpenFileName(this, tr("The image that ran"), QFileInfo(path_).path());
        if (!path.isEmpty()) set_image(path);
    });
    connect(clock_->lineEdit(), &QLineEdit::editingFinished, this, &BytesStrip::read);
    connect(clock_, &QComboBox::activated, this, &BytesStrip::read);
    connect(prescaler_, &QComboBox::activated, this, &BytesStrip::read);
    connect(keep_, &QPushButton::clicked, this, &BytesStrip::keep);
    hide();
}

BytesStrip::~BytesStrip() {
    if (progress_) progress_->cancel();
    jobs_.clear();
}

bool BytesStrip::takes(const QString& path) {
    const QFileInfo file(path);
    return file.isFile() && file.suffix() != "toml" && file.fileName() != "metadata" && !is_tar(path.toStdString());
}

void BytesStrip::look_at(const QString& path) {
    path_ = QFileInfo(path).absoluteFilePath();
    parts_ = parts_of_capture(path_.toStdString());
    image_path_ = image_beside(path_);
    found_ = {};
    identify();
}

void BytesStrip::leave() {
    if (progress_) progress_->cancel();
    path_.clear();
    busy_ = false;
    hide();
}

void BytesStrip::set_image(const QString& path) {
    image_path_ = path;
    identify();
}

void BytesStrip::identify() {
    if (progress_) progress_->cancel();
    progress_ = std::make_shared<Progress>();
    busy_ = true;
    name_->setText(
        tr("<b>%1</b> has no target file: looking at its bytes…").arg(escaped(QFileInfo(path_).fileName())));
    for (QWidget* w :
         {static_cast<QWidget*>(guesses_), static_cast<QWidget*>(clock_), static_cast<QWidget*>(clock_label_),
          static_cast<QWidget*>(prescaler_), static_cast<QWidget*>(prescaler_label_), static_cast<QWidget*>(keep_)})
        w->hide();
    image_->setText(image_path_.isEmpty() ? tr("Image…") : tr("Image: %1").arg(QFileInfo(image_path_).fileName()));
    why_->clear();
    show();
    jobs_.add([this, path = path_.toStdString(), parts = parts_, image = image_path_.toStdString(),
               progress = progress_] {
        Identified found;
        QString trouble, bad_image;
        try {
            std::shared_ptr<const Image> opened;
            if (!image.empty()) {
                if (auto read = Image::open(image); read)
                    opened = *read;
                else
                    bad_image = words(read.error().text());
            }
            if (auto file = MappedFile::open(parts); file) {
                found = mt::identify((*file)->bytes(), opened, "", *progress);
                heed_name(found, path);
                if (const std::string missing = (*file)->what_is_missing(); !missing.empty())
                    trouble = words(path + " " + missing + ".");
            } else {
                found.sort = file.error().text();
            }
        } catch (const std::exception& e) {
            found.sort = std::string("something went wrong inside: ") + e.what();
        }
        QMetaObject::invokeMethod(
            this,
            [this, progress, trouble, bad_image, found = std::move(found)]() mutable {
                if (progress->cancelled()) return;
                if (!bad_image.isEmpty()) image_path_.clear();
                for (const QString& text : {bad_image, trouble})
                    if (!text.isEmpty()) emit told(text, true);
                take(std::move(found));
            },
            Qt::QueuedConnection);
    });
}

void BytesStrip::take(Identified found) {
    busy_ = false;
    found_ = std::move(found);
    const QSignalBlocker quiet(guesses_);
    guesses_->clear();
    int first = -1;
    for (std::size_t i = 0; i < found_.guesses.size(); ++i) {
        const Guess& g = found_.guesses[i];
        guesses_->addItem(tr("%1 (fits to %2 %)").arg(words(g.name())).arg(g.fit * 100, 0, 'f', 0),
                          static_cast<int>(i));
        if (g.readable() && first < 0) first = static_cast<int>(i);
    }
    if (found_.guesses.empty()) {
        const QString why = tr("%1: %2").arg(QFileInfo(path_).fileName(), words(found_.verdict()));
        leave();
        emit refused(why);
        return;
    }
    guesses_->setCurrentIndex(found_.sure() ? 0 : std::max(0, first));
    for (QWidget* w : {static_cast<QWidget*>(guesses_), static_cast<QWidget*>(keep_)}) w->show();
    show_guess();
    read();
}

void BytesStrip::show_guess() {
    const Guess& g = found_.guesses[static_cast<std::size_t>(std::max(0, guesses_->currentData().toInt()))];
    const QString file = escaped(QFileInfo(path_).fileName());
    name_->setText(found_.sure() ? tr("<b>%1</b> is read as").arg(file) : tr("<b>%1</b> may be").arg(file));
    image_->setText(image_path_.isEmpty() ? tr("Image…") : tr("Image: %1").arg(QFileInfo(image_path_).fileName()));
    const bool itm = g.readable() && g.stream.protocol == Protocol::itm;
    for (QWidget* w : {static_cast<QWidget*>(clock_), static_cast<QWidget*>(clock_label_),
                       static_cast<QWidget*>(prescaler_), static_cast<QWidget*>(prescaler_label_)})
        w->setVisible(itm);
    const QSignalBlocker quiet(clock_), quiet_line(clock_->lineEdit());
    clock_->clear();
    for (const ClockGuess& c : g.clocks) clock_->addItem(QString::number(c.hz));
    if (g.clocks.empty()) clock_->setEditText("100000000");
    prescaler_->setCurrentIndex(prescaler_->findData(g.stream.timestamp_prescaler));
    keep_->setEnabled(g.readable());
    QStringList lines;
    if (parts_.size() > 1)
        lines << tr("%1 parts are read as one: %2 to %3.")
                     .arg(parts_.size())
                     .arg(QFileInfo(words(parts_.front())).fileName(), QFileInfo(words(parts_.back())).fileName());
    lines << (found_.sure() ? words(g.why) : words(found_.verdict()));
    for (const std::string& q : g.questions) lines << "? " + words(q);
    why_->setText(lines.join("\n"));
}

std::optional<Guess> BytesStrip::chosen() const {
    const int i = guesses_->currentData().toInt();
    if (i < 0 || static_cast<std::size_t>(i) >= found_.guesses.size()) return std::nullopt;
    Guess g = found_.guesses[static_cast<std::size_t>(i)];
    if (!g.readable()) return std::nullopt;
    if (g.stream.protocol == Protocol::itm) {
        g.stream.timestamp_prescaler = prescaler_->currentData().toUInt();
        const QString typed = clock_->currentText().remove(' ').remove('_').remove(QChar(0x202F));
        bool number = false;
        const double hz = typed.toDouble(&number);
        if (number && hz >= 1000 && hz <= 1e11) {
            const auto whole = static_cast<std::uint64_t>(hz);
            const bool guessed = !g.clocks.empty() && g.clocks[0].hz == whole;
            if (!guessed) g.clocks.insert(g.clocks.begin(), {whole, "as it was set by hand"});
        }
    }
    return g;
}

void BytesStrip::read() {
    const auto g = chosen();
    if (!g || path_.isEmpty()) return;
    // A name of its own each time: what is open keeps its file.
    const QString target =
        folder_.filePath(QString("%1-%2.target.toml").arg(QFileInfo(path_).completeBaseName()).arg(++written_));
    QSaveFile out(target);
    const std::string text =
        target_text(*g, parts_, image_path_.toStdString(), QFileInfo(path_).completeBaseName().toStdString());
    if (!out.open(QIODevice::WriteOnly) || out.write(text.data(), static_cast<qint64>(text.size())) < 0 ||
        !out.commit())
        return emit told(tr("cannot write: %1: check free space").arg(target), true);
    emit reading_wanted(target);
}

void BytesStrip::keep() {
    const QFileInfo file(path_);
    const QString path = QFileDialog::getSaveFileName(this, tr("Save target file"),
                                                      file.dir().filePath(file.completeBaseName() + ".target.toml"),
                                                      tr("Target files (*.target.toml)"));
    if (!path.isEmpty()) keep_as(path);
}

void BytesStrip::keep_as(const QString& wanted) {
    const auto g = chosen();
    if (!g) return;
    const QString path = wanted.endsWith(".target.toml") ? wanted : wanted + ".target.toml";
    const QDir folder = QFileInfo(path).absoluteDir();
    const auto seen = [&](const QString& file) {
        return file.isEmpty() ? std::string() : folder.relativeFilePath(file).toStdString();
    };
    std::vector<std::string> files;
    for (const std::string& part : parts_) files.push_back(seen(QString::fromStdString(part)));
    const std::string text =
        target_text(*g, files, seen(image_path_), QFileInfo(path_).completeBaseName().toStdString());
    QSaveFile out(path);
    if (!out.open(QIODevice::WriteOnly) || out.write(text.data(), static_cast<qint64>(text.size())) < 0 ||
        !out.commit())
        return emit told(tr("cannot write: %1: check the folder, the permissions and free space").arg(path), true);
    leave();
    emit kept(path);
}

}  // namespace mt::app
