#include "evidence/interplay_page.h"

#include <QBoxLayout>
#include <QHeaderView>
#include <QMenu>

#include <algorithm>

#include "base/text.h"
#include "look/filter_field.h"
#include "look/html.h"
#include "look/layout.h"
#include "look/table_text.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {
constexpr int kLaterMs = 250, kGrowingMs = 1000;

// Those with the most instances, in the order they had; nodes that nothing is left of go.
Interplay busiest(Interplay all, std::size_t most) {
    if (all.edges.size() <= most) return all;
    std::vector<std::uint64_t> counts;
    for (const InterplayEdge& e : all.edges) counts.push_back(e.count + e.failed);
    std::nth_element(counts.begin(), counts.begin() + static_cast<std::ptrdiff_t>(most), counts.end(),
                     std::greater<>());
    const std::uint64_t least = counts[most];
    std::erase_if(all.edges, [least](const InterplayEdge& e) { return e.count + e.failed <= least; });
    std::vector<std::size_t> place(all.nodes.size(), all.nodes.size());
    std::vector<InterplayNode> nodes;
    for (InterplayEdge& e : all.edges)
        for (std::size_t* n : {&e.from, &e.to}) {
            if (place[*n] == place.size()) {
                place[*n] = nodes.size();
                nodes.push_back(all.nodes[*n]);
            }
            *n = place[*n];
        }
    all.nodes = std::move(nodes);
    return all;
}

}  // namespace

int CallsModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(calls_.size());
}

QVariant CallsModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) return {};
    const InterplayCall& c = call(index.row());
    const InterplayEdge& e = of_.edges[c.edge];
    const bool number = index.column() == kTime || index.column() == kWaited;
    if (role == Qt::TextAlignmentRole) return QVariant(Qt::AlignVCenter | (number ? Qt::AlignRight : Qt::AlignLeft));
    if (role == Qt::FontRole) return number ? fixed_font(11) : text_font(11);
    if (role == Qt::ForegroundRole && c.outcome != InterplayCall::done) return theme().finding;
    if (role == kPlainRole) {
        if (index.column() == kTime) return words(ns_text(c.time));
        if (index.column() == kWaited) return c.waited.ps > 0 ? words(ns_text(c.waited)) : QString();
        return {};
    }
    if (role == kSortRole && index.column() == kTime) return QVariant::fromValue<qlonglong>(c.time.ps);
    if (role == kSortRole && index.column() == kWaited) return QVariant::fromValue<qlonglong>(c.waited.ps);
    if (role != Qt::DisplayRole && role != kSortRole) return {};
    switch (index.column()) {
        case kTime:
            return words(moment_text(c.time));
        case kWho:
            return words(of_.actor(e).name);
        case kDoes:
            return words(deed_word(e.deed));
        case kObject:
            return words(of_.object(e).name);
        case kWaited:
            return c.waited.ps > 0 ? words(duration_text(c.waited)) : QStringLiteral("–");
        default:
            return words(call_result(*trail_, of_, c));
    }
}

QVariant CallsModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal) return {};
    static const char* const kHeadings[] = {QT_TR_NOOP("time"),   QT_TR_NOOP("who"),    QT_TR_NOOP("does"),
                                            QT_TR_NOOP("object"), QT_TR_NOOP("waited"), QT_TR_NOOP("result")};
    if (role == Qt::DisplayRole)  // room for the arrow of the order behind figures
        return tr(kHeadings[section]) + (section == kTime || section == kWaited ? QStringLiteral("   ") : QString());
    if (role == kUnitRole) return section == kTime || section == kWaited ? QStringLiteral("ns") : QString();
    if (role == Qt::TextAlignmentRole)
        return QVariant(Qt::AlignVCenter | (section == kTime || section == kWaited ? Qt::AlignRight : Qt::AlignLeft));
    return {};
}

void CallsModel::set(std::shared_ptr<const Trail> trail, Interplay of, std::vector<InterplayCall> calls) {
    beginResetModel();
    trail_ = std::move(trail);
    of_ = std::move(of);
    calls_ = std::move(calls);
    endResetModel();
}

InterplayPage::InterplayPage(Document& document, Viewpoint& view, Navigator& navigator, QWidget* parent)
    : QWidget(parent), document_(document), view_(view), navigator_(navigator), model_(new CallsModel(this)) {
    setAccessibleName(tr("Interplay"));
    picture_ = new InterplayPicture;
    picture_->setObjectName("interplay_picture");
    hint_ = new QLabel;
    hint_->setFont(text_font(11));
    heading_ = new QLabel;
    heading_->setObjectName("interplay_heading");
    heading_->setFont(text_font(11));
    heading_->setMinimumWidth(60);
    in_view_ = new QToolButton;
    in_view_->setText(tr("Only what is in view"));
    in_view_->setObjectName("interplay_in_view");
    in_view_->setToolTip(tr("Counts what lies in the stretch that the lanes show, in place of the whole recording"));
    in_view_->setCheckable(true);
    filter_ = filter_field("interplay_filter", tr("Filter calls"), tr("Filter calls by any of their texts"), 160);
    sorted_ = filtered(model_, this);
    sorted_->setSortRole(CallsModel::kSortRole);
    calls_ = new QTableView;
    calls_->setObjectName("interplay_calls");
    calls_->setAccessibleName(tr("Calls one by one"));
    calls_->setModel(sorted_);
    calls_->setSortingEnabled(true);
    dress_table(*calls_);
    calls_->horizontalHeader()->setStretchLastSection(true);
    calls_->sortByColumn(CallsModel::kTime, Qt::AscendingOrder);
    constexpr int kWidths[] = {136, 92, 60, 104, 76};
    for (int c = 0; c < CallsModel::kResult; ++c) calls_->setColumnWidth(c, kWidths[c]);
    give_table_menu(*calls_, "interplay");

    auto* split = new QSplitter(Qt::Horizontal);
    split->setHandleWidth(1);
    split->setChildrenCollapsible(false);
    // Two halves: a line with something at its right, and what fills the rest.
    const auto add_half = [split](QLabel* line, QWidget* at_right, QWidget* rest, const QMargins& margins) {
        auto* half = new QWidget;
        auto* column = bare_column(half, 3);
        column->setContentsMargins(margins);
        auto* top = new QHBoxLayout;
        top->addWidget(line, 1);
        top->addWidget(at_right);
        column->addLayout(top);
        column->addWidget(rest, 1);
        split->addWidget(half);
    };
    add_half(hint_, in_view_, picture_, {12, 4, 4, 4});
    add_half(heading_, filter_, calls_, {4, 4, 12, 4});
    split->setStretchFactor(0, 3);
    split->setStretchFactor(1, 2);
    split->setSizes({800, 460});
    bare_column(this)->addWidget(split);

    later_.setSingleShot(true);
    connect(&later_, &QTimer::timeout, this, &InterplayPage::make);
    connect(in_view_, &QToolButton::toggled, this, &InterplayPage::want);
    connect(&view, &Viewpoint::window_changed, this, [this] {
        if (in_view_->isChecked()) want();
    });
    connect(&document, &Document::opened, this, [this] {
        for (const auto& p : {making_, listing_})
            if (p) p->cancel();
        busy_ = false;
        trail_.reset();
        model_->set(nullptr, {}, {});
        picture_->show({}, {});
        want();
    });
    for (const auto signal : {&Document::grew, &Document::finished})
        connect(&document, signal, this, &InterplayPage::want);
    connect(filter_, &QLineEdit::textChanged, sorted_, &QSortFilterProxyModel::setFilterFixedString);
    connect(picture_, &InterplayPicture::selected, this, [this] {
        list_selected();
        if (const auto node = picture_->node(); node && picture_->interplay().nodes[*node].lane) {
            own_ = true;
            view_.select(Selection(picture_->interplay().nodes[*node].lane));
            own_ = false;
        }
    });
    connect(picture_, &InterplayPicture::worst_wanted, this, &InterplayPage::go_to_worst);
    connect(picture_, &InterplayPicture::node_wanted, this, [this](std::size_t node) {
        const LaneId lane = picture_->interplay().nodes[node].lane;
        if (!lane) return;
        view_.select(Selection(lane));
        navigator_.go_to_longest();
    });
    connect(picture_, &InterplayPicture::menu_wanted, this, &InterplayPage::menu);
    connect(&view, &Viewpoint::selection_changed, this, &InterplayPage::follow_selection);
    connect(&view, &Viewpoint::colours_changed, this, [this] { hint_->update(); });
    connect(calls_->selectionModel(), &QItemSelectionModel::currentRowChanged, this, [this](const QModelIndex& now) {
        if (now.isValid()) view_.set_cursor(model_->call(sorted_->mapToSource(now).row()).time);
    });
    connect(calls_, &QTableView::activated, this, [this](const QModelIndex& index) {
        const int row = sorted_->mapToSource(index).row();
        const InterplayCall& c = model_->call(row);
        if (const LaneId lane = model_->actor(row).lane) view_.select(Selection(lane));
        if (c.waited.ps > 0)
            navigator_.go_to(c.time - c.waited - Time{c.waited.ps / 4}, c.time + Time{c.waited.ps / 4}, c.time);
        else
            navigator_.go_to(c.time);
    });
    list_selected();
}

InterplayPage::~InterplayPage() {
    for (const auto& p : {making_, listing_})
        if (p) p->cancel();
    jobs_.clear();
}

bool InterplayPage::has_something() const {
    const auto trail = document_.trail();
    return trail && tells_interplay(*trail);
}

void InterplayPage::set_in_view(bool on) { in_view_->setChecked(on); }

void InterplayPage::showEvent(QShowEvent*) {
    if (stale_) want();
}

template <class F>
void InterplayPage::post(std::shared_ptr<Progress> progress, F what) {
    QMetaObject::invokeMethod(
        this,
        [progress = std::move(progress), what = std::move(what)]() mutable {
            if (!progress->cancelled()) what();
        },
        Qt::QueuedConnection);
}

// While a recording is made, or decoded, not oftener than eyes can follow.
void InterplayPage::want() {
    stale_ = true;
    if (isVisible() && !later_.isActive() && !busy_)
        later_.start(!trail_                                ? 0
                     : document_.busy() || document_.live() ? std::max(kGrowingMs, 3 * took_ms_)
                                                            : kLaterMs);
}

void InterplayPage::make() {
    const auto trail = document_.trail();
    if (!trail || !isVisible()) return;
    stale_ = false;
    busy_ = true;
    since_.start();
    making_ = std::make_shared<Progress>();
    const bool part = in_view_->isChecked();
    const Time from = part ? view_.from() : Time{}, to = part ? view_.to() : trail->end;
    picture_->set_empty_text(tr("Counting…"));
    jobs_.add([this, trail, from, to, progress = making_] {
        Interplay all = mt::interplay(*trail, from, to, *progress);
        post(progress, [this, trail, all = std::move(all)]() mutable { take(trail, std::move(all)); });
    });
}

void InterplayPage::take(std::shared_ptr<const Trail> trail, Interplay all) {
    const std::size_t ways = all.edges.size();
    trail_ = std::move(trail);
    Interplay shown = busiest(std::move(all), kMostEdges);
    hint_->setText(ways == 0 ? QString()
                   : shown.edges.size() < ways
                       ? tr("The %1 busiest of %2 relations.").arg(shown.edges.size()).arg(ways)
                       : tr("%1 relations between %2 participants.").arg(ways).arg(shown.nodes.size()));
    GraphSizes sizes = picture_->sizes_of(shown);
    if (sizes == sizes_ && where_.across.whole) return arranged(std::move(shown), where_);
    sizes_ = sizes;
    jobs_.add([this, sizes = std::move(sizes), shown = std::move(shown), progress = making_]() mutable {
        InterplayPicture::Arrangements where{arrange(sizes), {}};
        sizes.downwards = true;
        if (where.across.whole) where.down = arrange(sizes);
        post(progress, [this, shown = std::move(shown), where = std::move(where)]() mutable {
            where_ = where;
            arranged(std::move(shown), std::move(where));
        });
    });
}

void InterplayPage::arranged(Interplay shown, InterplayPicture::Arrangements where) {
    busy_ = false;
    took_ms_ = static_cast<int>(std::min<qint64>(since_.elapsed(), 20'000));
    picture_->set_empty_text(shown.edges.empty() ? tr("Nobody acted on anybody in this stretch.")
                                                 : tr("This could not be laid out."));
    const bool whole = where.across.whole;
    picture_->show(whole ? std::move(shown) : Interplay{}, whole ? std::move(where) : InterplayPicture::Arrangements{});
    follow_selection();
    list_selected();
    if (stale_) want();
}

// All of one edge, or everything that one node did and that was done to it.
void InterplayPage::list_selected() {
    if (listing_) listing_->cancel();
    const Interplay& of = picture_->interplay();
    std::vector<std::size_t> edges;
    if (const auto edge = picture_->edge()) edges.push_back(*edge);
    if (const auto node = picture_->node())
        for (std::size_t i = 0; i < of.edges.size(); ++i)
            if (of.edges[i].from == *node || of.edges[i].to == *node) edges.push_back(i);
    if (edges.empty() || !trail_) {
        model_->set(nullptr, {}, {});
        heading_->setText(tr("A click on an edge or a node lists what is behind it."));
        return;
    }
    std::uint64_t count = 0;
    for (const std::size_t i : edges) count += of.edges[i].count + of.edges[i].failed;
    const InterplayEdge& first = of.edges[edges[0]];
    const QString what = picture_->edge() ? QString("%1 %2 %3")
                                                .arg(words(of.nodes[first.from].name), words(deed_text(first.deed)),
                                                     words(of.nodes[first.to].name))
                                          : words(of.nodes[*picture_->node()].name);
    heading_->setText(tr("<b>%1</b>: %2").arg(escaped(what), escaped(words(plural(count, "call", "calls")))));
    listing_ = std::make_shared<Progress>();
    jobs_.add(
        [this, trail = trail_, of, edges, what, progress = listing_]() mutable {
            auto calls = interplay_calls(*trail, of, edges, kMostCalls, *progress);
            post(progress, [this, trail, of = std::move(of), edges, what, calls = std::move(calls)]() mutable {
                const bool cut = std::any_of(edges.begin(), edges.end(), [&](std::size_t i) {
                    return of.edges[i].count + of.edges[i].failed > kMostCalls;
                });
                if (cut)
                    heading_->setText(
                        tr("<b>%1</b>: the first %2 of each kind; look at a shorter stretch for the others")
                            .arg(escaped(what), escaped(words(count_text(kMostCalls)))));
                model_->set(trail, std::move(of), std::move(calls));
                restore_columns(*calls_, "interplay");
                if (edges.size() == 1)  // the same in every row
                    for (const int c : {CallsModel::kWho, CallsModel::kDoes, CallsModel::kObject})
                        calls_->setColumnHidden(c, true);
            });
        },
        true);
}

// What is selected elsewhere stands out here.
void InterplayPage::follow_selection() {
    if (own_ || picture_->edge()) return;
    const Interplay& of = picture_->interplay();
    for (std::size_t i = 0; i < of.nodes.size(); ++i)
        if (of.nodes[i].lane && of.nodes[i].lane == view_.selection().lane) {
            if (picture_->node() == i) return;
            picture_->select_node(i);
            return list_selected();
        }
}

void InterplayPage::go_to_worst(std::size_t edge) {
    const Interplay& of = picture_->interplay();
    const InterplayEdge& e = of.edges[edge];
    const InterplayNode& actor = of.actor(e);
    if (actor.lane) view_.select(Selection(actor.lane));
    const Time room{(e.worst_to - e.worst_from).ps / 4};
    if (e.waits > 0)
        navigator_.go_to(e.worst_from - room, e.worst_to + room, e.worst_to);
    else
        navigator_.go_to(e.worst_from);
}

void InterplayPage::menu(const QPoint& at) {
    QMenu menu;
    if (const auto edge = picture_->edge()) {
        const bool waits = picture_->interplay().edges[*edge].waits > 0;
        menu.addAction(waits ? tr("Go to the longest wait") : tr("Go to the first"), this,
                       [this, edge] { go_to_worst(*edge); });
        menu.addSeparator();
    }
    if (const auto node = picture_->node(); node && picture_->interplay().nodes[*node].lane) {
        menu.addAction(tr("Go to its longest"), this, [this, node] { emit picture_->node_wanted(*node); });
        menu.addSeparator();
    }
    menu.addAction(tr("Fit into the view"), picture_, &InterplayPicture::fit);
    menu.addAction(tr("Only what is in view"), this, [this] { in_view_->toggle(); })->setCheckable(true);
    menu.actions().last()->setChecked(in_view_->isChecked());
    menu.exec(at);
}

}  // namespace mt::app
