// A limit for what was pointed at: which quantity, what this recording does, and what shall be allowed.
#pragma once

#include <memory>

#include <QComboBox>
#include <QDialog>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>

#include "document/document.h"
#include "document/job_queue.h"
#include "document/judgement.h"

namespace mt::app {

/// Proposes what the recording does, a fifth looser; adds a rule to the rules file.
class LimitDialog : public QDialog {
    Q_OBJECT
  public:
    LimitDialog(Document& document, Judgement& judgement, const LaneId& lane, std::uint64_t activity,
                const QString& name, QWidget* parent = nullptr);
    ~LimitDialog() override;

  signals:
    void proposed();  ///< what the recording does stands in the fields
    void added(const QString& rule);

  private:
    void propose();
    void renew();
    void add();
    RuleWhat what() const;
    std::optional<RuleLimit> limit_of(const QLineEdit& field) const;

    Document& document_;
    Judgement& judgement_;
    std::string of_, core_;
    QComboBox* what_;
    QLabel *seen_, *message_, *file_;
    QLineEdit *name_, *most_, *least_, *note_;
    QPushButton* add_;
    QString path_;
    std::shared_ptr<Progress> progress_;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
