// The record page of a desk: what is shown when while a recipe is written, run and recorded.
#pragma once

#include <QObject>

#include "document/live_session.h"
#include "record/recipe_form.h"
#include "record/record_strip.h"
#include "record/sane_panel.h"
#include "record/stations.h"
#include "record/trace_page.h"

namespace mt::app {

class Desk;

/// Its parts stand where findings, figures and evidence stand otherwise. Only the window's thread may call its members.
class RecordPage : public QObject {
    Q_OBJECT
  public:
    explicit RecordPage(Desk& desk);

    /// Shows it. `recipe_path` may be empty: then the form asks for a connection.
    void open(const QString& recipe_path);
    void use(const Recipe& recipe);
    void start();
    void leave();
    bool shown() const { return shown_; }
    void check_line();
    void ask_recipe();
    void ask_mark();

    LiveSession& live() { return live_; }
    Stations* stations() const { return stations_; }
    SanePanel* sane() const { return sane_; }
    RecordStrip* strip() const { return strip_; }
    RecipeForm* form() const { return form_; }
    TracePage* trace() const { return trace_; }
    /// What to trace, for the recipe in the form.
    void ask_trace();
    /// Reads what the chip's trace buffers hold, without a reset: how the target came where it stands.
    void ask_what_led_here();

  private:
    friend class Desk;
    void join();
    void turn(bool on);
    void show();
    void began();
    void renewed();
    void ended(const QString& folder);
    void ask_save_recipe();
    void ask_discard();

    Desk& desk_;
    LiveSession live_;
    Stations* stations_;
    SanePanel* sane_;
    RecordStrip* strip_;
    RecipeForm* form_;
    TracePage* trace_;
    bool shown_ = false, judging_recorded_ = false;
};

}  // namespace mt::app
