#include "evidence/evidence_area.h"

#include <QApplication>
#include <QContextMenuEvent>
#include <QHBoxLayout>
#include <QMenu>
#include <QTabBar>
#include <QVBoxLayout>

#include <algorithm>

#include "look/words.h"
#include "look/layout.h"

namespace mt::app {
namespace {
constexpr int kLeastHeight = 30 + 24 + 5 * 21 + 6;  ///< tabs, a heading, and five rows of a table
}  // namespace

EvidenceArea::EvidenceArea(Document& document, Viewpoint& view, QWidget* parent)
    : QWidget(parent), document_(document), view_(view) {
    setAccessibleName(tr("Evidence"));
    setMinimumHeight(kLeastHeight);
    splitter_ = new QSplitter(Qt::Horizontal);
    splitter_->setHandleWidth(1);
    splitter_->setChildrenCollapsible(false);
    for (int i = 0; i < kMostPanes; ++i) {
        Pane pane{new QTabWidget, new QComboBox, new QToolButton};
        pane.tabs->tabBar()->setDrawBase(false);
        pane.tabs->tabBar()->installEventFilter(this);
        pane.tabs->setMinimumWidth(160);
        pane.tabs->setUsesScrollButtons(true);
        pane.stream->setObjectName("stream_choice");
        pane.stream->setAccessibleName(tr("Stream shown on this page"));
        pane.menu->setText("⋯");
        pane.menu->setObjectName("pane_menu");
        pane.menu->setToolTip(tr("Larger, beside, to the other side"));
        pane.menu->setAccessibleName(tr("Arrange this page"));
        pane.menu->setPopupMode(QToolButton::InstantPopup);
        pane.menu->setStyleSheet("QToolButton { padding: 0 6px; } QToolButton::menu-indicator { image: none; }");
        auto* menu = new QMenu(pane.menu);
        pane.menu->setMenu(menu);
        connect(menu, &QMenu::aboutToShow, this, [this, menu, tabs = pane.tabs] {
            menu->clear();
            if (tabs->currentWidget() != nullptr) fill_menu(menu, tabs->currentWidget());
        });
        auto* corner = new QWidget;
        auto* row = new QHBoxLayout(corner);
        row->setContentsMargins(0, 2, 8, 2);
        row->addWidget(pane.stream);
        row->addWidget(pane.menu);
        pane.tabs->setCornerWidget(corner);
        connect(pane.tabs, &QTabWidget::currentChanged, this, [this, i] {
            if (panes_.size() <= static_cast<std::size_t>(i)) return;
            Pane& p = panes_[static_cast<std::size_t>(i)];
            if (p.tabs->currentWidget() != nullptr) current_ = p.tabs->currentWidget();
            renew_pane(p);
        });
        connect(pane.stream, &QComboBox::activated, this, [this, i](int stream) {
            if (auto* page = page_of(panes_[static_cast<std::size_t>(i)].tabs->currentWidget()); page != nullptr)
                page->use_stream(static_cast<std::size_t>(stream));
            renew();
        });
        splitter_->addWidget(pane.tabs);
        panes_.push_back(pane);
    }
    bare_column(this)->addWidget(splitter_);
    connect(&view, &Viewpoint::core_changed, this, [this] {
        for (EvidencePage* page : pages_) page->look_at_core(view_.core());
        renew();
    });
    connect(qApp, &QApplication::focusChanged, this, [this](QWidget*, QWidget* now) {
        for (EvidencePage* page : pages_)
            if (now != nullptr && (page->widget() == now || page->widget()->isAncestorOf(now)))
                current_ = page->widget();
    });
    for (const auto signal : {&Document::opened, &Document::grew, &Document::finished})
        connect(&document, signal, this, &EvidenceArea::renew);
}

void EvidenceArea::add(EvidencePage* page) {
    pages_.push_back(page);
    put(page, 0, false);
}

EvidencePage* EvidenceArea::page_of(const QWidget* widget) const {
    const auto found =
        std::find_if(pages_.begin(), pages_.end(), [widget](EvidencePage* p) { return p->widget() == widget; });
    return widget == nullptr || found == pages_.end() ? nullptr : *found;
}

int EvidenceArea::pane_of(const QWidget* widget) const {
    for (std::size_t i = 0; i < panes_.size(); ++i)
        if (panes_[i].tabs->indexOf(widget) >= 0) return static_cast<int>(i);
    return -1;
}

void EvidenceArea::put(EvidencePage* page, int pane, bool in_front) {
    QTabWidget* tabs = panes_[static_cast<std::size_t>(pane)].tabs;
    QWidget* widget = page->widget();
    if (const int now = pane_of(widget); now != pane) {
        if (now >= 0) {
            QTabWidget* from = panes_[static_cast<std::size_t>(now)].tabs;
            from->removeTab(from->indexOf(widget));
        }
        // In the order of the pages, wherever they stand.
        int at = 0;
        for (EvidencePage* p : pages_) {
            if (p == page) break;
            at += tabs->indexOf(p->widget()) >= 0 ? 1 : 0;
        }
        tabs->insertTab(at, widget, page->title());
    }
    tabs->setTabVisible(tabs->indexOf(widget), page->has_something());
    if (in_front) tabs->setCurrentWidget(widget);
}

void EvidenceArea::arrange(const std::vector<QStringList>& wanted) {
    const auto last = static_cast<int>(std::clamp<std::size_t>(wanted.size(), 1, kMostPanes)) - 1;
    for (EvidencePage* page : pages_) {
        int pane = last;
        for (int i = 0; i <= last && i < static_cast<int>(wanted.size()); ++i)
            if (wanted[static_cast<std::size_t>(i)].contains(page->id())) pane = i;
        put(page, pane, false);
    }
    renew();
    for (const QStringList& pane : wanted)
        for (const QString& id : pane)
            if (auto found =
                    std::find_if(pages_.begin(), pages_.end(), [&id](EvidencePage* p) { return p->id() == id; });
                found != pages_.end() && offers((*found)->widget())) {
                show_page((*found)->widget());
                break;
            }
}

std::vector<QStringList> EvidenceArea::arranged() const {
    std::vector<QStringList> all;
    for (const Pane& pane : panes_) {
        QStringList ids;
        for (int i = 0; i < pane.tabs->count(); ++i) ids << page_of(pane.tabs->widget(i))->id();
        if (auto* front = page_of(pane.tabs->currentWidget()); front != nullptr) {
            ids.removeAll(front->id());
            ids.prepend(front->id());
        }
        if (!ids.isEmpty()) all.push_back(ids);
    }
    return all;
}

void EvidenceArea::show_page(const QWidget* page) {
    const int pane = pane_of(page);
    if (pane < 0) return;
    QTabWidget* tabs = panes_[static_cast<std::size_t>(pane)].tabs;
    tabs->setCurrentIndex(tabs->indexOf(page));
    current_ = tabs->currentWidget();
    if (larger_) set_larger(true);
}

void EvidenceArea::show_page(const QString& id) {
    for (EvidencePage* page : pages_)
        if (page->id() == id) show_page(page->widget());
}

bool EvidenceArea::in_front(const QWidget* page) const {
    const int pane = pane_of(page);
    return pane >= 0 && panes_[static_cast<std::size_t>(pane)].tabs->currentWidget() == page;
}

bool EvidenceArea::offers(const QWidget* page) const {
    const int pane = pane_of(page);
    if (pane < 0) return false;
    const QTabWidget* tabs = panes_[static_cast<std::size_t>(pane)].tabs;
    return tabs->isTabVisible(tabs->indexOf(page));
}

EvidencePage* EvidenceArea::current() const {
    if (current_ != nullptr && in_front(current_)) return page_of(current_);
    for (const Pane& pane : panes_)
        if (!pane.tabs->isHidden() && pane.tabs->currentWidget() != nullptr) return page_of(pane.tabs->currentWidget());
    return nullptr;
}

void EvidenceArea::step_page(int direction) {
    std::vector<EvidencePage*> offered;
    for (const Pane& pane : panes_)
        for (int i = 0; i < pane.tabs->count(); ++i)
            if (pane.tabs->isTabVisible(i)) offered.push_back(page_of(pane.tabs->widget(i)));
    if (offered.empty()) return;
    const auto at = std::find(offered.begin(), offered.end(), current()) - offered.begin();
    const auto n = static_cast<std::ptrdiff_t>(offered.size());
    EvidencePage* next = offered[static_cast<std::size_t>((at + direction + n) % n)];
    show_page(next->widget());
    next->widget()->setFocus();
}

void EvidenceArea::move_page(QWidget* widget, int direction) {
    EvidencePage* page = page_of(widget);
    const int pane = pane_of(widget) + direction;
    if (page == nullptr || pane < 0 || pane >= kMostPanes) return;
    put(page, pane, true);
    current_ = widget;
    renew();
    emit arranged_anew();
}

void EvidenceArea::set_larger(bool on) {
    const bool changed = larger_ != on;
    larger_ = on;
    renew();
    if (changed) emit larger_changed(on);
}

int EvidenceArea::panes_shown() const {
    return static_cast<int>(
        std::count_if(panes_.begin(), panes_.end(), [](const Pane& p) { return !p.tabs->isHidden(); }));
}

void EvidenceArea::renew() {
    for (Pane& pane : panes_) {
        for (int i = 0; i < pane.tabs->count(); ++i)
            pane.tabs->setTabVisible(i, page_of(pane.tabs->widget(i))->has_something());
        if (const int now = pane.tabs->currentIndex(); now >= 0 && !pane.tabs->isTabVisible(now))
            for (int i = 0; i < pane.tabs->count(); ++i)
                if (pane.tabs->isTabVisible(i)) {
                    pane.tabs->setCurrentIndex(i);
                    break;
                }
        bool any = false;
        for (int i = 0; i < pane.tabs->count(); ++i) any = any || pane.tabs->isTabVisible(i);
        pane.tabs->setVisible(any);
    }
    if (larger_)
        if (EvidencePage* page = current(); page != nullptr)
            for (Pane& pane : panes_)
                if (pane.tabs->indexOf(page->widget()) < 0) pane.tabs->hide();
    for (Pane& pane : panes_) renew_pane(pane);
}

void EvidenceArea::renew_pane(Pane& pane) {
    EvidencePage* page = page_of(pane.tabs->currentWidget());
    const auto streams = page == nullptr ? std::vector<EvidencePage::Stream>() : page->streams();
    QStringList wanted, now;
    for (const auto& s : streams) wanted << s.name;
    for (int i = 0; i < pane.stream->count(); ++i) now << pane.stream->itemText(i);
    if (wanted != now) {
        pane.stream->clear();
        pane.stream->addItems(wanted);
    }
    if (page != nullptr && !streams.empty()) pane.stream->setCurrentIndex(static_cast<int>(page->stream()));
    pane.stream->setVisible(streams.size() > 1);
}

void EvidenceArea::fill_menu(QMenu* menu, QWidget* widget) {
    const int pane = pane_of(widget);
    auto* larger = menu->addAction(tr("&Larger"), this, [this, widget] {
        show_page(widget);
        set_larger(!larger_);
    });
    larger->setCheckable(true);
    larger->setChecked(larger_);
    menu->addSeparator();
    const bool alone = panes_[static_cast<std::size_t>(pane)].tabs->count() == 1;
    menu->addAction(tr("Show &beside, to the right"), this, [this, widget] { move_page(widget, 1); })
        ->setEnabled(pane + 1 < kMostPanes && !(alone && pane > 0));
    menu->addAction(tr("Move to the &left"), this, [this, widget] { move_page(widget, -1); })->setEnabled(pane > 0);
}

bool EvidenceArea::eventFilter(QObject* watched, QEvent* e) {
    auto* bar = qobject_cast<QTabBar*>(watched);
    const auto* tabs = bar == nullptr ? nullptr : qobject_cast<QTabWidget*>(bar->parentWidget());
    if (tabs != nullptr && e->type() == QEvent::ContextMenu) {
        const auto* at = static_cast<QContextMenuEvent*>(e);
        if (const int i = bar->tabAt(at->pos()); i >= 0) {
            QMenu menu;
            fill_menu(&menu, tabs->widget(i));
            menu.exec(at->globalPos());
        }
        return true;
    }
    if (tabs != nullptr && e->type() == QEvent::MouseButtonDblClick && tabs->currentWidget() != nullptr) {
        current_ = tabs->currentWidget();
        set_larger(!larger_);
        return true;
    }
    return QWidget::eventFilter(watched, e);
}

}  // namespace mt::app
