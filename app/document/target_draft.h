// The text of a target file as a person changes it in the window.
#pragma once

#include <string>
#include <vector>

#include <QObject>
#include <QString>
#include <QUndoStack>

#include "base/problem.h"
#include "target/target_edit.h"

namespace mt::app {

/// Each change can be taken back; nothing is written before it is saved. Only the window's thread may call its members.
class TargetDraft : public QObject {
    Q_OBJECT
  public:
    explicit TargetDraft(QObject* parent = nullptr);
    ~TargetDraft() override;

    /// From now on of this file, with this text in it; changes to another are forgotten. A file that is not there yet is
    /// made when it is saved.
    void begin(const QString& path, const std::string& text);
    void end();
    /// Empty: there is none.
    const QString& path() const { return path_; }
    const std::string& text() const { return text_; }
    /// Whether it says something else than the file.
    bool changed() const { return text_ != saved_; }

    /// A Problem, and no change, if what comes out is no target file. `what`: "Set clock_hz to 72000000".
    Result<void> change(const QString& what, const std::vector<KeyChange>& changes);
    bool can_undo() const { return stack_.canUndo(); }
    bool can_redo() const { return stack_.canRedo(); }
    void undo() { stack_.undo(); }
    void redo() { stack_.redo(); }
    Result<void> save();

  signals:
    /// Its text is another: what did it.
    void turned(const QString& what);
    /// What can be undone, or whether it differs from its file.
    void renewed();

  private:
    class Step;
    void take(const std::string& text, const QString& what);
    QString path_;
    std::string text_, saved_;
    QUndoStack stack_;
};

}  // namespace mt::app
