#include "app/code/code_view.h"

#include <QContextMenuEvent>
#include <QHelpEvent>
#include <QPainter>
#include <QToolTip>
#include <Qsci/qscilexercpp.h>
#include <Qsci/qscilexermakefile.h>
#include <Qsci/qscistyle.h>
#include <Qsci/qscistyledtext.h>

#include "app/shell/theme.h"

namespace bramix::app {

namespace {

constexpr int kInstructionStyle = 60;  // beyond those of the lexers
constexpr int kNextStyle = 61;
constexpr int kCountStyle = 62;

QPixmap mark(const std::function<void(QPainter&)>& draw)
{
    // Scintilla centres the picture in its margin, pixel for pixel.
    QPixmap pixmap(18, 18);
    pixmap.fill(Qt::transparent);
    QPainter p(&pixmap);
    p.setRenderHint(QPainter::Antialiasing);
    p.translate(1, 1);
    draw(p);
    return pixmap;
}

}  // namespace

CodeView::CodeView(QWidget* parent) : QsciScintilla(parent)
{
    constexpr int kLetterAloneMs = 300;
    letter_.setSingleShot(true);
    letter_.setInterval(kLetterAloneMs);
    connect(&letter_, &QTimer::timeout, this, [this] { emit letterTyped(std::exchange(pending_, QString())); });
    setUtf8(true);
    setFrameShape(QFrame::NoFrame);
    setFont(theme::figures(9.6));
    setMarginsFont(theme::figures(8.6));
    setMarginType(kNumbers, SymbolMargin);
    setMarginType(kMarks, NumberMargin);
    setMarginType(kCounts, TextMarginRightJustified);
    setMarginWidth(kNumbers, 22);
    setMarginWidth(kMarks, "00000");
    setMarginWidth(kCounts, 0);
    setMarginSensitivity(kNumbers, true);
    setMarginSensitivity(kMarks, true);
    setMarginMarkerMask(kNumbers, (1 << kStop) | (1 << kStopOff) | (1 << kCode) | (1 << kHere) | (1 << kFrame));
    setMarginMarkerMask(kMarks, 0);
    setMarginMarkerMask(kCounts, 0);
    markerDefine(Background, kHereLine);
    markerDefine(Background, kFrameLine);
    setTabWidth(4);
    setIndentationsUseTabs(false);
    setAutoIndent(true);
    setBraceMatching(SloppyBraceMatch);
    setWrapMode(WrapNone);
    setScrollWidthTracking(true);
    setScrollWidth(1);
    setAnnotationDisplay(AnnotationStandard);
    setReadOnly(true);
    SendScintilla(SCI_SETEXTRAASCENT, 2);
    SendScintilla(SCI_SETEXTRADESCENT, 2);
    SendScintilla(SCI_SETMOUSEDWELLTIME, 350);
    connect(this, &QsciScintilla::marginClicked, this, [this](int margin, int line, Qt::KeyboardModifiers) {
        if (margin == kNumbers)
            emit stopClicked(line + 1);
        else
            emit unfoldClicked(line + 1);
    });
    connect(this, &QsciScintillaBase::SCN_DWELLSTART, this, [this](int, int x, int y) {
        const QString word = wordAt(QPoint(x, y));
        if (!word.isEmpty())
            emit hovered(word, mapToGlobal(QPoint(x, y)));
    });
    connect(this, &QsciScintillaBase::SCN_DWELLEND, this, [](int, int, int) { QToolTip::hideText(); });
    applyColours();
    connect(&theme::changes(), &theme::Changes::changed, this, &CodeView::applyColours);
}

void CodeView::setSource(const QString& text, const QString& suffix)
{
    QsciLexer* before = lexer();
    if (suffix == "mk") {
        setLexer(new QsciLexerMakefile(this));
    } else if (suffix == "asm") {
        setLexer(nullptr);
    } else {
        setLexer(new QsciLexerCPP(this));
    }
    delete before;
    setText(text);
    setModified(false);
    applyColours();
    clearAnnotations();
    unfolded_.clear();
    place_ = 0;
}

void CodeView::applyColours()
{
    markerDefine(mark([](QPainter& p) {
                     p.setPen(Qt::NoPen);
                     p.setBrush(theme::rust());
                     p.drawEllipse(QPointF(8, 8), 4.6, 4.6);
                 }),
                 kStop);
    markerDefine(mark([](QPainter& p) {
                     p.setPen(QPen(theme::rust(), 1.4));
                     p.setBrush(theme::card());
                     p.drawEllipse(QPointF(8, 8), 4.2, 4.2);
                 }),
                 kStopOff);
    markerDefine(mark([](QPainter& p) {
                     p.setPen(Qt::NoPen);
                     p.setBrush(theme::edge());
                     p.drawEllipse(QPointF(8, 8), 1.7, 1.7);
                 }),
                 kCode);
    const auto arrow = [](QPainter& p, bool full) {
        const QPointF points[] = {{11, 4}, {16, 8}, {11, 12}};
        p.setPen(QPen(theme::bramble(), 1.2));
        p.setBrush(full ? QBrush(theme::bramble()) : QBrush(theme::card()));
        p.drawPolygon(points, 3);
    };
    markerDefine(mark([&](QPainter& p) { arrow(p, true); }), kHere);
    markerDefine(mark([&](QPainter& p) { arrow(p, false); }), kFrame);
    setMarkerBackgroundColor(theme::changed(), kHereLine);
    setMarkerBackgroundColor(theme::quiet(), kFrameLine);
    setPaper(theme::card());
    setColor(theme::ink());
    setSelectionBackgroundColor(theme::selected());
    resetSelectionForegroundColor();
    setCaretForegroundColor(theme::bramble());
    setCaretLineBackgroundColor(theme::quiet());
    setMatchedBraceBackgroundColor(theme::hover());
    setMatchedBraceForegroundColor(theme::ink());
    setUnmatchedBraceForegroundColor(theme::rust());
    const QFont font = theme::figures(9.6);
    if (auto* cpp = qobject_cast<QsciLexerCPP*>(lexer())) {
        cpp->setDefaultFont(font);
        cpp->setDefaultPaper(theme::card());
        for (int style = 0; style < 128; ++style) {
            cpp->setFont(font, style);
            cpp->setPaper(theme::card(), style);
            cpp->setColor(theme::ink(), style);
        }
        for (const int style : {QsciLexerCPP::Comment, QsciLexerCPP::CommentLine, QsciLexerCPP::CommentDoc, QsciLexerCPP::CommentLineDoc})
            cpp->setColor(theme::comment(), style);
        cpp->setColor(theme::bramble(), QsciLexerCPP::Keyword);
        cpp->setColor(theme::bramble(), QsciLexerCPP::KeywordSet2);
        for (const int style : {QsciLexerCPP::DoubleQuotedString, QsciLexerCPP::SingleQuotedString})
            cpp->setColor(theme::quoted(), style);
        cpp->setColor(theme::number(), QsciLexerCPP::Number);
        cpp->setColor(theme::directive(), QsciLexerCPP::PreProcessor);
    }
    setMarginsBackgroundColor(theme::card());
    setMarginsForegroundColor(theme::faint());
    setMarginsFont(theme::figures(8.4));
    const auto style = [&](int number, const QColor& color, const QColor& paper) {
        SendScintilla(SCI_STYLESETFORE, number, color);
        SendScintilla(SCI_STYLESETBACK, number, paper);
        SendScintilla(SCI_STYLESETFONT, static_cast<unsigned long>(number), font.family().toUtf8().constData());
        SendScintilla(SCI_STYLESETSIZEFRACTIONAL, number, 880L);
    };
    style(kInstructionStyle, theme::muted(), theme::quiet());
    style(kNextStyle, theme::bramble(), theme::changed());
    style(kCountStyle, theme::count(), theme::card());
}

void CodeView::setEditing(bool editing)
{
    setReadOnly(!editing);
    setCaretLineVisible(editing);
}

void CodeView::setCodeLines(std::set<int> lines)
{
    if (lines == codeLines_)
        return;
    codeLines_ = std::move(lines);
    markerDeleteAll(kCode);
    for (const int line : codeLines_)
        markerAdd(line - 1, kCode);
}

void CodeView::setStops(const std::map<int, bool>& stops)
{
    markerDeleteAll(kStop);
    markerDeleteAll(kStopOff);
    for (const auto& [line, works] : stops)
        markerAdd(line - 1, works ? kStop : kStopOff);
}

void CodeView::setPlace(int line, bool top)
{
    for (const int m : {kHere, kFrame, kHereLine, kFrameLine})
        markerDeleteAll(m);
    if (line > 0) {
        markerAdd(line - 1, top ? kHere : kFrame);
        markerAdd(line - 1, top ? kHereLine : kFrameLine);
        if (line != place_)
            reveal(line);
    }
    place_ = line;
}

void CodeView::setCounts(const std::map<int, qint64>& counts)
{
    clearMarginText();
    setMarginWidth(kCounts, counts.empty() ? QString() : QString("00000000"));
    if (counts.empty())
        setMarginWidth(kCounts, 0);
    for (const auto& [line, count] : counts) {
        const QString text = count >= 10'000'000 ? QString("%1M").arg(count / 1'000'000) : count >= 100'000 ? QString("%1k").arg(count / 1000) : QString::number(count);
        setMarginText(line - 1, text, kCountStyle);
    }
}

void CodeView::setUnfolded(const std::map<int, QString>& unfolded)
{
    if (unfolded == unfolded_)
        return;
    for (const auto& [line, text] : unfolded_)
        if (!unfolded.contains(line))
            clearAnnotations(line - 1);
    for (const auto& [line, text] : unfolded) {
        const auto before = unfolded_.find(line);
        if (before != unfolded_.end() && before->second == text)
            continue;
        QList<QsciStyledText> rows;
        const QStringList lines = text.split('\n');
        for (qsizetype i = 0; i < lines.size(); ++i)
            rows << QsciStyledText(lines[i] + (i + 1 < lines.size() ? "\n" : ""), lines[i].startsWith(QChar(0x25B8)) ? kNextStyle : kInstructionStyle);
        annotate(line - 1, rows);
    }
    unfolded_ = unfolded;
}

void CodeView::reveal(int line)
{
    const int shown = static_cast<int>(SendScintilla(SCI_LINESONSCREEN));
    const int first = firstVisibleLine();
    const int at = static_cast<int>(SendScintilla(SCI_VISIBLEFROMDOCLINE, line - 1));
    if (at < first + 2 || at > first + shown - 4)
        setFirstVisibleLine(std::max(0, at - shown / 3));
    setCursorPosition(line - 1, 0);
    SendScintilla(SCI_SETXOFFSET, 0);
}

int CodeView::lineAtCursor() const
{
    int line = 0, index = 0;
    getCursorPosition(&line, &index);
    return line + 1;
}

// The name under the pointer, with what it is a member of: "gates[0].cm".
QString CodeView::wordAt(const QPoint& at) const
{
    const long position = SendScintilla(SCI_POSITIONFROMPOINTCLOSE, static_cast<unsigned long>(at.x()), static_cast<long>(at.y()));
    if (position < 0)
        return {};
    int line = 0, index = 0;
    lineIndexFromPosition(static_cast<int>(position), &line, &index);
    const QString row = text(line);
    const auto isName = [](QChar c) { return c.isLetterOrNumber() || c == '_'; };
    int begin = std::min<int>(index, static_cast<int>(row.size()) - 1), end = begin;
    if (begin < 0 || !isName(row[begin]))
        return {};
    while (end < row.size() && isName(row[end]))
        ++end;
    while (begin > 0) {
        if (isName(row[begin - 1])) {
            --begin;
        } else if (row[begin - 1] == '.' || (begin > 1 && row.mid(begin - 2, 2) == "->")) {
            begin -= row[begin - 1] == '.' ? 1 : 2;
        } else if (row[begin - 1] == ']') {
            const int open = static_cast<int>(row.lastIndexOf('[', begin - 1));
            if (open < 0)
                break;
            begin = open;
        } else {
            break;
        }
    }
    return row.mid(begin, end - begin);
}

namespace {

bool isLetter(const QKeyEvent& event)
{
    return !event.text().isEmpty() && event.text()[0].isLetterOrNumber() && (event.modifiers() & (Qt::ControlModifier | Qt::AltModifier | Qt::MetaModifier)) == 0;
}

}  // namespace

void CodeView::takeLetter(const QString& letter)
{
    if (!typed_.isEmpty() || letter_.isActive()) {
        letter_.stop();
        offerTyping(typed_ + pending_ + letter);
        pending_.clear();
        return;
    }
    if (!QStringLiteral("bgi").contains(letter)) {
        offerTyping(letter);
        return;
    }
    pending_ = letter;
    letter_.start();
}

void CodeView::offerTyping(const QString& typed)
{
    if (typed == typed_)
        return;
    typed_ = typed;
    emit typingSeen(typed);
}

void CodeView::keyPressEvent(QKeyEvent* event)
{
    if (isReadOnly()) {
        if (event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) {
            const QString typed = typed_;
            emit editingWanted();
            if (!isReadOnly() && !typed.isEmpty()) {
                insert(typed);
                int line = 0, index = 0;
                getCursorPosition(&line, &index);
                setCursorPosition(line, index + static_cast<int>(typed.size()));
            }
            offerTyping({});
            return;
        }
        if (event->key() == Qt::Key_Escape) {
            offerTyping({});
            return;
        }
        if (isLetter(*event)) {
            takeLetter(event->text());
            return;
        }
        // Marks are commands of the window.
        if (!event->text().isEmpty() && !(event->modifiers() & Qt::ControlModifier) && event->text()[0].isPrint()) {
            event->ignore();
            return;
        }
    } else if (event->key() == Qt::Key_Escape) {
        setEditing(false);
        emit editingEnded();
        return;
    }
    QsciScintilla::keyPressEvent(event);
}

bool CodeView::event(QEvent* event)
{
    // While reading, marks go to the window's commands, and letters are looked at here.
    if (event->type() == QEvent::ShortcutOverride && isReadOnly()) {
        event->setAccepted(isLetter(static_cast<QKeyEvent&>(*event)));
        return event->isAccepted();
    }
    return QsciScintilla::event(event);
}

void CodeView::mousePressEvent(QMouseEvent* event)
{
    offerTyping({});
    const QString word = event->button() == Qt::LeftButton && event->modifiers() == Qt::ControlModifier ? wordAt(event->pos()) : QString();
    if (word.isEmpty())
        return QsciScintilla::mousePressEvent(event);
    emit definitionWanted(word, lineAt(event->pos()) + 1);
}

void CodeView::mouseDoubleClickEvent(QMouseEvent* event)
{
    const bool onText = event->pos().x() > marginWidth(kNumbers) + marginWidth(kMarks) + marginWidth(kCounts);
    QsciScintilla::mouseDoubleClickEvent(event);
    if (isReadOnly() && onText && event->button() == Qt::LeftButton)
        emit editingWanted();
}

void CodeView::contextMenuEvent(QContextMenuEvent* event)
{
    const int line = lineAt(event->pos());
    emit menuWanted(line < 0 ? lineAtCursor() : line + 1, event->globalPos());
}

}  // namespace bramix::app
