// What every page of evidence can do for the window: say what it shows, of which stream, and look for something in it.
#pragma once

#include <functional>
#include <vector>

#include <QString>
#include <QWidget>

namespace mt {
struct Trail;
}

namespace mt::app {

/// A widget that shows a part of the recording row by row, at the cursor and of the core that is looked at.
class EvidencePage {
  public:
    struct Stream {
        QString name;
        std::size_t core = 0;
    };
    virtual ~EvidencePage() = default;

    virtual QWidget* widget() = 0;
    /// By which the arrangement remembers it.
    virtual QString id() const = 0;
    virtual QString title() const = 0;
    /// Whether the recording that is open has something for it.
    virtual bool has_something() const = 0;

    /// What it can show one of at a time; empty: there is nothing to choose.
    virtual std::vector<Stream> streams() const { return {}; }
    virtual std::size_t stream() const { return 0; }
    virtual void use_stream(std::size_t) {}
    /// Shows a stream of this core, if there is one.
    void look_at_core(std::size_t core);

    /// Whether `find_text` finds anything here.
    virtual bool can_find() const { return false; }
    /// To the next row (or the one before) that has `text`. `done` is told why not; an empty text: it is there.
    virtual void find_text(const QString& text, bool forwards, std::function<void(const QString& why_not)> done);

  protected:
    /// One for each core that has instruction trace.
    static std::vector<Stream> step_streams(const Trail* trail);
    /// What is said where no further row has the text.
    static QString no_match(const QString& text, bool forwards);
};

}  // namespace mt::app
