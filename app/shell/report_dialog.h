// A report of the recording: which parts, and where to.
#pragma once

#include <memory>
#include <vector>

#include <QCheckBox>
#include <QDialog>
#include <QLabel>
#include <QPushButton>

#include "document/document.h"
#include "evidence/compare_page.h"
#include "document/job_queue.h"

namespace mt::app {

/// Writes one self-contained HTML page on a worker. `rules`: a rules file to hold the
/// recording against; may be empty. `compared`: what changed since another; null: it was not compared.
class ReportDialog : public QDialog {
    Q_OBJECT
  public:
    ReportDialog(Document& document, const QString& rules, std::shared_ptr<const TwoCompared> compared,
                 QWidget* parent = nullptr);
    ~ReportDialog() override;
    /// Writes the chosen parts; `written` or a line in the dialog follows.
    void write_to(const QString& path);
    QString message() const { return message_->text(); }

  signals:
    void written(const QString& path);

  private:
    void renew();

    Document& document_;
    QString rules_;
    std::shared_ptr<const TwoCompared> compared_;
    std::vector<std::pair<std::string, QCheckBox*>> parts_;
    QLabel* message_;
    QPushButton* save_;
    std::shared_ptr<Progress> progress_;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
