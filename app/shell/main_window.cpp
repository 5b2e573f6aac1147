#include "shell/main_window.h"

#include <QAbstractButton>
#include <QApplication>
#include <QComboBox>
#include <QDragEnterEvent>
#include <QFileInfo>
#include <QKeyEvent>
#include <QMessageBox>
#include <QMimeData>
#include <QSettings>
#include <QTimer>
#include <QVBoxLayout>

#include "look/theme.h"
#include "look/words.h"
#include "look/layout.h"
#include "shell/signals_import.h"
#include "target/project.h"

namespace mt::app {

MainWindow::MainWindow(QWidget* parent) : QMainWindow(parent) {
    const QSettings settings;
    const bool night = settings.value("night", false).toBool();
    apply_theme(night);  // before there are widgets: each would be styled a second time
    setWindowTitle(tr("Mindful Trail"));
    setAcceptDrops(true);
    resize(1280, 800);
    qApp->installEventFilter(this);
    notice_ = new Notice;
    tabs_ = new QTabBar;
    tabs_->setObjectName("recordings");
    tabs_->setAccessibleName(tr("Open recordings"));
    tabs_->setTabsClosable(true);
    tabs_->setExpanding(false);
    tabs_->setDrawBase(false);
    tabs_->setAutoHide(true);
    stack_ = new QStackedWidget;
    auto* all = new QWidget;
    auto* column = bare_column(all);
    column->addWidget(tabs_);
    column->addWidget(notice_);
    column->addWidget(stack_, 1);
    setCentralWidget(all);
    file_ = new QLabel;
    file_->setObjectName("file");
    file_->setAlignment(Qt::AlignRight);
    file_->setContentsMargins(0, 8, 0, 0);
    tools_ = new ToolBar;
    addToolBar(tools_);
    desks_.reserve(16);
    add_desk();
    commands_ = new Commands(*this);
    tools_->search().offer(commands_->all());
    menuBar()->setCornerWidget(file_);
    recent_.keep_menu(commands_->recent_menu());
    connect(&recent_, &Recent::chosen, this, &MainWindow::open);
    connect(&recent_, &Recent::changed, this, [this] {
        for (Desk* d : desks_) d->start_page()->set_recent(recent_);
    });
    connect(tabs_, &QTabBar::currentChanged, this, [this](int i) {
        if (i < 0 || static_cast<std::size_t>(i) >= desks_.size()) return;
        stack_->setCurrentWidget(desks_[static_cast<std::size_t>(i)]);
        notice_->hide();
        renew();
    });
    connect(tabs_, &QTabBar::tabCloseRequested, this,
            [this](int i) { close_desk(*desks_[static_cast<std::size_t>(i)]); });
    set_night(night);
    if (settings.contains("window")) restoreGeometry(settings.value("window").toByteArray());
    renew();
}

// Views before what they show.
MainWindow::~MainWindow() {
    for (Desk* d : desks_) delete d;
}

Desk& MainWindow::add_desk() {
    auto* d = new Desk(workspace_.add());
    desks_.push_back(d);
    stack_->addWidget(d);
    const QSignalBlocker quiet(tabs_);
    tabs_->setCurrentIndex(tabs_->addTab(d->title()));
    stack_->setCurrentWidget(d);
    const auto if_in_front = [this, d](auto what) {
        return [this, d, what] {
            if (d == &desk()) what();
        };
    };
    connect(d, &Desk::told, this, [this, d](const QString& text, bool bad) {
        // A desk that could not open what it was made for makes room again.
        if (bad && d->is_empty() && desks_.size() > 1) QTimer::singleShot(0, d, [this, d] { drop_desk(*d); });
        if (d == &desk()) notice_->say(text, bad);
    });
    connect(d, &Desk::offered, this, [this, d](const QString& text, bool bad, const std::vector<Offer>& offers) {
        if (d == &desk()) notice_->say(text, bad, offers);
    });
    connect(d, &Desk::quieted, this, if_in_front([this] { notice_->hide(); }));
    connect(d, &Desk::renewed, this, [this, d] {
        const auto at = std::find(desks_.begin(), desks_.end(), d) - desks_.begin();
        tabs_->setTabText(static_cast<int>(at), d->title());
        if (d == &desk()) renew();
    });
    connect(d, &Desk::used, this, [this](const QString& path) { recent_.remember(path); });
    connect(&d->viewpoint(), &Viewpoint::places_changed, this, if_in_front([this] { renew(); }));
    connect(&d->viewpoint(), &Viewpoint::scale_changed, this, if_in_front([this] { renew(); }));
    connect(&d->arrangement(), &Arrangement::changed, this, if_in_front([this] { renew(); }));
    connect(d->evidence(), &EvidenceArea::larger_changed, this, if_in_front([this] { renew(); }));
    connect(d->lanes(), &Lanes::measuring_changed, this, if_in_front([this] { renew(); }));
    connect(d, &Desk::csv_wanted, this, [this] { commands_->ask_save_csv(); });
    connect(d->start_page(), &StartPage::open_wanted, this, [this] { commands_->ask_open(); });
    connect(d->start_page(), &StartPage::new_target_wanted, this, [this] { commands_->ask_open_bytes(); });
    connect(d->start_page(), &StartPage::guide_wanted, this, [this] { commands_->show_help(true); });
    connect(d->start_page(), &StartPage::chosen, this, &MainWindow::open);
    connect(d->start_page(), &StartPage::bytes_chosen, this, &MainWindow::open_bytes);
    connect(d, &Desk::judged, this,
            [this](const QString& path, const RecentFacts& facts) { recent_.keep_facts(path, facts); });
    connect(d->start_page(), &StartPage::record_wanted, this, [this] { open_recipe({}); });
    d->start_page()->set_recent(recent_);
    return *d;
}

Desk& MainWindow::free_desk() {
    if (desk().is_empty()) return desk();
    add_desk();
    renew();
    return desk();
}

void MainWindow::drop_desk(Desk& gone) {
    const auto at = std::find(desks_.begin(), desks_.end(), &gone);
    if (at == desks_.end()) return;
    if (desks_.size() == 1) add_desk();
    const auto i = static_cast<int>(std::find(desks_.begin(), desks_.end(), &gone) - desks_.begin());
    const Document& document = gone.document();
    {
        const QSignalBlocker quiet(tabs_);
        desks_.erase(desks_.begin() + i);
        tabs_->removeTab(i);
    }
    stack_->removeWidget(&gone);
    delete &gone;
    workspace_.close(document);
    stack_->setCurrentWidget(&desk());
    renew();
}

bool MainWindow::may_close(Desk& d) {
    LiveSession& live = d.record().live();
    if (!live.active()) return true;
    if (QMessageBox::question(this, tr("A recording is being made"),
                              tr("Stop it, keep what was recorded, and close it?")) != QMessageBox::Yes)
        return false;
    live.stop(true);
    return true;
}

bool MainWindow::close_desk(Desk& d) {
    if (!may_close(d)) return false;
    drop_desk(d);
    return true;
}

void MainWindow::step_desk(int direction) {
    const int n = tabs_->count();
    tabs_->setCurrentIndex((tabs_->currentIndex() + direction + n) % n);
}

void MainWindow::open(const QString& path) {
    if (path.endsWith(".recipe.toml")) return open_recipe(path);
    if (path.endsWith(".project.toml")) return open_project(path);
    notice_->hide();
    if (const Document* open = workspace_.of_path(path); open != nullptr)
        for (std::size_t i = 0; i < desks_.size(); ++i)
            if (&desks_[i]->document() == open) {
                tabs_->setCurrentIndex(static_cast<int>(i));
                if (!desks_[i]->record().live().active()) desks_[i]->open(path);
                return;
            }
    free_desk().open(path);
    renew();
}

// The recording that the project's target file describes.
void MainWindow::open_project(const QString& path) {
    const auto project = read_project(path.toStdString());
    if (!project) return notice_->say(words(project.error().text()), true);
    if (project->target.empty())
        return notice_->say(tr("The project %1 names no target file.").arg(words(project->name)), false);
    open(words(project->target));
}

void MainWindow::open_bytes(const QString& path) {
    free_desk().open_bytes(path);
    renew();
}

void MainWindow::open_recipe(const QString& path) {
    // One recording at a time; the page where it is made is the page where the next one is.
    for (std::size_t i = 0; i < desks_.size(); ++i)
        if (desks_[i]->record().shown()) {
            tabs_->setCurrentIndex(static_cast<int>(i));
            desks_[i]->record().open(path);
            return renew();
        }
    const QString target =
        desk().document().recording() ? words(desk().document().recording()->target.path) : QString();
    RecordPage& record = free_desk().record();
    record.open(path);
    if (path.isEmpty() && !target.isEmpty()) record.form()->show_target(target);
    renew();
}

// Menus, tools and the corner show what is true of the desk in front.
void MainWindow::renew() {
    Desk& d = desk();
    const bool there = d.document().trail() != nullptr;
    if (commands_ != nullptr) commands_->renew();
    tools_->show_of(d);
    if (const QString name = d.file_name() + "   "; file_->text() != name) {
        file_->setText(name);
        file_->setFixedWidth(file_->sizeHint().width());
        menuBar()->setCornerWidget(file_);  // a corner widget takes its width when it is set
        file_->show();
    }
    setWindowTitle(there ? d.title() + " – " + tr("Mindful Trail") : tr("Mindful Trail"));
}

void MainWindow::set_night(bool on) {
    apply_theme(on);
    // Widgets that hold colours of their own take the new ones.
    for (Desk* d : desks_) {
        emit d->viewpoint().colours_changed();
        d->start_page()->set_recent(recent_);
    }
    for (auto* w : findChildren<QWidget*>()) w->update();
    if (commands_ != nullptr) commands_->renew();
}

void MainWindow::dragEnterEvent(QDragEnterEvent* e) {
    const QList<QUrl> urls = e->mimeData()->urls();
    if (!urls.isEmpty() && std::all_of(urls.begin(), urls.end(), [](const QUrl& u) { return u.isLocalFile(); }))
        e->acceptProposedAction();
}

void MainWindow::dropEvent(QDropEvent* e) {
    e->acceptProposedAction();
    for (const QUrl& url : e->mimeData()->urls()) {
        const QString path = url.toLocalFile();
        // What was measured elsewhere belongs beside what is open.
        if (SignalsImport::is_signal_file(path) && desk().document().recording() && !desk().document().live())
            desk().target().ask_signals(path);
        else
            open(path);
    }
}

// Space presses the button that has the focus, before it means anything to the window.
bool MainWindow::eventFilter(QObject* watched, QEvent* e) {
    if (e->type() == QEvent::ShortcutOverride && static_cast<QKeyEvent*>(e)->key() == Qt::Key_Space &&
        (qobject_cast<QAbstractButton*>(watched) != nullptr || qobject_cast<QComboBox*>(watched) != nullptr)) {
        e->accept();
        return true;
    }
    return QMainWindow::eventFilter(watched, e);
}

void MainWindow::closeEvent(QCloseEvent* e) {
    for (Desk* d : desks_)
        if (!may_close(*d)) return e->ignore();
    for (Desk* d : desks_) d->document().cancel();
    for (Desk* d : desks_) d->arrangement().keep();
    QSettings().setValue("window", saveGeometry());
    QMainWindow::closeEvent(e);
}

}  // namespace mt::app
