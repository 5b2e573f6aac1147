// The lower area: pages of evidence in up to three panes beside each other.
#pragma once

#include <vector>

#include <QComboBox>
#include <QSplitter>
#include <QTabWidget>
#include <QToolButton>
#include <QWidget>

#include "document/document.h"
#include "evidence/evidence_page.h"
#include "navigate/viewpoint.h"

namespace mt::app {

/// Shows the pages that the recording has something for. Pages can be moved from pane to pane, a pane can be drawn
/// larger; which page stands where is told and taken back as text, for remembering.
class EvidenceArea : public QWidget {
    Q_OBJECT
  public:
    static constexpr int kMostPanes = 3;
    EvidenceArea(Document& document, Viewpoint& view, QWidget* parent = nullptr);

    /// REQUIRES: the page outlives the area or is its child.
    void add(EvidencePage* page);
    /// Ids of the pages in each pane, the one in front first. Pages that are not named stand in the last pane.
    void arrange(const std::vector<QStringList>& panes);
    std::vector<QStringList> arranged() const;

    /// Brings a page to the front of its pane.
    void show_page(const QWidget* page);
    void show_page(const QString& id);
    /// Whether the page is in the front of its pane.
    bool in_front(const QWidget* page) const;
    /// Whether the recording has something for the page, so that it can be chosen.
    bool offers(const QWidget* page) const;
    /// The page that was used last, and in front.
    EvidencePage* current() const;
    const std::vector<EvidencePage*>& pages() const { return pages_; }
    /// To the next (1) or previous (-1) page that can be chosen, over all panes.
    void step_page(int direction);
    /// Puts the page into the next pane (1) or the one before (-1); a new one at the end if there is room.
    void move_page(QWidget* page, int direction);
    /// This page's pane fills the area, and the area asks for the window; or everything as before.
    void set_larger(bool on);
    bool larger() const { return larger_; }
    QSplitter* splitter() const { return splitter_; }
    int panes_shown() const;
    /// Which pages are offered, and what can be chosen in each pane.
    void renew();

  signals:
    void larger_changed(bool on);
    /// A person moved something: worth remembering.
    void arranged_anew();

  protected:
    bool eventFilter(QObject* watched, QEvent* e) override;

  private:
    struct Pane {
        QTabWidget* tabs;
        QComboBox* stream;
        QToolButton* menu;
    };
    EvidencePage* page_of(const QWidget* widget) const;
    int pane_of(const QWidget* widget) const;
    void put(EvidencePage* page, int pane, bool in_front);
    void renew_pane(Pane& pane);
    void fill_menu(QMenu* menu, QWidget* page);

    Document& document_;
    Viewpoint& view_;
    QSplitter* splitter_;
    std::vector<Pane> panes_;
    std::vector<EvidencePage*> pages_;
    QWidget* current_ = nullptr;
    bool larger_ = false;
};

}  // namespace mt::app
