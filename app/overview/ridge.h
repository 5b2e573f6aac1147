// The ridge: the whole recording as an elevation profile, with findings, gaps and the visible window.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include <QImage>
#include <QWidget>

#include "document/finding_list.h"
#include "look/paced_update.h"
#include "navigate/viewpoint.h"

namespace mt::app {

class Ridge : public QWidget {
    Q_OBJECT
  public:
    Ridge(Document& document, FindingList& findings, Viewpoint& view, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {800, 92}; }
    QSize minimumSizeHint() const override { return {200, 92}; }
    /// What the height stands for, in words.
    QString height_text() const;
    /// A live recording is planned to reach so far; nothing: it is not live. `words` stand in what is to come.
    void set_horizon(std::optional<Time> planned, const QString& words);

    /// Findings that lie so close that their cairns would hide each other stand together, the worst first.
    struct Cairn {
        double x;
        std::vector<std::size_t> findings;
    };
    std::vector<Cairn> cairns() const;
    /// Where a cairn is drawn, for tests.
    QPointF position_of(const Cairn& cairn) const;
    /// What stands over it, the numbers of the list: "3", "3 7", "3 +4".
    QString label_of(const Cairn& cairn) const;

  signals:
    /// Of several at one place the next at each click.
    void finding_clicked(std::size_t finding);

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void contextMenuEvent(QContextMenuEvent*) override;
    bool event(QEvent*) override;

  private:
    enum class Grip { none, inside, left, right };
    void measure_land();
    /// Draws land and gaps, which change only with the snapshot, into an image at the screen's resolution.
    void draw_land();
    double x_of(Time t) const;
    Time time_at(double x) const;
    QRectF frame() const;
    Grip grip_at(double x) const;
    std::vector<std::size_t> findings_at(const QPointF& p) const;

    Document& document_;
    FindingList& findings_;
    Viewpoint& view_;
    PacedUpdate growth_{[this] { update(); }};
    bool fresh_ = false;                    ///< the trail has grown since land_ was measured
    std::vector<std::vector<float>> land_;  ///< per core, per pixel: 0 to 1
    float top_ = 1;                         ///< the load that fills the height
    bool awake_known_ = false;
    Time span() const { return horizon_ ? std::max(*horizon_, view_.end()) : view_.end(); }
    std::optional<Time> horizon_;
    QString to_come_;
    struct Profile {  ///< of one core, as far as measured
        std::vector<float> loads;
        bool awake_known = false, has_tasks = false;
        Time to, bucket;  ///< `bucket`: the width of the buckets it was measured with
    };
    struct Measured {
        Time span, to;
        std::vector<Profile> cores;
    } measured_;
    Time measured_end_{};  ///< the end that land_ was measured for
    QImage picture_;       ///< what draw_land made; null: to be drawn anew
    bool drawn_at_night_ = false;
    std::optional<std::size_t> clicked_;  ///< the finding of the last click
    Grip grip_ = Grip::none;
    double grabbed_ = 0;
    Time grabbed_from_{}, grabbed_to_{};
};

}  // namespace mt::app
