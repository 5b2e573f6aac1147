// The window: ridge, findings, lanes, measures, moment strip and evidence around one session.
#pragma once

#include <QLabel>
#include <QLineEdit>
#include <QMainWindow>
#include <QProgressBar>
#include <QPushButton>
#include <QSplitter>
#include <QStackedWidget>
#include <QTabWidget>
#include <QToolButton>

#include "block_store.h"
#include "findings_panel.h"
#include "footsteps.h"
#include "functions_table.h"
#include "lanes/lanes.h"
#include "live_session.h"
#include "measures.h"
#include "moment_strip.h"
#include "packet_table.h"
#include "trace_table.h"
#include "recipe_form.h"
#include "record_strip.h"
#include "ridge.h"
#include "sane_panel.h"
#include "session.h"
#include "start_page.h"
#include "source_view.h"
#include "call_tree.h"
#include "stations.h"
#include "viewpoint.h"

class QComboBox;

namespace mt::app {

class MainWindow : public QMainWindow {
    Q_OBJECT
  public:
    explicit MainWindow(QWidget* parent = nullptr);

    void open(const QString& path);
    void go_to_finding(int index);
    void show_measures(bool on);
    /// Shows the start-up: from zero to the last first run, with the way of each task there.
    void show_start(bool on);
    /// Goes to what a person typed: a time with its unit, or an interrupt. False if there is no such place.
    bool go_to_text(const QString& text);
    void set_night(bool on);

    /// Shows the record page. `recipe_path` may be empty: then the form asks for a connection.
    void open_recipe(const QString& recipe_path);
    void use_recipe(const Recipe& recipe);
    void start_recording();
    void leave_record_page();
    void check_line();
    LiveSession& live() { return live_; }
    Stations* stations() const { return stations_; }
    SanePanel* sane() const { return sane_; }
    RecordStrip* strip() const { return strip_; }
    RecipeForm* recipe_form() const { return form_; }
    bool record_page_shown() const { return record_page_; }

    Session& session() { return session_; }
    Viewpoint& viewpoint() { return view_; }
    Lanes* lanes() const { return lanes_; }
    Ridge* ridge() const { return ridge_; }
    MeasuresPage* measures_page() const { return page_; }
    MeasuresPanel* measures_panel() const { return panel_; }
    FindingsPanel* findings_panel() const { return findings_; }
    MomentStrip* moment() const { return moment_; }
    PacketTable* events() const { return events_; }
    PacketTable* packets() const { return packets_; }
    TraceTable* trace_events() const { return trace_events_; }
    /// Steps of the core that is looked at, each equally wide, in place of time.
    void show_even(bool on);
    Footsteps* footsteps() const { return footsteps_; }
    FunctionsTable* functions() const { return functions_; }
    SourceView* source() const { return source_; }
    CallTree* call_tree() const { return call_tree_; }
    QTabWidget* evidence() const { return evidence_; }
    QString notice_text() const { return notice_text_->text(); }
    QString health_text() const { return health_->text(); }

  protected:
    void dragEnterEvent(QDragEnterEvent*) override;
    void dropEvent(QDropEvent*) override;
    void closeEvent(QCloseEvent*) override;
    bool eventFilter(QObject* watched, QEvent* e) override;

  private:
    void build_actions();
    void build_kinds_menu(QMenu* menu);
    QWidget* build_centre();
    void build_toolbar();
    QAction* action(QMenu* menu, const QString& text, const QList<QKeySequence>& keys, const QString& tip,
                    std::function<void()> what);
    void say(const QString& text, bool bad);
    void ask_open();
    void ask_save();
    void ask_save_csv();
    void remember(const QString& path);
    QStringList recent() const;
    void renew_recent();
    void renew_health();
    void renew_busy();
    /// Shows the pages of evidence that this recording has something for.
    void renew_evidence();
    /// What can be chosen and looked for on the page that is shown.
    void renew_choice();
    void finished();
    void select_first();
    void set_ruler_end(bool is_a);
    void fold_sides(bool fold);
    void build_record_page();
    void build_record_actions();
    void turn_record_page(bool on);
    void show_record_page();
    void live_began();
    void live_renewed();
    void live_ended(const QString& folder);
    void ask_recipe();
    void ask_save_recipe();
    void ask_discard();
    void ask_mark();

    Session session_;
    LiveSession live_{session_};
    Viewpoint view_;
    BlockStore store_;
    Ridge* ridge_;
    Lanes* lanes_;
    FindingsPanel* findings_;
    MeasuresPanel* panel_;
    MeasuresPage* page_;
    MomentStrip* moment_;
    PacketTable *events_, *packets_;
    TraceTable* trace_events_;
    Footsteps* footsteps_;
    FunctionsTable* functions_;
    SourceView* source_;
    CallTree* call_tree_;
    QTabWidget* evidence_;
    QStackedWidget* stack_;
    StartPage* start_;
    QSplitter *across_, *down_;
    QWidget* notice_;
    QLabel *notice_text_, *file_;
    QLineEdit* go_;
    QToolButton *back_, *forward_, *ruler_, *health_;
    QProgressBar* progress_;
    QPushButton* cancel_;
    QMenu *recent_menu_, *health_menu_;
    QAction *night_, *measures_action_, *first_runs_action_, *even_action_, *key_action_, *save_action_, *csv_action_,
        *sides_action_;
    QAction* health_shown_;
    QComboBox* stream_choice_;
    QLineEdit* find_;
    std::vector<QAction*> need_recording_;
    bool findings_were_shown_ = true;
    Stations* stations_;
    SanePanel* sane_;
    RecordStrip* strip_;
    RecipeForm* form_;
    QAction *start_action_, *stop_action_, *mark_action_, *hold_action_, *follow_action_;
    bool record_page_ = false, judging_recorded_ = false;
    struct KeptPlace {
        Time from, to, cursor;
        Selection selection;
    };
    std::optional<KeptPlace> kept_place_;  ///< where to be again once the recording was decoded anew
    bool walked_ = false;                  ///< a finding has been gone to
};

}  // namespace mt::app
