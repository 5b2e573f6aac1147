// The lanes of another recording below those of the one that is open: moved together, aligned at a moment of each.
#pragma once

#include <QLabel>
#include <QToolButton>
#include <QWidget>

#include "document/block_store.h"
#include "document/document.h"
#include "document/judgement.h"
#include "lanes/lanes.h"
#include "navigate/navigator.h"
#include "navigate/viewpoint.h"

namespace mt::app {

/// A document of its own. Whoever moves or zooms in one of both moves the other as far; cursors and selections are each
/// its own.
class Beside : public QWidget {
    Q_OBJECT
  public:
    Beside(Document& first, Viewpoint& first_view, QWidget* parent = nullptr);

    /// Opens it below, or leaves it if it is open already.
    void open(const QString& path);
    void close_it();
    /// Path of what is shown; empty: nothing.
    const QString& path() const { return path_; }
    Document& document() { return document_; }
    Viewpoint& viewpoint() { return view_; }
    Lanes* lanes() const { return lanes_; }
    QString told() const { return said_->text(); }
    /// What is selected in each (or else both cursors) comes to stand at one place.
    void align();
    /// So much later a moment of the upper recording is in the lower.
    Time offset() const { return offset_; }

  signals:
    void changed();  ///< opened, closed, aligned anew

  private:
    void follow();
    void lead();
    void renew();

    Document& first_;
    Viewpoint& first_view_;
    Document document_;
    Viewpoint view_;
    Navigator navigator_{document_, view_};
    Judgement judgement_{document_};
    BlockStore store_;
    Lanes* lanes_;
    QLabel* said_;
    QToolButton *align_, *close_;
    QString path_, trouble_;
    Time offset_;
    bool moving_ = false;
};

}  // namespace mt::app
