#include "evidence/call_tree.h"

#include <QClipboard>
#include <QCompleter>
#include <QGuiApplication>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QPainter>
#include <QShortcut>
#include <QStyledItemDelegate>
#include <QVBoxLayout>

#include <deque>
#include <functional>

#include "base/text.h"
#include "look/layout.h"
#include "look/shapes.h"
#include "look/theme.h"
#include "look/words.h"

namespace mt::app {
namespace {

constexpr int kShareRole = Qt::UserRole;
enum Column { kName, kWithCallees, kShare, kOwn, kCalls, kInstructions, kColumns };

// A share as a bar below its figure.
class ShareBar : public QStyledItemDelegate {
  public:
    using QStyledItemDelegate::QStyledItemDelegate;
    void paint(QPainter* p, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
        QStyledItemDelegate::paint(p, option, index);
        draw_share(*p, option.rect, index.data(kShareRole).toDouble());
    }
};

}  // namespace

struct CallTreeModel::Node {
    CallPaths::Item item;
    Node* parent = nullptr;
    int row = 0;
    bool unfolded = false;
    std::vector<std::unique_ptr<Node>> children;
};

CallTreeModel::CallTreeModel(QObject* parent) : QAbstractItemModel(parent) {}
CallTreeModel::~CallTreeModel() = default;

CallTreeModel::Node* CallTreeModel::node_of(const QModelIndex& index) const {
    return index.isValid() ? static_cast<Node*>(index.internalPointer()) : root_.get();
}

void CallTreeModel::unfold(Node& node) const {
    if (node.unfolded || !paths_) return;
    node.unfolded = true;
    std::vector<CallPaths::Item> items;
    if (&node != root_.get())
        items = walk_ == CallWalk::callers ? paths_->callers(node.item) : paths_->callees(node.item);
    else if (walk_ == CallWalk::down)
        items = paths_->roots();
    else if (node.item.function != 0 || !node.item.nodes.empty())
        items.push_back(node.item);
    for (auto& item : items) {
        auto child = std::make_unique<Node>();
        child->item = std::move(item);
        child->parent = &node;
        child->row = static_cast<int>(node.children.size());
        node.children.push_back(std::move(child));
    }
}

void CallTreeModel::show(std::shared_ptr<const Trail> trail, std::size_t stream, CallWalk walk,
                         std::optional<std::uint32_t> function) {
    beginResetModel();
    trail_ = std::move(trail);
    stream_ = stream;
    walk_ = walk;
    paths_.reset();
    root_ = std::make_unique<Node>();
    whole_ = {};
    if (trail_ && stream_ < trail_->steps.size()) {
        paths_ = std::make_unique<CallPaths>(trail_->steps[stream_]);
        for (const auto& root : paths_->roots()) whole_ += root.inclusive;
        if (function) root_->item = paths_->of(*function);
    }
    endResetModel();
}

QModelIndex CallTreeModel::index(int row, int column, const QModelIndex& parent) const {
    Node* node = node_of(parent);
    if (node == nullptr || row < 0 || row >= rowCount(parent)) return {};
    return createIndex(row, column, node->children[static_cast<std::size_t>(row)].get());
}

QModelIndex CallTreeModel::parent(const QModelIndex& index) const {
    if (!index.isValid()) return {};
    Node* up = node_of(index)->parent;
    return up == nullptr || up == root_.get() ? QModelIndex() : createIndex(up->row, 0, up);
}

int CallTreeModel::rowCount(const QModelIndex& parent) const {
    if (parent.column() > 0) return 0;
    Node* node = node_of(parent);
    if (node == nullptr) return 0;
    unfold(*node);
    return static_cast<int>(node->children.size());
}

int CallTreeModel::columnCount(const QModelIndex&) const { return kColumns; }

std::uint32_t CallTreeModel::function_of(const QModelIndex& index) const { return node_of(index)->item.function; }

QVariant CallTreeModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) return {};
    const CallPaths::Item& item = node_of(index)->item;
    const StepTrail& steps = trail_->steps[stream_];
    const double share = whole_.ps > 0 ? double(item.inclusive.ps) / double(whole_.ps) : 0;
    if (role == Qt::DisplayRole) switch (index.column()) {
            case kName:
                return words((*steps.functions)[item.function].name);
            case kWithCallees:
                return words(duration_text(item.inclusive));
            case kShare:
                return words(share_text(share));
            case kOwn:
                return words(duration_text(item.own));
            case kCalls:
                return words(count_text(item.calls + item.left_out));
            default:
                return words(count_text(item.steps));
        }
    if (role == kShareRole) return share;
    if (role == Qt::TextAlignmentRole)
        return QVariant(Qt::AlignVCenter | (index.column() == kName ? Qt::AlignLeft : Qt::AlignRight));
    if (role == Qt::FontRole) return index.column() == kName ? text_font(12, true) : fixed_font(11);
    if (role == Qt::ToolTipRole && index.column() == kName) {
        const Function& f = (*steps.functions)[item.function];
        return f.file.empty() ? QVariant() : QVariant(words(f.file) + ":" + QString::number(f.line));
    }
    return {};
}

QVariant CallTreeModel::headerData(int section, Qt::Orientation orientation, int role) const {
    static const char* const headings[] = {QT_TR_NOOP("function"), QT_TR_NOOP("inclusive"), QT_TR_NOOP("share"),
                                           QT_TR_NOOP("own"),      QT_TR_NOOP("calls"),     QT_TR_NOOP("instructions")};
    if (orientation != Qt::Horizontal) return {};
    if (role == Qt::DisplayRole) return tr(headings[section]);
    if (role == Qt::TextAlignmentRole)
        return QVariant(Qt::AlignVCenter | (section == kName ? Qt::AlignLeft : Qt::AlignRight));
    return {};
}

CallTree::CallTree(Document& document, QWidget* parent)
    : QWidget(parent), document_(document), model_(new CallTreeModel(this)) {
    setAccessibleName(tr("Call tree"));
    walk_ = new QComboBox;
    walk_->setObjectName("call_walk");
    walk_->addItems({tr("from the start down"), tr("who calls"), tr("whom calls")});
    function_edit_ = new QLineEdit;
    function_edit_->setObjectName("call_function");
    function_edit_->setAccessibleName(tr("Function whose callers or callees are shown"));
    function_edit_->setPlaceholderText(tr("function"));
    function_edit_->setMaximumWidth(220);
    hint_ = new QLabel;
    hint_->setFont(text_font(11));
    view_ = new QTreeView;
    view_->setObjectName("call_tree");
    view_->setAccessibleName(tr("Call tree"));
    view_->setModel(model_);
    view_->setUniformRowHeights(true);
    view_->setAlternatingRowColors(true);
    view_->setItemDelegateForColumn(kShare, new ShareBar(view_));
    view_->header()->setStretchLastSection(false);
    view_->setMinimumHeight(30);
    view_->setStyleSheet("QTreeView::item { height: 20px; }");
    auto* top = new QHBoxLayout;
    top->addWidget(walk_);
    top->addWidget(function_edit_);
    top->addWidget(hint_, 1);
    auto* column = column_in(this, {12, 4, 12, 4}, 3);
    column->addLayout(top);
    column->addWidget(view_, 1);
    connect(walk_, &QComboBox::activated, this, &CallTree::renew);
    connect(function_edit_, &QLineEdit::returnPressed, this, [this] {
        const auto trail = document_.trail();
        if (!trail || stream_ >= trail->steps.size()) return;
        const FunctionTable& table = *trail->steps[stream_].functions;
        for (std::uint32_t f = 0; f < table.size(); ++f)
            if (words(table[f].name).compare(function_edit_->text().trimmed(), Qt::CaseInsensitive) == 0) {
                function_ = f;
                if (walk_->currentIndex() == 0) walk_->setCurrentIndex(1);
                renew();
                return;
            }
        hint_->setText(tr("There is no function “%1”.").arg(function_edit_->text()));
    });
    connect(&document, &Document::opened, this, [this] {
        stream_ = 0;
        function_.reset();
        walk_->setCurrentIndex(0);
        renew();
    });
    connect(&document, &Document::finished, this, &CallTree::renew);
    connect(view_, &QTreeView::doubleClicked, this, [this](const QModelIndex& index) {
        const StepTrail& steps = document_.trail()->steps[stream_];
        emit function_chosen(words((*steps.functions)[model_->function_of(index)].name));
    });
    auto* copy = new QShortcut(QKeySequence::Copy, view_);
    copy->setContext(Qt::WidgetWithChildrenShortcut);
    connect(copy, &QShortcut::activated, this, [this] { QGuiApplication::clipboard()->setText(copied_text()); });
    renew();
}

void CallTree::set_walk(CallWalk walk) {
    walk_->setCurrentIndex(static_cast<int>(walk));
    renew();
}

void CallTree::use_stream(std::size_t stream) {
    if (stream == stream_) return;
    stream_ = stream;
    function_.reset();
    renew();
}

void CallTree::use_function(std::size_t stream, std::uint32_t function) {
    if (stream == stream_ && function_ == function) return;
    const bool other = stream != stream_;
    stream_ = stream;
    function_ = function;
    if (other || walk_->currentIndex() != 0)
        renew();
    else if (document_.trail()) {
        function_edit_->setText(words((*document_.trail()->steps[stream_].functions)[function].name));
        show_function();
    }
}

// From the start down: where it is called from the most, as far as that is found at once.
void CallTree::show_function() {
    constexpr std::size_t kMost = 20'000;
    if (walk_->currentIndex() != 0 || !function_) return;
    std::deque<QModelIndex> open = {QModelIndex()};
    for (std::size_t seen = 0; !open.empty() && seen < kMost;) {
        const QModelIndex at = open.front();
        open.pop_front();
        for (int row = 0; row < model_->rowCount(at) && seen < kMost; ++row, ++seen) {
            const QModelIndex child = model_->index(row, 0, at);
            if (model_->function_of(child) == *function_) {
                view_->setCurrentIndex(child);
                view_->scrollTo(child, QAbstractItemView::PositionAtCenter);
                return;
            }
            open.push_back(child);
        }
    }
}

void CallTree::renew() {
    const auto trail = document_.trail();
    const bool any = trail && stream_ < trail->steps.size();
    const auto walk = static_cast<CallWalk>(walk_->currentIndex());
    model_->show(any ? trail : nullptr, stream_, walk, function_);
    if (any) {
        const FunctionTable& table = *trail->steps[stream_].functions;
        QStringList names;
        for (std::uint32_t f = 0; f < table.size(); ++f) names << words(table[f].name);
        auto* completer = new QCompleter(names, function_edit_);
        completer->setCaseSensitivity(Qt::CaseInsensitive);
        completer->setFilterMode(Qt::MatchContains);
        function_edit_->setCompleter(completer);
        if (function_) function_edit_->setText(words(table[*function_].name));
    }
    view_->header()->setSectionResizeMode(kName, QHeaderView::Stretch);
    for (int c = 1; c < kColumns; ++c) view_->setColumnWidth(c, c == kShare ? 150 : 110);
    // Unfolded as far as one way leads.
    QModelIndex at = model_->index(0, 0);
    for (int depth = 0; at.isValid() && depth < 8; ++depth) {
        view_->expand(at);
        at = model_->index(0, 0, at);
    }
    show_function();
    hint_->setText(!any                                   ? tr("The call tree needs instruction trace.")
                   : walk != CallWalk::down && !function_ ? tr("Type a function, or click a call in the lanes.")
                   : walk == CallWalk::callers            ? tr("Times of the function, as called from there.")
                                                          : tr("A double click shows the longest call."));
}

QString CallTree::copied_text() const {
    QStringList lines;
    const std::function<void(const QModelIndex&, int)> add = [&](const QModelIndex& parent, int depth) {
        for (int row = 0; row < model_->rowCount(parent); ++row) {
            const QModelIndex first = model_->index(row, 0, parent);
            QStringList cells{QString(2 * depth, ' ') + first.data().toString()};
            for (int c = 1; c < kColumns; ++c) cells << model_->index(row, c, parent).data().toString();
            lines << cells.join('\t');
            if (view_->isExpanded(first)) add(first, depth + 1);
        }
    };
    add({}, 0);
    return lines.join('\n');
}

}  // namespace mt::app
