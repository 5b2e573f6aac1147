// The moment strip: what was going on at the cursor, in words.
#pragma once

#include <QLabel>
#include <QWidget>

#include "document/document.h"
#include "navigate/viewpoint.h"

namespace mt::app {

/// What is said of a moment, core by core: a core's name begins its part, a phrase follows another, more of it follows
/// without a break.
struct MomentPiece {
    enum Place { core, phrase, more };
    Said said;
    Place place = phrase;
};
std::vector<MomentPiece> moment_pieces(const Trail& trail, Time t);

class MomentStrip : public QWidget {
    Q_OBJECT
  public:
    MomentStrip(Document& document, Viewpoint& view, QWidget* parent = nullptr);
    /// All that is to be said of the moment, also what has no room.
    QString text() const;
    /// What of it is shown: whole phrases only, as a number that is cut off would be another number.
    QString shown_text() const;

  signals:
    void span_chosen(const mt::SpanRef& span);

  protected:
    void contextMenuEvent(QContextMenuEvent*) override;
    void resizeEvent(QResizeEvent* e) override;

  private:
    void renew();
    void fit();
    Document& document_;
    Viewpoint& view_;
    std::vector<MomentPiece> pieces_;
    std::vector<SpanRef> links_;
    QString whole_;
    QLabel *time_, *words_, *more_;  ///< more_: shown where not all has room
};

}  // namespace mt::app
