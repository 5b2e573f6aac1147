#include "document/block_store.h"

#include <QMetaObject>

namespace mt::app {

BlockStore::BlockStore(QObject* parent) : QObject(parent) {}

void BlockStore::run(std::function<QString()> what, std::function<void(QString)> done) {
    jobs_.add([this, what = std::move(what), done = std::move(done)] {
        const QString text = what();
        QMetaObject::invokeMethod(
            this, [done, text] { done(text); }, Qt::QueuedConnection);
    });
}

void BlockStore::use(std::shared_ptr<const Recording> recording, std::shared_ptr<const Trail> trail) {
    const bool other = recording != recording_;
    // Blocks before the end of a growing recording stay as they are; the last is fetched again by get().
    recording_ = std::move(recording);
    trail_ = std::move(trail);
    if (!other && trail_ && !trail_->complete) return;
    ++turn_;
    blocks_.clear();
    recent_.clear();
    asked_.clear();
    jobs_.clear();
}

std::shared_ptr<const StoredBlock> BlockStore::get(std::size_t stream, std::size_t block) {
    const Key key{stream, block};
    // A page may already show a newer snapshot than the one in use here.
    if (!trail_ || stream >= trail_->streams.size() || block >= trail_->streams[stream].checkpoints.size())
        return nullptr;
    const auto found = blocks_.find(key);
    std::shared_ptr<const StoredBlock> stored_before;
    if (found != blocks_.end()) {
        recent_.remove(key);
        recent_.push_front(key);
        if (found->second->until == block_end(trail_->streams[stream], block)) return found->second;
        stored_before = found->second;  // of a growing recording: what there was of it, until the rest arrives
    }
    if (asked_[key]) return stored_before;
    asked_[key] = true;
    jobs_.add([this, key, turn = turn_, recording = recording_, trail = trail_] {
        auto stored = std::make_shared<StoredBlock>();
        stored->block = decode_block(*recording, *trail, key.first, key.second);
        stored->until = block_end(trail->streams[key.first], key.second);
        for (std::size_t i = 0; i < stored->block.packets.size(); ++i)
            if (itm_is_event(stored->block.packets[i].packet.kind))
                stored->events.push_back(static_cast<std::uint32_t>(i));
        QMetaObject::invokeMethod(
            this,
            [this, key, turn, stored] {
                if (turn != turn_) return;
                asked_.erase(key);
                blocks_[key] = stored;
                recent_.remove(key);
                recent_.push_front(key);
                while (recent_.size() > kMostBlocks) {
                    blocks_.erase(recent_.back());
                    recent_.pop_back();
                }
                emit arrived();
            },
            Qt::QueuedConnection);
    });
    return stored_before;
}

}  // namespace mt::app
