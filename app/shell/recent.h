// The files and folders that were opened last.
#pragma once

#include <QImage>
#include <QMenu>
#include <QObject>
#include <QStringList>

namespace mt::app {

/// What is known of a recording from when it was open last.
struct RecentFacts {
    int findings = -1;  ///< -1: not known
    QString length;     ///< "20.0 s"
    QImage ridge;       ///< null: not known
};

/// Kept in the settings; the newest first. Ridges lie in the cache folder.
class Recent : public QObject {
    Q_OBJECT
  public:
    using QObject::QObject;
    QStringList paths() const;
    void remember(const QString& path);
    void keep_facts(const QString& path, const RecentFacts& facts);
    RecentFacts facts(const QString& path) const;
    /// Fills a menu with them whenever they change; one that is chosen is told by `chosen`.
    void keep_menu(QMenu* menu);

  signals:
    void changed();
    void chosen(const QString& path);

  private:
    void fill();
    static void forget(const QString& path);
    QMenu* menu_ = nullptr;
};

}  // namespace mt::app
