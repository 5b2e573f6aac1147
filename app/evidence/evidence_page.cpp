#include "evidence/evidence_page.h"

#include <QObject>

#include "look/words.h"
#include "model/trail.h"

namespace mt::app {

void EvidencePage::look_at_core(std::size_t core) {
    const auto all = streams();
    if (stream() < all.size() && all[stream()].core == core) return;
    for (std::size_t i = 0; i < all.size(); ++i)
        if (all[i].core == core) return use_stream(i);
}

void EvidencePage::find_text(const QString& text, bool forwards, std::function<void(const QString&)> done) {
    done(no_match(text, forwards));
}

std::vector<EvidencePage::Stream> EvidencePage::step_streams(const Trail* trail) {
    std::vector<Stream> all;
    if (trail != nullptr)
        for (const StepTrail& s : trail->steps) all.push_back({words(s.core), s.core_index});
    return all;
}

QString EvidencePage::no_match(const QString& text, bool forwards) {
    return forwards ? QObject::tr("No more matches for “%1”.").arg(text)
                    : QObject::tr("No earlier match for “%1”.").arg(text);
}

}  // namespace mt::app
