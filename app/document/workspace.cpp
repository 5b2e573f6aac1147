#include "document/workspace.h"

#include <QFileInfo>

#include <algorithm>

namespace mt::app {

Document& Workspace::add() {
    documents_.push_back(std::make_unique<Document>());
    return *documents_.back();
}

Document* Workspace::of_path(const QString& path) const {
    const QString full = QFileInfo(path).absoluteFilePath();
    for (const auto& d : documents_)
        if (!d->path().isEmpty() && QFileInfo(d->path()).absoluteFilePath() == full) return d.get();
    return nullptr;
}

void Workspace::close(const Document& document) {
    std::erase_if(documents_, [&document](const auto& d) { return d.get() == &document; });
}

}  // namespace mt::app
