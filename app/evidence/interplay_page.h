// Interplay: a picture of who acts on whom, and the list of what is behind each of its edges and nodes.
#pragma once

#include <memory>

#include <QAbstractTableModel>
#include <QElapsedTimer>
#include <QLabel>
#include <QLineEdit>
#include <QSortFilterProxyModel>
#include <QSplitter>
#include <QTableView>
#include <QTimer>
#include <QToolButton>

#include "document/document.h"
#include "document/job_queue.h"
#include "evidence/evidence_page.h"
#include "evidence/interplay_picture.h"
#include "navigate/navigator.h"

namespace mt::app {

/// Calls behind the edges of an interplay; each row's text is made when it is asked for.
class CallsModel : public QAbstractTableModel {
    Q_OBJECT
  public:
    static constexpr int kSortRole = Qt::UserRole;
    enum Column { kTime, kWho, kDoes, kObject, kWaited, kResult, kColumns };
    using QAbstractTableModel::QAbstractTableModel;
    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& = {}) const override { return kColumns; }
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    void set(std::shared_ptr<const Trail> trail, Interplay of, std::vector<InterplayCall> calls);
    const InterplayCall& call(int row) const { return calls_[static_cast<std::size_t>(row)]; }
    const InterplayNode& actor(int row) const { return of_.actor(of_.edges[call(row).edge]); }

  private:
    std::shared_ptr<const Trail> trail_;
    Interplay of_;
    std::vector<InterplayCall> calls_;
};

/// Works on a thread of its own, and only while it is seen.
class InterplayPage : public QWidget, public EvidencePage {
    Q_OBJECT
  public:
    static constexpr std::size_t kMostEdges = 150;      ///< in the picture, those with the most instances
    static constexpr std::size_t kMostCalls = 100'000;  ///< in the list, of each edge
    InterplayPage(Document& document, Viewpoint& view, Navigator& navigator, QWidget* parent = nullptr);
    ~InterplayPage() override;
    QWidget* widget() override { return this; }
    QString id() const override { return "interplay"; }
    QString title() const override { return tr("Interplay"); }
    bool has_something() const override;

    InterplayPicture* picture() const { return picture_; }
    QTableView* calls() const { return calls_; }
    QString heading() const { return heading_->text(); }
    /// Of the stretch that the lanes show in place of the whole recording.
    void set_in_view(bool on);
    /// Whether a picture is being made.
    bool busy() const { return busy_; }

  protected:
    void showEvent(QShowEvent*) override;

  private:
    void want();
    void make();
    void take(std::shared_ptr<const Trail> trail, Interplay all);
    void arranged(Interplay shown, InterplayPicture::Arrangements where);
    void list_selected();
    void follow_selection();
    void go_to_worst(std::size_t edge);
    void menu(const QPoint& at);
    template <class F>
    void post(std::shared_ptr<Progress> progress, F what);

    Document& document_;
    Viewpoint& view_;
    Navigator& navigator_;
    InterplayPicture* picture_;
    CallsModel* model_;
    QSortFilterProxyModel* sorted_;
    QTableView* calls_;
    QLineEdit* filter_;
    QLabel *hint_, *heading_;
    QToolButton* in_view_;
    QTimer later_;
    std::shared_ptr<const Trail> trail_;  ///< that the picture is of
    GraphSizes sizes_;                    ///< … and how it was arranged
    InterplayPicture::Arrangements where_;
    std::shared_ptr<Progress> making_, listing_;
    bool busy_ = false, stale_ = true, own_ = false;
    QElapsedTimer since_;  ///< the picture is being made
    int took_ms_ = 0;      ///< the last one: the longer, the seldomer
    JobQueue jobs_;        ///< last: its end waits for what uses the rest
};

}  // namespace mt::app
