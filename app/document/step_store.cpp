#include "document/step_store.h"

#include <QFileInfo>
#include <QMetaObject>

#include "base/text.h"
#include "look/words.h"
#include "replay/step_search.h"
#include "target/disassembly.h"

namespace mt::app {
namespace {

StepStore::Chunk decode(const Recording& recording, const StepTrail& trail, std::uint64_t chunk) {
    const StepWindow w = step_window(recording, trail, chunk * StepStore::kChunk, StepStore::kChunk);
    const Code& code = *trail.code;
    const InlineTable& inlines = *trail.inlines;
    const Disassembler disassembler(code);
    StepStore::Chunk lines;
    std::size_t trap = 0, gap = 0;
    for (const StepPiece& p : w.pieces) {
        std::uint32_t slot = p.run.first;
        for (std::uint32_t i = 0; i < p.run.count; ++i, slot = code.next(slot)) {
            const std::uint64_t step = p.step + i;
            if (step < w.first || step >= w.end) continue;
            StepLine line;
            line.time = {p.begin.ps +
                         static_cast<std::int64_t>(static_cast<__int128>((p.end - p.begin).ps) * i / p.run.count)};
            line.told = p.told && i == 0;
            line.slot = slot;
            line.depth = line.calls = p.depth;
            line.took.ps = (p.end - p.begin).ps / p.run.count;
            const std::uint64_t address = code.address(slot);
            line.address = words(hex_text(address, code.xlen() == 64 ? 16 : 8));
            const Function& f = (*trail.functions)[trail.functions->at(slot)];
            line.function = words(f.name);
            if (const std::uint32_t in = inlines.at(slot); in != InlineTable::kNone) {
                const Inlined& inner = inlines[in];
                line.within = inner.parent < inlines.size() ? words(inlines[inner.parent].name) : line.function;
                line.function = words(inner.name);
                line.depth = static_cast<std::uint16_t>(std::min(line.depth + inner.depth, 0xFFFF));
            }
            if (const auto at = recording.line_of(trail.core_index, slot)) {
                line.file = words(at->file);
                line.line = at->line;
                line.place = QFileInfo(line.file).fileName() + ":" + QString::number(at->line);
            }
            line.text = words(disassembler.text(slot));
            for (; trap < w.traps.size() && w.traps[trap].step <= step; ++trap) {
                const StepTrap& t = w.traps[trap].trap;
                const auto known = exception_of(t, code);
                line.before = known ? words(recording.exception_name(trail.core_index, known->code()))
                                    : QObject::tr("an exception");
                if (t.epc_known) line.before += QObject::tr(" from %1").arg(words(hex_text(t.epc, 8)));
            }
            for (; gap < w.gaps.size() && w.gaps[gap].step <= step; ++gap)
                line.before = QObject::tr("not known: %1").arg(words(w.gaps[gap].gap.text()));
            lines.push_back(std::move(line));
        }
    }
    return lines;
}

}  // namespace

StepStore::StepStore(QObject* parent) : QObject(parent) {}
StepStore::~StepStore() { cancel_search(); }

void StepStore::use(std::shared_ptr<const Recording> recording, std::shared_ptr<const Trail> trail,
                    std::size_t stream) {
    const bool other = recording != recording_ || stream != stream_;
    recording_ = std::move(recording);
    trail_ = std::move(trail);
    stream_ = stream;
    if (other) {  // what is asked for of the same stream is found in the older snapshot, too
        ++turn_;
        cancel_search();
        chunks_.clear();
        asked_.clear();
        jobs_.clear();
    }
    // A chunk that was not yet full may have grown.
    if (!chunks_.empty()) chunks_.erase(std::prev(chunks_.end()));
    recent_.clear();
    for (const auto& [chunk, lines] : chunks_) recent_.push_back(chunk);
}

std::shared_ptr<const StepStore::Chunk> StepStore::get(std::uint64_t chunk) {
    if (const auto found = chunks_.find(chunk); found != chunks_.end()) {
        recent_.remove(chunk);
        recent_.push_back(chunk);
        return found->second;
    }
    if (!trail_ || stream_ >= trail_->steps.size() || asked_[chunk]) return nullptr;
    fetch(chunk);
    return nullptr;
}

void StepStore::fetch(std::uint64_t chunk) {
    asked_[chunk] = true;
    jobs_.add(
        [this, chunk, turn = turn_, r = recording_, t = trail_, stream = stream_] {
            auto lines = std::make_shared<const Chunk>(decode(*r, t->steps[stream], chunk));
            QMetaObject::invokeMethod(
                this,
                [this, chunk, turn, lines, t] {
                    if (turn != turn_) return;
                    asked_.erase(chunk);
                    chunks_[chunk] = lines;
                    recent_.remove(chunk);
                    recent_.push_back(chunk);
                    if (t != trail_ && lines->size() < kChunk) fetch(chunk);  // there may be more of it by now
                    if (recent_.size() > kMostChunks) {
                        chunks_.erase(recent_.front());
                        recent_.pop_front();
                    }
                    emit arrived();
                },
                Qt::QueuedConnection);
        },
        true);
}

void StepStore::cancel_search() {
    if (search_) search_->cancel();
    search_.reset();
}

void StepStore::search(std::vector<std::uint32_t> wanted, std::uint64_t from, int direction,
                       std::function<void(std::optional<std::uint64_t>)> done) {
    search(
        [wanted = std::move(wanted), from, direction](const Recording& r, const StepTrail& steps, const Progress& progress) {
            return (direction > 0 ? next_execution : previous_execution)(r, steps, wanted, from, progress);
        },
        std::move(done));
}

void StepStore::search_new_line(std::uint64_t from, std::function<void(std::optional<std::uint64_t>)> done) {
    search([from](const Recording& r, const StepTrail& steps,
                  const Progress& progress) { return next_new_line(r, steps, from, progress); },
           std::move(done));
}

void StepStore::search(Search how, std::function<void(std::optional<std::uint64_t>)> done) {
    cancel_search();
    if (!trail_ || stream_ >= trail_->steps.size()) return;
    search_ = std::make_shared<Progress>();
    searches_.add([this, how = std::move(how), done = std::move(done), progress = search_, r = recording_, trail = trail_,
                   stream = stream_] {
        const auto found = how(*r, trail->steps[stream], *progress);
        QMetaObject::invokeMethod(
            this,
            [this, found, done, progress] {
                if (progress != search_) return;
                search_.reset();
                done(found);
            },
            Qt::QueuedConnection);
    });
}

void StepStore::stack(std::uint64_t step, std::function<void(std::vector<TraceFrame>)> done) {
    if (!trail_ || stream_ >= trail_->steps.size()) return;
    const quint64 question = ++stack_question_;
    jobs_.add(
        [this, step, question, done = std::move(done), r = recording_, trail = trail_, stream = stream_] {
            auto frames = backtrace(*r, trail->steps[stream], step);
            QMetaObject::invokeMethod(
                this,
                [this, question, frames = std::move(frames), done] {
                    if (question == stack_question_) done(frames);
                },
                Qt::QueuedConnection);
        },
        true);
}

void StepStore::find(Time t, std::function<void(std::uint64_t)> done) {
    if (!trail_ || stream_ >= trail_->steps.size()) return;
    const quint64 question = ++question_;
    jobs_.add(
        [this, t, question, done = std::move(done), r = recording_, trail = trail_, stream = stream_] {
            const std::uint64_t step = step_at(*r, trail->steps[stream], t);
            QMetaObject::invokeMethod(
                this,
                [this, question, step, done] {
                    if (question == question_) done(step);
                },
                Qt::QueuedConnection);
        },
        true);
}

}  // namespace mt::app
