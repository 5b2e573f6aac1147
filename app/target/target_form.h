// Every key of a target file as a field with its meaning; what is changed is decoded anew at once.
#pragma once

#include <functional>
#include <vector>

#include <QLabel>
#include <QListWidget>
#include <QPushButton>
#include <QScrollArea>
#include <QToolButton>
#include <QWidget>

#include "document/target_draft.h"
#include "target/target_keys.h"

namespace mt::app {

class TargetForm : public QWidget {
    Q_OBJECT
  public:
    explicit TargetForm(TargetDraft& draft, QWidget* parent = nullptr);

    /// The part of the file that is shown: "core", the first; "stream.itm", ….
    void show_part(const QString& table, std::size_t index);
    QListWidget* parts() const { return parts_; }
    /// What is wrong with the last thing that was entered; empty if nothing is.
    QString trouble() const { return trouble_->text(); }

  signals:
    void close_wanted();
    void told(const QString& text, bool bad);

  protected:
    void keyPressEvent(QKeyEvent*) override;

  private:
    struct Part {
        std::string table;
        std::size_t index = 0;
        bool operator==(const Part&) const = default;
    };
    struct Field {
        const TargetKey* key;
        std::function<void(const QString&)> show;
    };
    void renew();
    std::vector<Part> parts_there() const;
    QString name_of(const Part& part) const;
    void build_fields();
    QWidget* editor(const TargetKey& key);
    void enter(const TargetKey& key, const QString& entered);
    void add(const std::string& table);
    void remove();
    void save();

    TargetDraft& draft_;
    QLabel *title_, *trouble_;
    QPushButton *save_, *undo_, *redo_, *remove_;
    QToolButton* add_;
    QListWidget* parts_;
    QScrollArea* scroll_;
    std::vector<Part> there_;
    Part part_;
    std::vector<Field> fields_;
    bool building_ = false;
};

}  // namespace mt::app
