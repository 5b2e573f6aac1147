// The documents that are open.
#pragma once

#include <memory>
#include <vector>

#include <QObject>

#include "document/document.h"

namespace mt::app {

/// Owns them, in the order in which they were opened. Only the window's thread may call its members.
class Workspace : public QObject {
    Q_OBJECT
  public:
    using QObject::QObject;

    /// One that holds nothing yet.
    Document& add();
    /// The one that this file or folder is, or is being, read into; null if there is none.
    Document* of_path(const QString& path) const;
    /// Gives up what it works on and forgets it. REQUIRES: no view uses it any more.
    void close(const Document& document);
    std::size_t size() const { return documents_.size(); }

  private:
    std::vector<std::unique_ptr<Document>> documents_;
};

}  // namespace mt::app
