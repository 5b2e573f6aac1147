#include "shell/help.h"

#include <QAction>
#include <QFile>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QKeyEvent>
#include <QRegularExpression>
#include <QScrollBar>
#include <QShortcut>
#include <QSplitter>
#include <QTextBlock>
#include <QVBoxLayout>

#include <array>

#include "look/filter_field.h"
#include "look/table_text.h"
#include "look/theme.h"
#include "shell/commands.h"

// Has to stand outside of all namespaces.
static void load_documents() { Q_INIT_RESOURCE(resources); }

namespace mt::app {
namespace {

// What there is besides the menus.
struct Gesture {
    const char *where, *with, *does;
};
constexpr Gesture kGestures[] = {
    {QT_TR_NOOP("Lanes"), QT_TR_NOOP("wheel"), QT_TR_NOOP("zoom at the mouse")},
    {QT_TR_NOOP("Lanes"), QT_TR_NOOP("Shift+wheel, drag"), QT_TR_NOOP("pan")},
    {QT_TR_NOOP("Lanes"), QT_TR_NOOP("wheel over their names"), QT_TR_NOOP("scroll through the lanes")},
    {QT_TR_NOOP("Lanes"), QT_TR_NOOP("drag on the time scale"), QT_TR_NOOP("zoom to a stretch")},
    {QT_TR_NOOP("Lanes"), QT_TR_NOOP("click"), QT_TR_NOOP("select, and put the cursor; it snaps to begins and ends")},
    {QT_TR_NOOP("Lanes"), QT_TR_NOOP("double click"), QT_TR_NOOP("go to what is there")},
    {QT_TR_NOOP("Lanes"), QT_TR_NOOP("right click, Menu key"), QT_TR_NOOP("what one does with a lane and a moment")},
    {QT_TR_NOOP("Lanes"), QT_TR_NOOP("↑ ↓"),
     QT_TR_NOOP("the lane above and below; within calls the caller and the first callee")},
    {QT_TR_NOOP("Lanes"), QT_TR_NOOP("← →, Page Up, Page Down"), QT_TR_NOOP("pan")},
    {QT_TR_NOOP("Ridge"), QT_TR_NOOP("drag the frame or its sides"), QT_TR_NOOP("move and stretch what is visible")},
    {QT_TR_NOOP("Ridge"), QT_TR_NOOP("click"), QT_TR_NOOP("bring the frame there; on a cairn: go to its finding")},
    {QT_TR_NOOP("Findings"), QT_TR_NOOP("↑ ↓, Enter"), QT_TR_NOOP("choose one, and go to it")},
    {QT_TR_NOOP("Figures"), QT_TR_NOOP("click on a bar or a dot"), QT_TR_NOOP("go to what it stands for")},
    {QT_TR_NOOP("Evidence"), QT_TR_NOOP("double click on a tab"), QT_TR_NOOP("draw the page larger, and back")},
    {QT_TR_NOOP("Evidence"), QT_TR_NOOP("right click on a tab"), QT_TR_NOOP("put the page beside another")},
    {QT_TR_NOOP("Tables"), QT_TR_NOOP("click on a heading"), QT_TR_NOOP("sort; again: the other way round")},
    {QT_TR_NOOP("Tables"), QT_TR_NOOP("right click"), QT_TR_NOOP("copy values or as shown, choose the columns")},
    {QT_TR_NOOP("Tables"), QT_TR_NOOP("Ctrl+C"), QT_TR_NOOP("copy the selected rows, or all, as plain numbers")},
    {QT_TR_NOOP("Instructions"), QT_TR_NOOP("↑ ↓"), QT_TR_NOOP("the instruction before and after")},
    {QT_TR_NOOP("Instructions"), QT_TR_NOOP("Shift+↑ ↓"), QT_TR_NOOP("by source line")},
    {QT_TR_NOOP("Instructions"), QT_TR_NOOP("Alt+↑ ↓"), QT_TR_NOOP("by function")},
    {QT_TR_NOOP("Instructions"), QT_TR_NOOP("Ctrl+↑ ↓"),
     QT_TR_NOOP("to the instruction that called the function; behind its return")},
    {QT_TR_NOOP("Instructions"), QT_TR_NOOP("← →"),
     QT_TR_NOOP("fold and unfold: calls, functions, lines, instructions")},
    {QT_TR_NOOP("Source"), QT_TR_NOOP("double click on a row, Ctrl+↓"), QT_TR_NOOP("its next execution")},
    {QT_TR_NOOP("Source"), QT_TR_NOOP("Ctrl+↑"), QT_TR_NOOP("its previous execution")},
    {QT_TR_NOOP("Interplay"), QT_TR_NOOP("click"), QT_TR_NOOP("list what is behind an edge or a node")},
    {QT_TR_NOOP("Interplay"), QT_TR_NOOP("double click, Enter"), QT_TR_NOOP("go to the longest wait")},
    {QT_TR_NOOP("Interplay"), QT_TR_NOOP("← →"), QT_TR_NOOP("walk over the edges")},
    {QT_TR_NOOP("Interplay"), QT_TR_NOOP("wheel, + −, drag, 0"), QT_TR_NOOP("zoom, move, and fit again")},
    {QT_TR_NOOP("Search"), QT_TR_NOOP("↑ ↓, Enter, Esc"), QT_TR_NOOP("choose a hit, go there, leave")},
};

// The documents of the guide, one after the other.
constexpr std::array kPages = {"user-guide.md",          "recorder.md",
                               "formats/target-file.md", "formats/recipe.md",
                               "formats/tables.md",      "formats/recording-folder.md",
                               "formats/muted.md",       "formats/line-check.md",
                               "formats/os-events.md",   "formats/ring-buffer.md",
                               "formats/mapping-file.md"};

QString read(const QString& page) {
    QFile file(":/docs/" + page);
    return file.open(QIODevice::ReadOnly) ? QString::fromUtf8(file.readAll()) : QString();
}

// As links name a heading.
QString slug(QString heading) {
    heading = heading.toLower();
    heading.remove(QRegularExpression("[^\\w\\- ]"));
    return heading.replace(' ', '-');
}

}  // namespace

Help::Help(const Commands& commands, QWidget* parent) : QDialog(parent) {
    load_documents();
    setWindowTitle(tr("Help"));
    resize(900, 640);
    field_ = new QLineEdit;
    field_->setObjectName("help_search");
    field_->setPlaceholderText(tr("Search keys and guide"));
    field_->setAccessibleName(tr("Search keys and guide"));
    field_->setClearButtonEnabled(true);
    count_ = new QLabel;
    count_->setObjectName("help_count");
    tabs_ = new QTabWidget;
    tabs_->tabBar()->setDrawBase(false);

    model_ = new QStandardItemModel(0, 3, this);
    model_->setHorizontalHeaderLabels({tr("where"), tr("keys and mouse"), tr("does")});
    filtered_ = filtered(model_, this);
    keys_ = new QTableView;
    keys_->setObjectName("help_keys");
    keys_->setAccessibleName(tr("Keys and mouse"));
    keys_->setModel(filtered_);
    keys_->setSortingEnabled(true);
    keys_->sortByColumn(-1, Qt::AscendingOrder);  // as the menus have them
    dress_table(*keys_);
    keys_->horizontalHeader()->setStretchLastSection(true);
    keys_->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    keys_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    fill_keys(commands);
    keys_->setColumnWidth(0, 130);
    keys_->setColumnWidth(1, 230);
    give_table_menu(*keys_, "help");
    tabs_->addTab(keys_, tr("Keys and mouse"));

    headings_ = new QListWidget;
    headings_->setObjectName("help_headings");
    headings_->setAccessibleName(tr("Headings of the guide"));
    guide_ = new QTextBrowser;
    guide_->setObjectName("help_guide");
    guide_->setAccessibleName(tr("Guide"));
    guide_->setOpenLinks(false);
    guide_->setFrameShape(QFrame::NoFrame);
    fill_guide();
    auto* split = new QSplitter;
    split->setHandleWidth(1);
    split->addWidget(headings_);
    split->addWidget(guide_);
    split->setSizes({270, 630});
    tabs_->addTab(split, tr("Guide"));

    auto* top = new QHBoxLayout;
    top->addWidget(field_, 1);
    top->addWidget(count_);
    auto* column = new QVBoxLayout(this);
    column->addLayout(top);
    column->addWidget(tabs_, 1);
    connect(field_, &QLineEdit::textChanged, this, &Help::search);
    connect(field_, &QLineEdit::returnPressed, this, [this] { step(1); });
    auto* next = new QShortcut(QKeySequence(Qt::Key_F3), this);
    connect(next, &QShortcut::activated, this, [this] { step(1); });
    auto* previous = new QShortcut(QKeySequence(Qt::SHIFT | Qt::Key_F3), this);
    connect(previous, &QShortcut::activated, this, [this] { step(-1); });
    auto* find = new QShortcut(QKeySequence(Qt::CTRL | Qt::Key_F), this);
    connect(find, &QShortcut::activated, this, [this] { field_->setFocus(); });
    connect(headings_, &QListWidget::currentRowChanged, this, [this](int row) {
        if (row >= 0) show_block(headings_->item(row)->data(Qt::UserRole).toInt());
    });
    connect(guide_, &QTextBrowser::anchorClicked, this, &Help::follow);
    field_->setFocus();
}

void Help::fill_keys(const Commands& commands) {
    const auto add = [this](const QString& where, const QString& with, const QString& does) {
        QList<QStandardItem*> row;
        for (const QString& text : {where, with, does}) row << new QStandardItem(text);
        row[1]->setFont(text_font(12, true));
        model_->appendRow(row);
    };
    for (const QAction* a : commands.all()) {
        QStringList keys;
        for (const QKeySequence& k : a->shortcuts())
            if (const QString key = k.toString(QKeySequence::NativeText); !key.isEmpty()) keys << key;
        if (keys.isEmpty()) continue;
        QString name = a->text().remove('&');
        name.remove(QStringLiteral("…"));
        add(a->property("menu").toString(), keys.join(tr(" or ")),
            a->toolTip() == name ? name : name + ": " + a->toolTip());
    }
    for (const Gesture& g : kGestures) add(tr(g.where), tr(g.with), tr(g.does));
}

void Help::fill_guide() {
    QString all;
    for (const char* page : kPages) all += read(page) + "\n\n";
    all.remove(QRegularExpression("!\\[[^\\]]*\\]\\([^)]*\\)"));  // pictures are of the window that stands beside
    guide_->setFont(text_font(13));
    guide_->document()->setMarkdown(all, QTextDocument::MarkdownDialectGitHub);
    guide_->document()->setDocumentMargin(14);
    for (QTextBlock b = guide_->document()->begin(); b.isValid(); b = b.next())
        if (const int level = b.blockFormat().headingLevel(); level >= 1 && level <= 2) {
            auto* item = new QListWidgetItem(QString(level == 1 ? "%1" : "    %1").arg(b.text()));
            item->setFont(text_font(12, level == 1));
            item->setData(Qt::UserRole, b.blockNumber());
            headings_->addItem(item);
        }
}

void Help::show_block(int block) {
    const QTextBlock b = guide_->document()->findBlockByNumber(block);
    guide_->setTextCursor(QTextCursor(b));
    guide_->verticalScrollBar()->setValue(
        static_cast<int>(guide_->document()->documentLayout()->blockBoundingRect(b).top()));
}

// Links lead to a heading, to a document of the guide, or nowhere.
void Help::follow(const QUrl& link) {
    QString wanted = link.fragment();
    const QString path = link.path();
    if (!path.isEmpty() && wanted.isEmpty()) {
        const QString text = read(path.contains('/')                ? path
                                  : QFile::exists(":/docs/" + path) ? path
                                                                    : "formats/" + path);
        wanted = slug(text.section('\n', 0, 0).remove('#').trimmed());
    }
    if (wanted.isEmpty()) return;
    for (QTextBlock b = guide_->document()->begin(); b.isValid(); b = b.next())
        if (b.blockFormat().headingLevel() > 0 && slug(b.text()) == wanted) return show_block(b.blockNumber());
}

void Help::show_guide() {
    tabs_->setCurrentIndex(1);
    show_block(0);
}

void Help::search(const QString& text) {
    filtered_->setFilterFixedString(text.trimmed());
    matches_.clear();
    at_ = 0;
    if (const QString sought = text.trimmed(); sought.size() >= 2)
        for (QTextCursor c = guide_->document()->find(sought, 0); !c.isNull(); c = guide_->document()->find(sought, c))
            matches_ << c;
    const bool any = !text.trimmed().isEmpty();
    tabs_->setTabText(0, any ? tr("Keys and mouse (%1)").arg(filtered_->rowCount()) : tr("Keys and mouse"));
    tabs_->setTabText(1, any ? tr("Guide (%1)").arg(matches_.size()) : tr("Guide"));
    // Where nothing is left, the other page may have it.
    if (any && filtered_->rowCount() == 0 && !matches_.isEmpty()) tabs_->setCurrentIndex(1);
    mark();
}

void Help::step(int direction) {
    if (matches_.isEmpty()) return;
    tabs_->setCurrentIndex(1);
    at_ = (at_ + direction + matches_.size()) % matches_.size();
    mark();
}

void Help::mark() {
    QList<QTextEdit::ExtraSelection> all;
    for (qsizetype i = 0; i < matches_.size(); ++i) {
        QTextEdit::ExtraSelection s;
        s.cursor = matches_[i];
        s.format.setBackground(i == at_ ? theme().contour : theme().selected);
        all << s;
    }
    guide_->setExtraSelections(all);
    count_->setText(matches_.isEmpty() ? QString() : tr("%1 of %2 in the guide").arg(at_ + 1).arg(matches_.size()));
    if (matches_.isEmpty()) return;
    QTextCursor place = matches_[at_];
    place.clearSelection();
    guide_->setTextCursor(place);
    guide_->ensureCursorVisible();
}

}  // namespace mt::app
