// The recipe as a path of stations that fills as it is walked.
#pragma once

#include <QElapsedTimer>
#include <QWidget>

#include "document/live_session.h"

namespace mt::app {

class Stations : public QWidget {
    Q_OBJECT
  public:
    explicit Stations(LiveSession& live, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {800, 92}; }
    QSize minimumSizeHint() const override { return {400, 92}; }
    /// What a station says, for tests and for the tooltip: "record: 20 s, keep the oldest".
    QString station_text(int index) const;
    QRectF station_rect(int index) const;
    /// How many findings the judging made; shown at the last station.
    void set_findings(int count);

  signals:
    void change_wanted();
    void station_clicked(int index);

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    bool event(QEvent*) override;

  private:
    std::vector<int> shown() const;
    QRectF change_rect() const;
    LiveSession& live_;
    int findings_ = -1;
    QElapsedTimer shown_;  ///< since what is shown was last renewed
};

}  // namespace mt::app
