// The menus: every command with its name, its keys and what it says of itself.
#pragma once

#include <functional>
#include <vector>

#include <QAction>
#include <QMenuBar>

#include "shell/desk.h"

namespace mt::app {

class MainWindow;

class Help;

/// Commands act on the desk in front. Only the window's thread may call its members.
class Commands : public QObject {
    Q_OBJECT
  public:
    Commands(MainWindow& window);

    /// What can be done on the desk in front, and what is switched on there.
    void renew();
    void ask_open();
    /// Any file, to find out how it is to be read.
    void ask_open_bytes();
    /// The help, with the keys or with the guide in front.
    void show_help(bool guide);
    void ask_save_csv();
    QMenu* recent_menu() const { return recent_menu_; }
    Help* help() const { return help_; }
    /// All of them, in the order of the menus.
    QList<QAction*> all() const;

  private:
    enum Needs { nothing, a_recording };
    QAction* add(QMenu* menu, const QString& text, const QList<QKeySequence>& keys, const QString& tip,
                 std::function<void()> what, Needs needs = nothing);
    /// One that is on or off; `is` tells which on the desk in front.
    QAction* add_switch(QMenu* menu, const QString& text, const QList<QKeySequence>& keys, const QString& tip,
                        std::function<bool()> is, std::function<void(bool)> set, Needs needs = nothing);
    Desk& desk() const;
    void ask_save();
    void ask_level();
    void ask_picture();
    void ask_project();
    void add_file();
    void add_record();
    void add_go();
    void add_measure();
    void add_judge();
    void add_view();
    void add_help();
    void add_lane_kinds(QMenu* menu);

    MainWindow& window_;
    QMenu* recent_menu_ = nullptr;
    Help* help_ = nullptr;  ///< made when it is first asked for
    struct Switch {
        QAction* action;
        std::function<bool()> is;
    };
    std::vector<Switch> switches_;
    std::vector<QAction*> need_recording_;
    QAction *start_, *stop_, *mark_, *freeze_, *follow_, *only_lanes_;
};

}  // namespace mt::app
