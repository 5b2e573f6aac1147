// The files and folders that were opened last.
#pragma once

#include <QMenu>
#include <QObject>
#include <QStringList>

namespace mt::app {

/// Kept in the settings; the newest first.
class Recent : public QObject {
    Q_OBJECT
  public:
    using QObject::QObject;
    QStringList paths() const;
    void remember(const QString& path);
    /// Fills a menu with them whenever they change; one that is chosen is told by `chosen`.
    void keep_menu(QMenu* menu);

  signals:
    void changed();
    void chosen(const QString& path);

  private:
    void fill();
    QMenu* menu_ = nullptr;
};

}  // namespace mt::app
