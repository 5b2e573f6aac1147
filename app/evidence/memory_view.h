// Memory of a core in hand: as bytes, words, text or instructions; typed over, filled, searched, compared, saved, loaded.
#pragma once

#include <QComboBox>
#include <QLineEdit>
#include <QTreeWidget>

#include <functional>
#include <string>
#include <vector>

#include "document/live_session.h"

namespace mt::app {

/// 256 bytes from the address that stands in its field. What a person may change is asked of the target by the commands of
/// control/hand_command.h.
class MemoryView : public QWidget {
    Q_OBJECT
  public:
    /// What belongs to the core that is shown.
    struct Of {
        std::function<QString()> core, isa;  ///< names; empty: there is none
        std::function<bool()> may_write;
    };
    MemoryView(LiveSession& live, Of of, QWidget* parent = nullptr);

    QTreeWidget* tree() const { return tree_; }
    /// Reads again what is shown, if something is.
    void renew();
    void clear();

  signals:
    void told(const QString& text, bool bad);
    /// Something was written.
    void changed();

  private:
    enum class As { bytes, words, text, instructions };
    As as() const { return static_cast<As>(as_->currentIndex()); }
    void read();
    void show_memory(std::uint64_t from, const std::vector<std::uint8_t>& bytes);
    void add_row(std::uint64_t address, const QString& text, std::uint64_t at, std::size_t count);
    void open_menu(const QPoint& at);
    void edit(QTreeWidgetItem* item);
    void edited(QTreeWidgetItem* item);
    /// Asks; what comes back is told, and shown as places to go to if it names some. `file`: the one of the command, whatever
    /// its name. `last`: of what is asked for at once.
    void ask(const QString& command, const QString& file = {}, bool last = true);
    bool writes();

    LiveSession& live_;
    Of of_;
    QLineEdit* address_;
    QComboBox* as_;
    QTreeWidget* tree_;
    As shown_as_ = As::bytes;
    std::uint64_t from_ = 0;
    std::vector<std::uint8_t> shown_, before_;  ///< bytes from `from_`; as they were when it stood there before
    bool filling_ = false;
};

}  // namespace mt::app
