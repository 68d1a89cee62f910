#include "app/shell/guide_view.h"

#include <QDir>
#include <QFile>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QRegularExpression>
#include <QTextBlock>
#include <QTextTable>
#include <QTimer>
#include <QToolButton>
#include <QVBoxLayout>

#include "app/shell/theme.h"
#include "bench/catalogue.h"

namespace bramix::app {

namespace {

enum Role { kPage = Qt::UserRole, kHeading };

QString folder() { return QString::fromStdString(bench::shareFolder()) + "/docs"; }

QString read(const QString& page)
{
    QFile file(folder() + "/" + page);
    return file.open(QIODevice::ReadOnly) ? QString::fromUtf8(file.readAll()) : QString();
}

QStringList pages()
{
    QStringList out{"user-guide.md"};
    for (const QString& name : QDir(folder()).entryList({"*.md"}, QDir::Files, QDir::Name))
        if (!out.contains(name))
            out << name;
    for (const QString& name : QDir(folder() + "/parts").entryList({"*.md"}, QDir::Files, QDir::Name))
        out << "parts/" + name;
    return out;
}

// Of the page as text: its headings with the words below each.
struct Section {
    QString heading, words;
};

std::vector<Section> sectionsOf(const QString& markdown)
{
    std::vector<Section> out(1);
    for (const QString& line : markdown.split('\n'))
        if (line.startsWith('#'))
            out.push_back({QString(line).remove(QRegularExpression("^#+ *")).remove('`'), {}});
        else
            out.back().words += line + '\n';
    return out;
}

}  // namespace

GuideView::GuideView(QWidget* parent) : QFrame(parent)
{
    setObjectName("guide");
    setAccessibleName(tr("User guide"));
    theme::dress(this, "QFrame#guide { background: @card; border-left: 2px solid @bramble; } QTextBrowser { background: @card; border: none; } QListWidget { background: @quiet; border-radius: 6px; }");
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(18, 12, 12, 12);
    auto* head = new QHBoxLayout;
    auto* title = new QLabel(tr("User guide"));
    title->setFont(theme::words(13, QFont::DemiBold));
    head->addWidget(title);
    search_ = new QLineEdit;
    search_->setObjectName("guideSearch");
    search_->setPlaceholderText(tr("Search the guide, the parts and the findings"));
    search_->setClearButtonEnabled(true);
    head->addWidget(search_, 1);
    auto* close = new QToolButton;
    close->setIcon(theme::icon("close"));
    close->setToolTip(tr("Close (Esc)"));
    close->setAccessibleName(tr("Close the guide"));
    head->addWidget(close);
    rows->addLayout(head);
    contents_ = new QListWidget;
    contents_->setAccessibleName(tr("Contents"));
    contents_->setObjectName("guideContents");
    contents_->setFont(theme::words(9));
    contents_->setWordWrap(true);
    contents_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    contents_->setResizeMode(QListView::Adjust);
    text_ = new QTextBrowser;
    text_->setFont(theme::words(9.6));
    text_->setOpenLinks(false);
    auto* columns = new QHBoxLayout;
    contents_->setFixedWidth(190);
    columns->addWidget(contents_);
    columns->addWidget(text_, 1);
    rows->addLayout(columns, 1);
    connect(close, &QToolButton::clicked, this, &QWidget::hide);
    connect(search_, &QLineEdit::textChanged, this, &GuideView::search);
    connect(search_, &QLineEdit::returnPressed, this, [this] {
        if (contents_->count() > 0)
            emit contents_->itemClicked(contents_->item(0));
    });
    const auto go = [this](QListWidgetItem* item) {
        if (const QString page = item->data(kPage).toString(); !page.isEmpty() && load(page))
            goToHeading(item->data(kHeading).toString());
    };
    connect(contents_, &QListWidget::itemClicked, this, go);
    connect(contents_, &QListWidget::itemActivated, this, go);
    connect(text_, &QTextBrowser::anchorClicked, this, [this](const QUrl& url) {
        const QString path = QDir::cleanPath(QFileInfo(page_).path() + "/" + url.path());
        if (url.scheme().isEmpty() && path.endsWith(".md"))
            openAt(path, QString(url.fragment()).replace('-', ' '));
    });
    hide();
}

void GuideView::place()
{
    const int wide = std::min(parentWidget()->width() - 60, 760);
    setGeometry(parentWidget()->width() - wide, 48, wide, parentWidget()->height() - 48);
}

void GuideView::openAt(const QString& page, const QString& heading)
{
    search_->clear();
    place();
    if (!load(page) && !load("user-guide.md"))
        text_->setPlainText(tr("The guide is not installed: there is no %1.").arg(folder() + "/user-guide.md"));
    listHeadings();
    show();
    raise();
    search_->setFocus();
    goToHeading(heading);
    // Once more when it has been laid out.
    QTimer::singleShot(0, this, [this, page, heading] {
        if (page_ == page)
            goToHeading(heading);
    });
}

bool GuideView::load(const QString& page)
{
    const QString markdown = read(page);
    if (markdown.isEmpty())
        return false;
    page_ = page;
    text_->document()->setBaseUrl(QUrl::fromLocalFile(folder() + "/" + page));
    text_->setMarkdown(markdown);
    dress();
    return true;
}

// Room above headings, and tables with thin lines.
void GuideView::dress()
{
    constexpr double kAboveTitle = 22, kAboveHeading = 14, kCell = 5;
    for (QTextBlock block = text_->document()->begin(); block.isValid(); block = block.next())
        if (const int level = block.blockFormat().headingLevel(); level > 0 && block.position() > 0) {
            QTextBlockFormat format = block.blockFormat();
            format.setTopMargin(level < 3 ? kAboveTitle : kAboveHeading);
            format.setBottomMargin(6);
            QTextCursor(block).setBlockFormat(format);
        }
    for (QTextFrame* frame : text_->document()->rootFrame()->childFrames())
        if (auto* table = qobject_cast<QTextTable*>(frame)) {
            QTextTableFormat format = table->format();
            format.setBorderCollapse(true);
            format.setBorder(1);
            format.setBorderBrush(theme::rule());
            format.setCellPadding(kCell);
            format.setCellSpacing(0);
            table->setFormat(format);
        }
}

void GuideView::listHeadings()
{
    contents_->clear();
    const auto add = [this](const QString& words, const QString& page, const QString& heading, bool strong) {
        auto* item = new QListWidgetItem(words, contents_);
        item->setFont(theme::words(9, strong ? QFont::DemiBold : QFont::Normal));
        item->setData(kPage, page);
        item->setData(kHeading, heading);
    };
    for (const Section& section : sectionsOf(read(page_)))
        if (!section.heading.isEmpty())
            add(section.heading, page_, section.heading, false);
    for (const QString& page : pages())
        if (page != page_ && !page.startsWith("parts/"))
            if (const auto sections = sectionsOf(read(page)); sections.size() > 1)
                add(sections[1].heading, page, {}, true);
}

// Sections that have all the words, those with them in the heading first.
void GuideView::search(const QString& typed)
{
    const QStringList words = typed.split(' ', Qt::SkipEmptyParts);
    if (words.isEmpty())
        return listHeadings();
    contents_->clear();
    const auto has = [&](const QString& text) { return std::all_of(words.begin(), words.end(), [&](const QString& w) { return text.contains(w, Qt::CaseInsensitive); }); };
    constexpr int kMost = 60;
    for (const bool inHeading : {true, false})
        for (const QString& page : pages()) {
            const auto sections = sectionsOf(read(page));
            const QString title = sections.size() > 1 ? sections[1].heading : page;
            for (const Section& section : sections) {
                if (contents_->count() >= kMost || has(section.heading) != inHeading || (!inHeading && !has(section.heading + " " + section.words)))
                    continue;
                auto* item = new QListWidgetItem(section.heading == title || section.heading.isEmpty() ? title : title + ": " + section.heading, contents_);
                item->setData(kPage, page);
                item->setData(kHeading, section.heading);
            }
        }
    if (contents_->count() == 0)
        contents_->addItem(tr("Nothing has these words"));
}

void GuideView::goToHeading(const QString& heading)
{
    const auto plain = [](const QString& text) { return QString(text).remove(QRegularExpression("[^\\w ]")).toLower().simplified(); };
    QTextCursor cursor(text_->document());
    for (QTextBlock block = text_->document()->begin(); block.isValid() && !heading.isEmpty(); block = block.next())
        if (block.blockFormat().headingLevel() > 0 && plain(block.text()) == plain(heading)) {
            cursor.setPosition(block.position());
            break;
        }
    // To the end first, so that the heading comes to stand at the top.
    text_->moveCursor(QTextCursor::End);
    text_->setTextCursor(cursor);
    if (heading.isEmpty())
        text_->moveCursor(QTextCursor::Start);
    text_->ensureCursorVisible();
}

void GuideView::keyPressEvent(QKeyEvent* event)
{
    if (event->key() == Qt::Key_Escape) {
        hide();
        parentWidget()->setFocus();
        return;
    }
    QFrame::keyPressEvent(event);
}

}  // namespace bramix::app
