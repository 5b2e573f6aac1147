#include "document/analysis.h"

#include <QMetaObject>

#include <algorithm>

#include "measure/kinds/kinds.h"

namespace mt::app {
namespace {
constexpr std::chrono::milliseconds kFollowEvery{1000};
}  // namespace

Analysis::Analysis(QObject* parent) : QObject(parent) {}
Analysis::~Analysis() { give_up(); }

template <class F>
void Analysis::post(std::shared_ptr<Progress> progress, F what) {
    QMetaObject::invokeMethod(
        this,
        [progress = std::move(progress), what = std::move(what)]() mutable {
            if (!progress->cancelled()) what();
        },
        Qt::QueuedConnection);
}

const std::vector<MeasuredRow>& Analysis::figures(const LaneKind& kind) const {
    static const std::vector<MeasuredRow> none;
    const auto found = figures_.find(&kind);
    return found == figures_.end() ? none : found->second;
}

const MeasuredRow* Analysis::figures(const LaneKind& kind, std::uint64_t activity) const {
    const auto& rows = figures(kind);
    const auto found =
        std::find_if(rows.begin(), rows.end(), [activity](const MeasuredRow& r) { return r.activity == activity; });
    return found == rows.end() ? nullptr : &*found;
}

void Analysis::give_up() {
    if (progress_) progress_->cancel();
    jobs_.clear();
    following_ = false;
}

void Analysis::clear() {
    give_up();
    progress_ = std::make_shared<Progress>();
    findings_.clear();
    figures_.clear();
    clock_ = ClockCheck::unchecked;
}

void Analysis::work_out(std::shared_ptr<const Recording> recording, std::shared_ptr<const Trail> trail) {
    clear();
    jobs_.add([this, recording = std::move(recording), trail = std::move(trail), progress = progress_] {
        try {
            auto findings = find_all(*recording, *trail, progress.get());
            if (progress->cancelled()) return;
            const ClockCheck clock = trail->cores.empty() ? ClockCheck::unchecked : clock_check(*trail, 0);
            const Measured of{*trail, recording->functions, {}, progress.get()};
            Figures figures;
            for (const LaneKind* kind : LaneKinds::all())
                if (!kind->takes_long()) figures[kind] = kind->rows(of);
            post(progress, [this, figures = std::move(figures), clock, findings = std::move(findings)]() mutable {
                clock_ = clock;
                figures_ = std::move(figures);
                findings_ = std::move(findings);
                emit judged();
            });
            for (const LaneKind* kind : LaneKinds::all()) {
                if (progress->cancelled()) return;
                if (!kind->takes_long() || !kind->told(*trail)) continue;
                post(progress, [this, kind, rows = kind->rows(of)]() mutable {
                    figures_[kind] = std::move(rows);
                    emit measured();
                });
            }
        } catch (const std::exception& e) {
            post(progress, [this, why = QString::fromLocal8Bit(e.what())] { emit failed(why); });
        }
    });
}

void Analysis::follow(std::shared_ptr<const Recording> recording, std::shared_ptr<const Trail> trail) {
    const auto now = std::chrono::steady_clock::now();
    if (following_ || looked_at_.empty() || now - followed_ < kFollowEvery || !progress_) return;
    followed_ = now;
    following_ = true;
    jobs_.add(
        [this, recording = std::move(recording), trail = std::move(trail), kinds = looked_at_, progress = progress_] {
            const Measured of{*trail, recording->functions};
            Figures figures;
            for (const LaneKind* kind : kinds) figures[kind] = kind->rows(of);
            post(progress, [this, figures = std::move(figures)]() mutable {
                following_ = false;
                for (auto& [kind, rows] : figures) figures_[kind] = std::move(rows);
                emit measured();
            });
        });
}

}  // namespace mt::app
