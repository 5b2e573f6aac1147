// Decoded packet blocks for the evidence pages: fetched on a worker, kept while they are recent.
#pragma once

#include <functional>
#include <list>
#include <map>
#include <memory>

#include <QObject>

#include "document/job_queue.h"
#include "replay/packet_block.h"

namespace mt::app {

/// A block, and which of its packets are events.
struct StoredBlock {
    PacketBlock block;
    std::uint64_t until = 0;  ///< raw offset that it reaches to
    std::vector<std::uint32_t> events;
};

/// `get` answers at once: the block, or nothing yet (then `arrived` follows). Only the window's thread may
/// call its members.
class BlockStore : public QObject {
    Q_OBJECT
  public:
    explicit BlockStore(QObject* parent = nullptr);

    /// From now on blocks of this snapshot; forgets others.
    void use(std::shared_ptr<const Recording> recording, std::shared_ptr<const Trail> trail);
    std::shared_ptr<const StoredBlock> get(std::size_t stream, std::size_t block);
    /// Runs `work` on the worker, then `done` with its result on the window's thread.
    void run(std::function<QString()> work, std::function<void(QString)> done);

  signals:
    void arrived();

  private:
    using Key = std::pair<std::size_t, std::size_t>;
    static constexpr std::size_t kMostBlocks = 48;

    std::shared_ptr<const Recording> recording_;
    std::shared_ptr<const Trail> trail_;
    std::map<Key, std::shared_ptr<const StoredBlock>> blocks_;
    std::list<Key> recent_;
    std::map<Key, bool> asked_;
    quint64 turn_ = 0;
    JobQueue jobs_;  ///< last: its end waits for jobs that use the rest
};

}  // namespace mt::app
