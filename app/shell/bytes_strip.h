// Above the lanes of bytes that have no target file: how they are read, and what is not known, to be changed with the
// lanes as a preview.
#pragma once

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTemporaryDir>
#include <QToolButton>
#include <QWidget>

#include "document/job_queue.h"
#include "identify/identify.h"

namespace mt::app {

/// Identifies on a thread of its own. Each way of reading is a target file in a folder that vanishes with the strip,
/// until a person keeps it.
class BytesStrip : public QWidget {
    Q_OBJECT
  public:
    explicit BytesStrip(QWidget* parent = nullptr);
    ~BytesStrip() override;

    /// Whether a file is to be looked at so, not opened: a file that is no target file and no part of another format.
    static bool takes(const QString& path);
    /// Looks at a file; `reading_wanted` or `refused` follows. An image that lies beside it alone is taken.
    void look_at(const QString& path);
    /// Another recording was opened.
    void leave();
    /// The file that is looked at; empty if none.
    const QString& path() const { return path_; }
    bool busy() const { return busy_; }
    void set_image(const QString& path);
    /// Writes the target file; `kept` follows.
    void keep_as(const QString& path);
    const Identified& identified() const { return found_; }

  signals:
    /// A target file to be opened in the lanes.
    void reading_wanted(const QString& target);
    /// It is no trace that is known.
    void refused(const QString& why);
    /// A target file was kept: from now on the recording is that.
    void kept(const QString& target);
    void told(const QString& text, bool bad);

  private:
    void identify();
    void take(Identified found);
    void show_guess();
    /// The chosen guess with what a person set.
    std::optional<Guess> chosen() const;
    void read();
    void keep();

    QLabel *name_, *why_;
    QComboBox *guesses_, *clock_, *prescaler_;
    QLabel *clock_label_, *prescaler_label_;
    QToolButton* image_;
    QPushButton* keep_;
    QTemporaryDir folder_;
    QString path_, image_path_;
    std::vector<std::string> parts_;  ///< of which `path_` is one
    Identified found_;
    std::shared_ptr<Progress> progress_;
    bool busy_ = false;
    int written_ = 0;
    JobQueue jobs_;  ///< last: its end waits for what uses the rest
};

}  // namespace mt::app
