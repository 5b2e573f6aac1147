#include "document/target_draft.h"

#include <QFileInfo>
#include <QSaveFile>
#include <QUndoCommand>

#include "look/words.h"
#include "target/target_file.h"

namespace mt::app {

class TargetDraft::Step : public QUndoCommand {
  public:
    Step(TargetDraft& draft, std::string to, const QString& what)
        : QUndoCommand(what), draft_(draft), from_(draft.text_), to_(std::move(to)) {}
    void undo() override { draft_.take(from_, QObject::tr("Undone: %1").arg(text())); }
    void redo() override { draft_.take(to_, text()); }

  private:
    TargetDraft& draft_;
    std::string from_, to_;
};

TargetDraft::TargetDraft(QObject* parent) : QObject(parent) {
    stack_.setUndoLimit(200);
    connect(&stack_, &QUndoStack::indexChanged, this, &TargetDraft::renewed);
}

// Its end is no change that anybody should hear of.
TargetDraft::~TargetDraft() { stack_.disconnect(this); }

void TargetDraft::begin(const QString& path, const std::string& text) {
    path_ = path;
    text_ = text;
    saved_ = QFileInfo::exists(path) ? text : std::string();
    stack_.clear();
    emit renewed();
}

void TargetDraft::end() { begin({}, {}); }

Result<void> TargetDraft::change(const QString& what, const std::vector<KeyChange>& changes) {
    auto text = changed_target(text_, changes);
    if (!text) return tl::make_unexpected(text.error());
    if (const auto read = parse_target_file(*text, path_.toStdString()); !read)
        return tl::make_unexpected(read.error());
    if (*text != text_) stack_.push(new Step(*this, std::move(*text), what));
    return {};
}

Result<void> TargetDraft::save() {
    QSaveFile out(path_);
    if (!out.open(QIODevice::WriteOnly) || out.write(text_.data(), static_cast<qint64>(text_.size())) < 0 ||
        !out.commit())
        return failure("cannot write", path_.toStdString(), "check the folder, the permissions and free space");
    saved_ = text_;
    emit renewed();
    return {};
}

void TargetDraft::take(const std::string& text, const QString& what) {
    text_ = text;
    emit turned(what);
}

}  // namespace mt::app
