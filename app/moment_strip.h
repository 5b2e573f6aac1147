// The moment strip: what was going on at the cursor, in words.
#pragma once

#include <QLabel>
#include <QWidget>

#include "session.h"
#include "viewpoint.h"

namespace mt::app {

/// The sentence for one moment, with links "lane:CORE:INDEX" on the names of handlers.
QString moment_sentence(const Recording& recording, const Trail& trail, Time t);

class MomentStrip : public QWidget {
    Q_OBJECT
  public:
    MomentStrip(Session& session, Viewpoint& view, QWidget* parent = nullptr);
    QString text() const;

  signals:
    void job_chosen(std::size_t task, std::size_t job);
    void instance_chosen(std::size_t core, std::size_t lane, std::size_t instance);

  protected:
    void resizeEvent(QResizeEvent* e) override;

  private:
    void renew();
    void tell_of_more();
    Session& session_;
    Viewpoint& view_;
    QLabel *time_, *words_, *more_;  ///< more_: shown where words_ are longer than there is room
};

}  // namespace mt::app
