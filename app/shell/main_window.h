// The window: menus, tools, and a desk for each recording that is open.
#pragma once

#include <QLabel>
#include <QMainWindow>
#include <QStackedWidget>
#include <QTabBar>

#include "document/workspace.h"
#include "shell/commands.h"
#include "shell/desk.h"
#include "shell/notice.h"
#include "shell/recent.h"
#include "shell/tool_bar.h"

namespace mt::app {

class MainWindow : public QMainWindow {
    Q_OBJECT
  public:
    explicit MainWindow(QWidget* parent = nullptr);
    ~MainWindow() override;

    /// A target file, a recording, a folder of CTF, or a recipe, on a desk of its own; one that is open already is read
    /// again.
    void open(const QString& path);
    void open_recipe(const QString& path);
    /// Bytes whose settings are to be found out anew.
    void open_bytes(const QString& path);
    /// The desk in front; there always is one.
    Desk& desk() const { return *desks_[static_cast<std::size_t>(tabs_->currentIndex())]; }
    std::size_t desk_count() const { return desks_.size(); }
    Document& document() const { return desk().document(); }
    /// Closes a desk; asks first if something is being recorded on it. False if a person wants it to stay.
    bool close_desk(Desk& desk);
    void step_desk(int direction);

    void set_night(bool on);
    ToolBar& tools() const { return *tools_; }
    QTabBar* tabs() const { return tabs_; }
    const Commands& commands() const { return *commands_; }
    QString notice_text() const { return notice_->text(); }
    QString health_text() const { return tools_->health_text(); }

  protected:
    void dragEnterEvent(QDragEnterEvent*) override;
    void dropEvent(QDropEvent*) override;
    void closeEvent(QCloseEvent*) override;
    bool eventFilter(QObject* watched, QEvent* e) override;

  private:
    void open_project(const QString& path);
    Desk& add_desk();
    Desk& free_desk();
    void drop_desk(Desk& desk);
    void renew();
    bool may_close(Desk& desk);

    Workspace workspace_;
    Recent recent_;
    std::vector<Desk*> desks_;
    Commands* commands_ = nullptr;
    Notice* notice_;
    QTabBar* tabs_;
    QStackedWidget* stack_;
    QLabel* file_;
    ToolBar* tools_;
};

}  // namespace mt::app
