// What is done on a desk about how its recording is read: the target file as a form beside the lanes, mends of
// settings, and what else describes the recording.
#pragma once

#include <vector>

#include <QObject>
#include <QStringList>

#include "document/document.h"
#include "document/target_draft.h"
#include "shell/notice.h"
#include "target/target_form.h"

namespace mt::app {

class Desk;

class TargetSide : public QObject {
    Q_OBJECT
  public:
    explicit TargetSide(Desk& desk);

    TargetForm* form() const { return form_; }
    TargetDraft& draft() { return draft_; }
    void show(bool on);
    bool shown() const { return !form_->isHidden(); }
    /// Does what sets a setting right; asks a person first where it needs an answer.
    void mend(const Mend& mend);
    /// The same with the answer: a path, a number.
    void mend_with(const Mend& mend, const QString& answer);
    /// A file of signals is looked at, and laid beside the recording.
    void ask_signals(const QString& path);
    /// Lays it; `select`: which signals, empty: all.
    void lay_signals(const QString& path, const QStringList& select);
    /// The clock of a measuring device is set by hand, so that what it measured lies so much later.
    void move_clock(const QString& device, Time by);
    /// The first few of them, as buttons.
    std::vector<Offer> offers_of(const std::vector<Mend>& mends);

    /// Another recording is opened.
    void forget();
    /// The target file that names a capture, to be opened in its place; empty if none does.
    QString description_of(const QString& bytes);
    /// The document could not be read: what can be done about it.
    void failed(const Problem& problem);
    /// It was read: what a change came to, or what there is to be set right.
    void finished();
    /// Whether a change of the draft is being decoded.
    bool turning() const { return !turned_by_.isEmpty(); }
    /// A person was led to a finding: it may be about a setting.
    void led_to(const Finding& finding);

  private:
    /// The draft is of what is open. False if that has no target file.
    bool begin_draft();
    void turned(const QString& what);
    void tell_what_changed();
    void tell_description();
    void offer_mends();
    /// Raw bytes that lie in a project: its target file may tell how to read them.
    void offer_project();
    void read_as_project(const QString& bytes, const QString& target);
    /// What a reading of the recording came to, in a line.
    QString outcome() const;

    Desk& desk_;
    Document& document_;
    TargetDraft draft_;
    TargetForm* form_;
    QString described_;  ///< a capture that a target file was found for
    QStringList described_by_;
    QString turned_by_, outcome_before_;  ///< of a change of the draft that is being decoded
};

}  // namespace mt::app
