#include "document/finding_list.h"

#include <algorithm>
#include <map>

#include "look/words.h"

namespace mt::app {
namespace {

bool has_text(const Finding& f, const QString& text) {
    if (text.isEmpty()) return true;
    const auto within = [&text](const std::string& s) { return words(s).contains(text, Qt::CaseInsensitive); };
    return within(f.title) || within(f.cause) || within(f.core) ||
           std::any_of(f.involved.begin(), f.involved.end(), [&](const Involved& i) { return within(i.name); });
}

}  // namespace

FindingList::FindingList(Document& document, QObject* parent) : QObject(parent), document_(document) {
    connect(&document, &Document::opened, this, [this] {
        kind_.clear();
        text_.clear();
        show_muted_ = false;
        take_muted();
        renew();
    });
    connect(&document, &Document::finished, this, &FindingList::renew);
}

QString FindingList::muted_file() const {
    return document_.recording() ? words(muted_path(document_.recording()->input)) : QString();
}

void FindingList::take_muted() {
    muted_ = {};
    if (!document_.recording() || document_.live()) return;
    auto read = read_muted(muted_file().toStdString());
    if (read)
        muted_ = std::move(*read);
    else
        emit failed(read.error());
}

void FindingList::renew() {
    const auto& findings = document_.findings();
    rows_.clear();
    muted_rows_ = 0;
    for (FindingGroup& group : in_groups(findings)) {
        const Finding& worst = findings[group.front()];
        const bool is_muted = muted_.find(worst) != nullptr;
        muted_rows_ += is_muted ? 1 : 0;
        if (is_muted && !show_muted_) continue;
        if (!kind_.isEmpty() && words(finding_kind_name(worst.kind)) != kind_) continue;
        if (!has_text(worst, text_)) continue;
        rows_.push_back({std::move(group), 0});
    }
    emit renewed();
}

std::optional<std::size_t> FindingList::row_of(std::size_t finding) const {
    for (std::size_t r = 0; r < rows_.size(); ++r)
        if (std::find(rows_[r].members.begin(), rows_[r].members.end(), finding) != rows_[r].members.end()) return r;
    return std::nullopt;
}

void FindingList::choose(std::size_t finding) {
    if (const auto row = row_of(finding); row) {
        const auto& members = rows_[*row].members;
        rows_[*row].at = static_cast<std::size_t>(std::find(members.begin(), members.end(), finding) - members.begin());
    }
}

std::size_t FindingList::next_place(std::size_t row, int direction) const {
    const Row& r = rows_[row];
    const std::size_t n = r.members.size();
    return r.members[(r.at + (direction > 0 ? 1 : n - 1)) % n];
}

std::vector<std::pair<std::string, std::size_t>> FindingList::kinds() const {
    std::map<std::string, std::size_t> counted;
    for (const FindingGroup& group : in_groups(document_.findings()))
        ++counted[std::string(finding_kind_name(document_.findings()[group.front()].kind))];
    return {counted.begin(), counted.end()};
}

void FindingList::set_filter(const QString& kind, const QString& text) {
    kind_ = kind;
    text_ = text.trimmed();
    renew();
}

QString FindingList::reason(std::size_t finding) const {
    const Mute* m = muted_.find(document_.findings()[finding]);
    return m == nullptr ? QString() : words(m->reason);
}

void FindingList::show_muted(bool on) {
    show_muted_ = on;
    renew();
}

Result<void> FindingList::mute(std::size_t row, const QString& reason) {
    Muted next = muted_;
    next.all.push_back(mute_of(document_.findings()[finding_of(row)], reason.trimmed().toStdString()));
    if (auto written = write_muted(next, muted_file().toStdString()); !written) return written;
    muted_ = std::move(next);
    renew();
    return {};
}

Result<void> FindingList::unmute(std::size_t row) {
    Muted next = muted_;
    const Finding& f = document_.findings()[finding_of(row)];
    std::erase_if(next.all, [&f](const Mute& m) { return Muted{{m}, {}}.find(f) != nullptr; });
    if (auto written = write_muted(next, muted_file().toStdString()); !written) return written;
    muted_ = std::move(next);
    renew();
    return {};
}

}  // namespace mt::app
