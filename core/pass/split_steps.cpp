#include "pass/split_steps.h"

#include <algorithm>

namespace mt {
namespace {

// A stretch without a place to cut is handed on at so many times its size.
constexpr std::size_t kLongest = 4;
// So much put off is done before more is followed, or read.
constexpr std::size_t kManyPutOff = 4, kMostPutOff = 16;

}  // namespace

SplitSteps::SplitSteps(StepPipe pipe, std::shared_ptr<const Code> code, std::shared_ptr<const FunctionTable> functions,
                       Read read, Work work)
    : read_(std::move(read)),
      work_(std::move(work)),
      code_(code),
      frames_(pipe.take_frames()),
      blank_(pipe),
      end_(std::move(pipe)),
      wanted_(work_.stretch()),
      followers_(std::max(1u, work_.threads)) {
    for (Follower& f : followers_)
        f.log = std::make_unique<StepLog>(
            code, functions,
            [this, &f](std::unique_ptr<StepBlock> block) {
                if (f.stretch != nullptr) return another_block(std::move(block), *f.stretch);
                read_(*block);
                return block;
            },
            work_.block_items);
    for (unsigned i = 1; i < work_.threads; ++i) threads_.emplace_back([this, i] { run(i); });
}

SplitSteps::~SplitSteps() {
    {
        const std::lock_guard guard(lock_);
        over_ = true;
    }
    changed_.notify_all();
    for (std::thread& t : threads_) t.join();
}

template <class Out>
void SplitSteps::tell(const Op& op, const Stretch& s, StepPipe& pipe, Out& out) {
    switch (op.kind) {
        case Op::Kind::bytes:
            pipe.feed(std::span(s.bytes).subspan(op.at, op.size), out);
            break;
        case Op::Kind::broken:
            pipe.lose(out);
            break;
        case Op::Kind::finish:
            pipe.finish(out);
            break;
        case Op::Kind::piece:
            out.piece();
            break;
        case Op::Kind::checkpoint: {
            auto copy = std::make_shared<StepPipe>(pipe);
            if (op.frames) copy->give_frames(*op.frames);
            out.checkpoint(op.at, std::move(copy));
            break;
        }
    }
}

SplitSteps::Stretch& SplitSteps::now() {
    if (!filling_) filling_ = std::make_unique<Stretch>();
    return *filling_;
}

void SplitSteps::add_bytes(std::span<const std::uint8_t> bytes) {
    if (bytes.empty()) return;
    Stretch& s = now();
    const std::size_t had = s.bytes.size();
    if (had == 0) s.bytes.reserve(wanted_ + wanted_ / 4 + 8192);
    s.bytes.insert(s.bytes.end(), bytes.begin(), bytes.end());
    fed_ += bytes.size();
    if (s.bytes.size() >= wanted_) {
        // Enough has come: the next stretch begins at the next place where decoding can.
        if (auto entry = blank_.enter(s.bytes, std::max(had, wanted_), fed_ - s.bytes.size())) {
            s.ops.push_back({Op::Kind::bytes, had, entry->before - had});
            const std::vector<std::uint8_t> rest(s.bytes.begin() + static_cast<std::ptrdiff_t>(entry->before),
                                                 s.bytes.end());
            push();
            now().guess = std::move(entry->pipe);
            now().bytes = rest;
            ++guessed_;
            if (!rest.empty()) now().ops.push_back({Op::Kind::bytes, 0, rest.size()});
            return;
        }
    }
    s.ops.push_back({Op::Kind::bytes, had, bytes.size()});
}

void SplitSteps::feed(std::span<const std::uint8_t> raw) {
    if (threads_.empty() && !frames_) {
        end_.feed(raw, *followers_[0].log);
        return;
    }
    if (!frames_) {
        add_bytes(raw);
    } else {
        unframed_.clear();
        breaks_.clear();
        frames_->feed(raw, unframed_, breaks_);
        std::size_t at = 0;
        const auto all = std::span<const std::uint8_t>(unframed_);
        for (const auto& b : breaks_) {
            add_bytes(all.subspan(at, b.at - at));
            at = b.at;
            add({Op::Kind::broken});
        }
        add_bytes(all.subspan(at));
    }
    if (filling_ && (threads_.empty() || filling_->bytes.size() >= kLongest * wanted_)) push();
}

void SplitSteps::lose() {
    if (frames_) frames_->lose_step();
    add({Op::Kind::broken});
    if (threads_.empty()) push();
}

void SplitSteps::finish() {
    add({Op::Kind::finish});
    drain();
}

void SplitSteps::piece() {
    if (threads_.empty())
        followers_[0].log->piece();
    else
        add({Op::Kind::piece});
}

void SplitSteps::checkpoint(std::uint64_t raw_offset) {
    Op op{Op::Kind::checkpoint, raw_offset};
    if (frames_) op.frames = std::make_shared<const TpiuDeframer>(*frames_);
    add(std::move(op));
    if (threads_.empty()) push();
}

// Hands the stretch that is being filled to whoever is free.
void SplitSteps::push() {
    if (!filling_) return;
    if (threads_.empty()) {
        for (const Op& op : filling_->ops) tell(op, *filling_, end_, *followers_[0].log);
        filling_.reset();
        return;
    }
    wanted_ = std::max<std::size_t>(1, work_.stretch());
    const std::size_t most = 2 * followers_.size() + 2;
    {
        const std::lock_guard guard(lock_);
        stretches_.push_back(std::move(filling_));
        if (correction_) blank_.learn_from(*correction_);
        correction_.reset();
    }
    changed_.notify_all();
    help_until([&] { return stretches_.size() < most; });
}

void SplitSteps::drain() {
    push();
    if (threads_.empty())
        followers_[0].log->flush();
    else
        help_until([this] { return stretches_.empty() && put_off_.empty() && !doing_; });
}

void SplitSteps::help_until(const std::function<bool()>& enough) {
    std::unique_lock guard(lock_);
    while (!enough())
        if (!work(0, guard)) changed_.wait(guard);
}

void SplitSteps::run(unsigned thread) {
    std::unique_lock guard(lock_);
    while (!over_)
        if (!work(thread, guard)) changed_.wait(guard);
}

void SplitSteps::put_off(std::function<void()> task) {
    if (threads_.empty()) {
        task();
        return;
    }
    {
        const std::lock_guard guard(lock_);
        put_off_.push_back(std::move(task));
    }
    changed_.notify_all();
}

// One thing that can be done now. False: there is none.
bool SplitSteps::work(unsigned thread, std::unique_lock<std::mutex>& guard) {
    make_certain();
    // Always the same thread reads, whose cache holds what it makes of it.
    const bool reads = thread + 1 == followers_.size();
    if (reads) {
        if (put_off_.size() >= kMostPutOff && do_put_off(guard)) return true;
        if (put_off_.size() < kMostPutOff && read_next(guard)) return true;
    } else if (put_off_.size() >= kManyPutOff && do_put_off(guard)) {
        return true;
    }
    return follow_next(thread, guard) || do_put_off(guard);
}

bool SplitSteps::do_put_off(std::unique_lock<std::mutex>& guard) {
    if (doing_ || put_off_.empty()) return false;
    doing_ = true;
    const std::function<void()> task = std::move(put_off_.front());
    put_off_.pop_front();
    guard.unlock();
    task();
    guard.lock();
    doing_ = false;
    changed_.notify_all();
    return true;
}

bool SplitSteps::read_next(std::unique_lock<std::mutex>& guard) {
    if (stretches_.empty() || stretches_.front()->state != Stretch::State::certain || stretches_.front()->taken)
        return false;
    Stretch& s = *stretches_.front();
    s.taken = true;
    guard.unlock();
    for (const auto& block : s.blocks) read_(*block);
    guard.lock();
    end_ = std::move(*s.end);
    for (auto& block : s.blocks) free_.push_back(std::move(block));
    stretches_.pop_front();
    changed_.notify_all();
    return true;
}

bool SplitSteps::follow_next(unsigned thread, std::unique_lock<std::mutex>& guard) {
    for (std::size_t i = 0; i < stretches_.size(); ++i) {
        Stretch& s = *stretches_[i];
        if (s.state != Stretch::State::waiting || s.taken) continue;
        const bool known = i == 0 || stretches_[i - 1]->state == Stretch::State::certain;
        if (!known && !s.guess) continue;
        if (known) s.guess.reset();
        StepPipe from = !known ? *s.guess : i == 0 ? end_ : *stretches_[i - 1]->end;
        s.taken = true;
        guard.unlock();
        follow(followers_[thread], s, std::move(from));
        guard.lock();
        s.taken = false;
        s.state = Stretch::State::followed;
        changed_.notify_all();
        return true;
    }
    return false;
}

void SplitSteps::follow(Follower& by, Stretch& s, StepPipe pipe) {
    by.stretch = &s;
    for (const Op& op : s.ops) tell(op, s, pipe, *by.log);
    by.log->flush();
    by.stretch = nullptr;
    s.end = std::move(pipe);
}

std::unique_ptr<StepBlock> SplitSteps::another_block(std::unique_ptr<StepBlock> full, Stretch& s) {
    s.blocks.push_back(std::move(full));
    {
        const std::lock_guard guard(lock_);
        if (!free_.empty()) {
            auto block = std::move(free_.back());
            free_.pop_back();
            return block;
        }
    }
    return std::make_unique<StepBlock>(work_.block_items);
}

// Once more, from where it does begin.
void SplitSteps::repeat(Stretch& s) {
    ++repeated_;
    if (too_often_.begins.empty()) too_often_ = RunCounts(code_->slot_count());
    for (auto& block : s.blocks) {
        block->count(*code_, too_often_);
        free_.push_back(std::move(block));
    }
    s.blocks.clear();
    s.guess.reset();
    s.end.reset();
    s.state = Stretch::State::waiting;
}

// What was followed is certain once the one before ended where it was guessed to begin.
void SplitSteps::make_certain() {
    for (std::size_t i = 0; i < stretches_.size(); ++i) {
        Stretch& s = *stretches_[i];
        if (s.state == Stretch::State::certain) continue;
        if (s.state != Stretch::State::followed) return;
        if (s.guess) {
            const StepPipe& before = i == 0 ? end_ : *stretches_[i - 1]->end;
            if (!before.agrees(*s.guess, *s.end)) {
                repeat(s);
                correction_ = before;
                return;
            }
            for (auto& block : s.blocks) {
                for (StepTime& t : block->times) t.ticks |= t.assumed & before.last_stamp();
                for (StepBlock::Mark& m : block->marks) m.pipe->continue_from(before);
            }
            s.end->continue_from(before);
        }
        s.state = Stretch::State::certain;
    }
}

StepPipe SplitSteps::pipe() const {
    StepPipe all = end_;
    if (frames_) all.give_frames(*frames_);
    return all;
}

RunCounts SplitSteps::counts() {
    RunCounts all = followers_[0].log->counts();
    for (std::size_t i = 1; i < followers_.size(); ++i) all.add(followers_[i].log->counts());
    all.take_away(too_often_);
    return all;
}

}  // namespace mt
