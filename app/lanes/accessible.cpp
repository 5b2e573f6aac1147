#include "lanes/accessible.h"

#include <QAccessible>
#include <QAccessibleWidget>

#include <map>

#include "lanes/lanes.h"

namespace mt::app {
namespace {

// One lane. It belongs to its list, and lives as long.
class LaneItem : public QAccessibleInterface {
  public:
    LaneItem(Lanes* lanes, int row) : lanes_(lanes), row_(row) {}
    bool isValid() const override { return lanes_ != nullptr && row_ < lanes_->rows(); }
    QObject* object() const override { return nullptr; }
    QAccessibleInterface* childAt(int, int) const override { return nullptr; }
    QAccessibleInterface* parent() const override { return QAccessible::queryAccessibleInterface(lanes_); }
    QAccessibleInterface* child(int) const override { return nullptr; }
    int childCount() const override { return 0; }
    int indexOfChild(const QAccessibleInterface*) const override { return -1; }
    QString text(QAccessible::Text t) const override {
        if (!isValid()) return {};
        return t == QAccessible::Name    ? lanes_->row_name(row_)
               : t == QAccessible::Value ? lanes_->row_told(row_)
                                         : QString();
    }
    void setText(QAccessible::Text, const QString&) override {}
    QRect rect() const override {
        if (!isValid()) return {};
        const QRect r = lanes_->row_area(row_).toRect();
        return {lanes_->mapToGlobal(r.topLeft()), r.size()};
    }
    QAccessible::Role role() const override { return QAccessible::ListItem; }
    QAccessible::State state() const override {
        QAccessible::State s;
        s.selectable = true;
        s.focusable = true;
        if (isValid()) s.selected = s.focused = lanes_->row_selected(row_);
        return s;
    }

  private:
    Lanes* lanes_;
    int row_;
};

class LaneList : public QAccessibleWidget {
  public:
    explicit LaneList(Lanes* lanes) : QAccessibleWidget(lanes, QAccessible::List), lanes_(lanes) {}
    ~LaneList() override {
        for (const auto& [row, id] : items_) QAccessible::deleteAccessibleInterface(id);
    }
    int childCount() const override { return lanes_->rows(); }
    QAccessibleInterface* child(int i) const override {
        if (i < 0 || i >= lanes_->rows()) return nullptr;
        const auto found = items_.find(i);
        if (found != items_.end()) return QAccessible::accessibleInterface(found->second);
        auto* item = new LaneItem(lanes_, i);
        items_[i] = QAccessible::registerAccessibleInterface(item);
        return item;
    }
    int indexOfChild(const QAccessibleInterface* of) const override {
        for (int i = 0; i < childCount(); ++i)
            if (child(i) == of) return i;
        return -1;
    }
    QAccessibleInterface* childAt(int x, int y) const override {
        for (int i = 0; i < childCount(); ++i)
            if (child(i)->rect().contains(x, y)) return child(i);
        return nullptr;
    }

  private:
    Lanes* lanes_;
    mutable std::map<int, QAccessible::Id> items_;
};

QAccessibleInterface* made(const QString&, QObject* object) {
    auto* lanes = qobject_cast<Lanes*>(object);
    return lanes == nullptr ? nullptr : new LaneList(lanes);
}

}  // namespace

void make_lanes_accessible() { QAccessible::installFactory(made); }

}  // namespace mt::app
