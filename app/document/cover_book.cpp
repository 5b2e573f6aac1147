#include "document/cover_book.h"

#include <QDateTime>
#include <QFileInfo>

#include <algorithm>

#include "base/text.h"
#include "look/words.h"
#include "pass/reading.h"

namespace mt::app {
namespace {

constexpr int kLiveMs = 1000;

CoverOf cover_of(const StepTrail& steps) { return {steps.code, steps.functions, CoverCounts::of(steps)}; }

const StepTrail* of_core(const Trail& trail, const std::string& core) {
    for (const StepTrail& s : trail.steps)
        if (s.core == core && s.counters) return &s;
    return nullptr;
}

}  // namespace

CoverBook::CoverBook(Document& document, QObject* parent) : QObject(parent), document_(document) {
    growth_timer_.setSingleShot(true);
    growth_timer_.setInterval(kLiveMs);
    connect(&growth_timer_, &QTimer::timeout, this, [this] { renew(); });
    connect(&document, &Document::opened, this, [this] {
        ++turn_;
        if (progress_) progress_->cancel();
        book_.reset();
        made_for_.reset();
        other_.clear();
        trouble_.clear();
        busy_ = false;
        emit changed();
    });
    connect(&document, &Document::finished, this, [this] { renew(); });
    // While a recording is made, once a second.
    connect(&document, &Document::grew, this, [this] {
        if (document_.live() && watched_ && !growth_timer_.isActive() && !busy_) growth_timer_.start();
    });
}

CoverBook::~CoverBook() {
    if (progress_) progress_->cancel();
}

void CoverBook::watch(bool on) {
    watched_ = on;
    if (on && made_for_ != document_.trail()) renew();
}

void CoverBook::use_store(const QString& path) {
    store_ = path;
    renew();
}
void CoverBook::add_to_store() { renew(true); }
void CoverBook::justify(const QString& place, const QString& reason, const QString& note) {
    renew(false, CoverStore::Reason{place.toStdString(), reason.toStdString(), note.toStdString()});
}
void CoverBook::use_other(const QString& path) {
    other_ = path;
    renew();
}
void CoverBook::set_growth_wanted(bool on) {
    if (growth_wanted_ == on) return;
    growth_wanted_ = on;
    renew();
}

Result<std::shared_ptr<CoverBook::Book>> CoverBook::made(const Wish& wish, Progress& progress) {
    auto book = std::make_shared<Book>();
    std::optional<CoverStore> store;
    bool within = false;  // the store has this recording already
    if (!wish.store.empty()) {
        auto opened = CoverStore::open(wish.store);
        if (!opened) return tl::make_unexpected(opened.error());
        store.emplace(std::move(*opened));
        const std::string made = QDateTime::currentDateTime().toString("yyyy-MM-dd hh:mm:ss").toStdString();
        for (const StepTrail& steps : wish.trail->steps)
            if (wish.add)
                if (auto kept = store->add(wish.input, made, steps.core, cover_of(steps)); !kept)
                    return tl::make_unexpected(kept.error());
        if (wish.reason)
            if (auto kept = store->justify(*wish.reason); !kept) return tl::make_unexpected(kept.error());
        if (wish.add || wish.reason)
            if (auto kept = store->keep(); !kept) return tl::make_unexpected(kept.error());
        const auto from = store->contributions();
        const auto reasons = store->reasons();
        if (!from) return tl::make_unexpected(from.error());
        if (!reasons) return tl::make_unexpected(reasons.error());
        book->contributions = *from;
        book->reasons = *reasons;
        within = std::any_of(from->begin(), from->end(), [&](const auto& c) { return c.input == wish.input; });
    }
    std::shared_ptr<const Trail> other;
    std::shared_ptr<const Recording> other_recording;
    if (!wish.other.empty()) {
        const auto opened = open_recording(wish.other);
        if (!opened) return tl::make_unexpected(opened.error());
        const auto read = read_trail(**opened, progress);
        if (!read) return tl::make_unexpected(read.error());
        other_recording = *opened;
        other = *read;
    }
    for (std::size_t i = 0; i < wish.trail->steps.size() && !progress.cancelled(); ++i) {
        const StepTrail& steps = wish.trail->steps[i];
        if (!steps.counters) continue;
        for (std::size_t g = 0; g < steps.gaps.size() && !book->gaps; ++g) book->gaps = is_missing(steps.gaps[g].gap.kind);
        const auto map = wish.recording->source_map(steps.core_index, *steps.code);
        Of of{i, steps.core, Coverage::of(steps.code, steps.functions, map, CoverCounts::of(steps)), {}, {}};
        if (other)
            if (const StepTrail* there = of_core(*other, steps.core))
                of.difference = cover_difference(of.coverage, cover_of(*there));
        if (store) {
            CoverOf all = cover_of(steps);
            if (within)
                for (auto* list : {&all.counts.executions, &all.counts.taken, &all.counts.undecided})
                    std::fill(list->begin(), list->end(), 0);
            const auto moved = store->sum_into(steps.core, all);
            if (!moved) return tl::make_unexpected(moved.error());
            for (const auto* names : {&moved->changed, &moved->gone})
                book->lost.insert(book->lost.end(), names->begin(), names->end());
            of.coverage = Coverage::of(steps.code, steps.functions, map, std::move(all.counts));
            for (std::string& text : justified_but_run(book->reasons, of.coverage))
                book->justified_but_run.push_back(std::move(text));
        }
        if (wish.growth) of.growth = cover_growth(*wish.recording, steps, progress);
        book->of.push_back(std::move(of));
    }
    return book;
}

// An image may be large, another recording too: a job looks at them.
void CoverBook::renew(bool add, std::optional<CoverStore::Reason> reason) {
    const auto trail = document_.trail();
    const bool asked = add || reason;
    if (!trail || trail->steps.empty() || (!watched_ && !asked)) return;
    if (std::none_of(trail->steps.begin(), trail->steps.end(), [](const StepTrail& s) { return s.counters != nullptr; }))
        return emit changed();
    if (asked && !trail->complete)
        return emit told(tr("The recording is not decoded to its end yet."), true);
    Wish wish{trail, document_.recording(), store_.toStdString(), {}, document_.recording()->input, false, add, std::move(reason)};
    // What takes long waits for the recording's end.
    if (trail->complete) {
        wish.other = other_.toStdString();
        wish.growth = growth_wanted_;
    }
    if (progress_) progress_->cancel();
    progress_ = std::make_shared<Progress>();
    made_for_ = trail;
    busy_ = true;
    const quint64 turn = ++turn_;
    if (!asked) jobs_.clear();
    emit changed();
    jobs_.add([this, turn, wish = std::move(wish), progress = progress_] {
        auto book = made(wish, *progress);
        QMetaObject::invokeMethod(
            this,
            [this, turn, book = std::move(book), asked = wish.add || wish.reason] {
                if (!book && asked) emit told(words(book.error().text()), true);
                if (turn != turn_) return;
                busy_ = false;
                trouble_ = book ? QString() : words(book.error().text());
                if (book) book_ = *book;
                if (book && asked) emit told(tr("Kept in %1.").arg(QFileInfo(store_).fileName()), false);
                emit changed();
            },
            Qt::QueuedConnection);
    });
}

}  // namespace mt::app
