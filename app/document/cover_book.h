// Coverage of the open recording, alone or with what others ran.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include <QObject>
#include <QString>
#include <QTimer>

#include "document/document.h"
#include "document/job_queue.h"
#include "measure/cover_difference.h"
#include "measure/coverage.h"
#include "replay/cover_growth.h"
#include "share/cover_store.h"

namespace mt::app {

/// Worked out on a worker while somebody looks: for a recording that is being made again and again. The window's thread
/// only.
class CoverBook : public QObject {
    Q_OBJECT
  public:
    /// Of one core.
    struct Of {
        std::size_t stream = 0;
        std::string core;
        Coverage coverage;                           ///< with the store's counts, if one is used
        std::optional<CoverDifference> difference;   ///< against the other recording
        std::optional<CoverGrowth> growth;
    };
    struct Book {
        std::vector<Of> of;
        std::vector<CoverStore::Reason> reasons;
        std::vector<CoverStore::Contribution> contributions;
        std::vector<std::string> justified_but_run;
        std::vector<std::string> lost;  ///< functions of older builds in the store that changed or are gone
        bool gaps = false;  ///< trace is missing in places
    };
    explicit CoverBook(Document& document, QObject* parent = nullptr);
    ~CoverBook() override;

    /// Null: nothing yet.
    const std::shared_ptr<const Book>& book() const { return book_; }
    bool busy() const { return busy_; }
    /// What went wrong last; empty: nothing.
    const QString& trouble() const { return trouble_; }
    /// Whether somebody looks at it.
    void watch(bool on);

    /// The store whose recordings count too; empty: none.
    const QString& store() const { return store_; }
    void use_store(const QString& path);
    /// Adds the open recording to the store in use; what it had of it before is replaced.
    void add_to_store();
    /// Code that need not run, kept in the store in use. An empty reason takes it away.
    void justify(const QString& place, const QString& reason, const QString& note);
    /// The recording that this one is held against; empty: none.
    const QString& other() const { return other_; }
    void use_other(const QString& path);
    /// When coverage grew: the whole recording is decoded again.
    void set_growth_wanted(bool on);
    bool growth_wanted() const { return growth_wanted_; }

  signals:
    void changed();
    void told(const QString& text, bool bad);

  private:
    struct Wish {
        std::shared_ptr<const Trail> trail;
        std::shared_ptr<const Recording> recording;
        std::string store, other, input;
        bool growth = false, add = false;
        std::optional<CoverStore::Reason> reason;
    };
    void renew(bool add = false, std::optional<CoverStore::Reason> reason = std::nullopt);
    static Result<std::shared_ptr<Book>> made(const Wish& wish, Progress& progress);

    Document& document_;
    std::shared_ptr<const Book> book_;
    std::shared_ptr<const Trail> made_for_;
    std::shared_ptr<Progress> progress_;
    QString store_, other_, trouble_;
    QTimer growth_timer_;
    bool watched_ = false, busy_ = false, growth_wanted_ = false;
    quint64 turn_ = 0;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
