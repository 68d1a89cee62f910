#include "app/serial/serial_view.h"

#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QMenu>
#include <QSplitter>
#include <QVBoxLayout>

#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

SerialView::SerialView(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    setObjectName("serial");
    setAttribute(Qt::WA_StyledBackground);
    setStyleSheet(R"(
        QWidget#serial { background: #221A26; }
        QWidget#serial QLabel { color: #9A8EA0; background: transparent; }
        QWidget#serial QLineEdit, QWidget#serial QComboBox { background: #2E2433; color: #EFE7DC; border: 1px solid #4A3E52; border-radius: 4px; padding: 2px 6px; }
        QWidget#serial QLineEdit:focus { border: 1px solid #C06A93; }
        QWidget#serial QPushButton { background: #3A3040; color: #EFE7DC; border: 1px solid #4A3E52; border-radius: 4px; padding: 2px 8px; }
        QWidget#serial QPushButton:hover { background: #4A3E52; }
        QWidget#serial QPushButton:checked { background: #6B2747; border-color: #8A2B57; }
        QWidget#serial QTabBar::tab { background: transparent; color: #9A8EA0; padding: 2px 10px; border: 1px solid transparent; border-radius: 4px; }
        QWidget#serial QTabBar::tab:selected { color: #F4ECE0; background: #3A3040; }
        QWidget#serial QComboBox QAbstractItemView { background: #2E2433; color: #EFE7DC; selection-background-color: #4A3E52; selection-color: #FFFFFF; }
        QWidget#serial QSplitter::handle { background: #3A3040; }
    )");
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(12, 4, 12, 8);
    layout->setSpacing(4);
    auto* top = new QHBoxLayout;
    top->setSpacing(5);
    tabs_ = new QTabBar;
    tabs_->setObjectName("serialTabs");
    tabs_->setFont(theme::figures(8.5));
    tabs_->setDrawBase(false);
    tabs_->setExpanding(false);
    tabs_->setFocusPolicy(Qt::NoFocus);
    format_ = new QLabel;
    format_->setFont(theme::figures(8.5));
    const auto field = [&](const char* name, const QString& hint) {
        auto* edit = new QLineEdit;
        edit->setObjectName(name);
        edit->setAccessibleName(hint);
        edit->setPlaceholderText(hint);
        edit->setFont(theme::figures(8.5));
        edit->setFixedWidth(128);
        edit->setClearButtonEnabled(true);
        return edit;
    };
    const auto button = [&](const char* name, const QString& words, const QString& tip, bool checkable, bool checked) {
        auto* b = new QPushButton(words);
        b->setObjectName(name);
        b->setToolTip(tip);
        b->setFont(theme::words(8.5));
        b->setFocusPolicy(Qt::NoFocus);
        b->setCheckable(checkable);
        b->setChecked(checked);
        top->addWidget(b);
        return b;
    };
    top->addWidget(tabs_);
    top->addWidget(format_);
    top->addStretch(1);
    filter_ = field("serialFilter", tr("only lines with …"));
    find_ = field("serialFind", tr("find …"));
    find_->setToolTip(tr("Enter: the next line with it; Shift+Enter: the one before"));
    top->addWidget(filter_);
    top->addWidget(find_);
    hex_ = button("serialHex", tr("Hex"), tr("Bytes in hex"), true, false);
    stamps_ = button("serialStamps", tr("Times"), tr("When each line began, in simulated time"), true, true);
    echo_ = button("serialEcho", tr("Sent"), tr("Shows what was sent, too"), true, true);
    pause_ = button("serialPause", tr("Hold"), tr("The view stands still; nothing is lost"), true, false);
    curves_ = button("serialCurves", tr("Curves"), tr("Draws the numbers in the text, and variables"), true, false);
    auto* clear = button("serialClear", tr("Clear"), tr("Forgets the text so far"), false, false);
    open_ = button("serialOpen", {}, {}, false, false);
    open_->setStyleSheet("QPushButton { color: #A9D29B; }");
    open_->hide();
    connect(open_, &QPushButton::clicked, this, [this] {
        if (SerialPort* p = port()) {
            emit editor_.message(tr("%1 is closed").arg(p->name()), false);
            p->close();
        }
        showOpen();
    });
    more_ = button("serialMore", tr("More"), tr("Save, log to a file, open a port for a program"), false, false);
    layout->addLayout(top);

    pane_ = new SerialPane;
    plot_ = new NumberPlot(editor);
    auto* middle = new QSplitter(Qt::Horizontal);
    middle->setHandleWidth(1);
    middle->setChildrenCollapsible(false);
    middle->addWidget(pane_);
    middle->addWidget(plot_);
    middle->setStretchFactor(0, 4);
    middle->setStretchFactor(1, 5);
    plot_->hide();
    layout->addWidget(middle, 1);

    buttons_ = new SerialButtons(editor, [this] { return shown() == nullptr ? std::string() : shown()->name; });
    layout->addWidget(buttons_);
    auto* bottom = new QHBoxLayout;
    bottom->setSpacing(5);
    line_ = new QLineEdit;
    line_->setObjectName("serialLine");
    line_->setAccessibleName(tr("Line to send"));
    line_->setFont(theme::figures(9));
    line_->installEventFilter(this);
    const auto choice = [&](const char* name, const QStringList& items, int index) {
        auto* box = new QComboBox;
        box->setObjectName(name);
        box->addItems(items);
        box->setCurrentIndex(index);
        box->setFont(theme::words(8.5));
        box->setFocusPolicy(Qt::ClickFocus);
        return box;
    };
    way_ = choice("serialWay", {tr("as typed"), tr("with escapes"), tr("bytes in hex")}, 0);
    ending_ = choice("serialEnding", {tr("nothing after"), tr("then LF"), tr("then CR"), tr("then CR LF")}, 1);
    auto* sendButton = new QPushButton(tr("Send"));
    sendButton->setFocusPolicy(Qt::NoFocus);
    sendButton->setFont(theme::words(8.5));
    bottom->addWidget(line_, 1);
    bottom->addWidget(way_);
    bottom->addWidget(ending_);
    bottom->addWidget(sendButton);
    auto* add = new QPushButton("+");
    add->setObjectName("buttonAdd");
    add->setFocusPolicy(Qt::NoFocus);
    add->setFont(theme::words(8.5));
    add->setToolTip(tr("A button of your own: it sends its bytes by a click or a key, once or again and again"));
    connect(add, &QPushButton::clicked, this, [this] { buttons_->edit(std::nullopt); });
    bottom->addWidget(add);
    layout->addLayout(bottom);
    line_->setPlaceholderText(bytesHint());

    connect(tabs_, &QTabBar::currentChanged, this, &SerialView::choose);
    connect(filter_, &QLineEdit::textChanged, pane_, &SerialPane::setFilter);
    connect(find_, &QLineEdit::textChanged, pane_, &SerialPane::setSought);
    find_->installEventFilter(this);
    connect(hex_, &QPushButton::toggled, pane_, &SerialPane::setHex);
    connect(stamps_, &QPushButton::toggled, pane_, &SerialPane::setStamps);
    connect(echo_, &QPushButton::toggled, pane_, &SerialPane::setEcho);
    connect(pause_, &QPushButton::toggled, pane_, &SerialPane::setPaused);
    connect(curves_, &QPushButton::toggled, this, &SerialView::showCurves);
    connect(clear, &QPushButton::clicked, this, [this] {
        if (Line* l = shown()) {
            l->text.clear();
            l->numbersRead = l->text.end();
            plot_->clear();
            pane_->refresh();
        }
    });
    connect(more_, &QPushButton::clicked, this, [this] { openMenu(more_->mapToGlobal(QPoint(0, more_->height()))); });
    connect(way_, &QComboBox::currentIndexChanged, this, [this] { line_->setPlaceholderText(bytesHint()); });
    connect(line_, &QLineEdit::returnPressed, this, &SerialView::send);
    connect(sendButton, &QPushButton::clicked, this, &SerialView::send);
    connect(pane_, &SerialPane::placeWanted, this, [this](kernel::Time at, quint32 code, bool toCode) {
        if (toCode && code != UINT32_MAX && shown() != nullptr)
            emit codeWanted(shown()->name.substr(0, shown()->name.rfind('.')), code);
        else
            emit momentWanted(at);
    });
    connect(&editor_, &Editor::serialReceived, this, &SerialView::receive);
    connect(&editor_, &Editor::pictureChanged, this, &SerialView::refresh);
    connect(&editor_, &Editor::sessionRestarted, this, [this] {
        for (auto& l : lines_) {
            l->text.clear();
            l->numbers.clear();
            l->numbersRead = l->text.end();
        }
        pane_->refresh();
    });
}

QString SerialView::bytesHint() const
{
    return way_->currentIndex() == 2 ? tr("bytes in hex, as 1B 5B 41, and Enter") : way_->currentIndex() == 1 ? tr("a line with \\n, \\r, \\x1B, and Enter") : tr("type a line and press Enter");
}

SerialView::Line* SerialView::shown()
{
    const int i = tabs_->currentIndex();
    return i >= 0 && static_cast<std::size_t>(i) < lines_.size() ? lines_[static_cast<std::size_t>(i)].get() : nullptr;
}

SerialPort* SerialView::port()
{
    Line* l = shown();
    if (l == nullptr)
        return nullptr;
    if (l->port == nullptr)
        l->port = std::make_unique<SerialPort>(editor_, l->name);
    return l->port.get();
}

// A tab for each UART, those that are there already with what they have.
void SerialView::syncTabs()
{
    const auto& uarts = editor_.picture().uarts;
    bool same = lines_.size() == uarts.size();
    for (std::size_t i = 0; same && i < uarts.size(); ++i)
        same = lines_[i]->name == uarts[i].name;
    if (same)
        return;
    const std::string chosen = shown() == nullptr ? std::string() : shown()->name;
    pane_->setText(nullptr);
    std::vector<std::unique_ptr<Line>> before = std::move(lines_);
    lines_.clear();
    const QSignalBlocker quiet(tabs_);
    while (tabs_->count() > 0)
        tabs_->removeTab(0);
    int current = 0;
    for (const session::UartPicture& u : uarts) {
        const auto kept = std::find_if(before.begin(), before.end(), [&](const auto& l) { return l != nullptr && l->name == u.name; });
        if (kept != before.end()) {
            lines_.push_back(std::move(*kept));
        } else {
            lines_.push_back(std::make_unique<Line>());
            lines_.back()->name = u.name;
        }
        if (u.name == chosen)
            current = tabs_->count();
        tabs_->addTab(QString::fromStdString(u.name));
    }
    tabs_->setCurrentIndex(current);
    choose(current);
}

void SerialView::choose(int tab)
{
    showOpen();
    Line* l = shown();
    pane_->setText(l == nullptr ? nullptr : &l->text);
    if (l != nullptr) {
        l->unseen = false;
        tabs_->setTabText(tab, QString::fromStdString(l->name));
        l->numbersRead = std::max(l->numbersRead, l->text.first());
        if (plot_->isVisible()) {
            plot_->clear();
            l->numbersRead = l->text.first();
            readNumbers();
        }
    }
}

void SerialView::refresh()
{
    syncTabs();
    const auto& uarts = editor_.picture().uarts;
    const auto index = static_cast<std::size_t>(std::max(0, tabs_->currentIndex()));
    tabs_->setVisible(!uarts.empty());
    QString words = tr("no UART on the bench");
    if (index < uarts.size()) {
        words = uarts[index].on ? tr("%1 baud, %2").arg(uarts[index].baud, 0, 'f', 0).arg(QString::fromStdString(uarts[index].format)) : tr("switched off by the firmware");
        if (Line* l = shown(); l != nullptr && l->port != nullptr && l->port->isOpen())
            words += tr("  ·  open at %1").arg(l->port->name());
        if (Line* l = shown(); l != nullptr && l->log != nullptr)
            words += tr("  ·  logged to %1").arg(QFileInfo(l->log->fileName()).fileName());
    }
    if (format_->text() != words)
        format_->setText(words);
}

// Bytes as they come; a mark among them says that the run has gone back, and what came later has not happened.
void SerialView::receive(const std::vector<session::SerialByte>& bytes)
{
    syncTabs();
    std::vector<std::string> fresh(lines_.size());
    for (const session::SerialByte& b : bytes) {
        if (b.uart == session::kRewound) {
            for (auto& l : lines_) {
                l->text.rewind(b.at);
                l->numbersRead = std::min(l->numbersRead, l->text.pageBegin());
            }
            plot_->rewind(b.at);
            continue;
        }
        if (b.uart >= lines_.size())
            continue;
        lines_[b.uart]->text.add(b);
        if (b.fromChip && b.at <= editor_.picture().now)  // what lies ahead in a recording goes to nobody else
            fresh[b.uart] += static_cast<char>(b.byte);
    }
    for (std::size_t i = 0; i < lines_.size(); ++i) {
        Line& l = *lines_[i];
        if (fresh[i].empty())
            continue;
        if (l.port != nullptr)
            l.port->write(fresh[i]);
        if (l.log != nullptr) {
            l.log->write(fresh[i].data(), static_cast<qint64>(fresh[i].size()));
            l.log->flush();
        }
        // Told on the tab where another is looked at.
        if (static_cast<int>(i) != tabs_->currentIndex() && !l.unseen) {
            l.unseen = true;
            tabs_->setTabText(static_cast<int>(i), QString::fromStdString(l.name) + QStringLiteral(" •"));
        }
    }
    readNumbers();
    pane_->refresh();
}

// Of lines that are complete and stay as they are.
void SerialView::readNumbers()
{
    Line* l = shown();
    if (l == nullptr)
        return;
    if (!plot_->isVisible()) {  // from where one begins to look
        l->numbersRead = std::max(l->numbersRead, l->text.end() > 5000 ? l->text.end() - 5000 : 0);
        return;
    }
    l->numbersRead = std::max(l->numbersRead, l->text.first());
    for (; l->numbersRead < l->text.end(); ++l->numbersRead) {
        const session::SerialLine line = l->text.line(l->numbersRead);
        if (line.sent)
            continue;
        if (!line.complete && l->numbersRead + 1 == l->text.end())
            break;  // more of it may come
        for (const session::NamedNumber& n : l->numbers.read(line.text))
            plot_->add(n.name, line.at, n.value);
    }
}

void SerialView::showCurves(bool on)
{
    curves_->setChecked(on);
    plot_->setVisible(on);
    if (on)
        readNumbers();
}

bool SerialView::logTo(const QString& file)
{
    Line* l = shown();
    if (l == nullptr)
        return false;
    l->log.reset();
    if (file.isEmpty())
        return true;
    auto log = std::make_unique<QFile>(file);
    if (!log->open(QIODevice::WriteOnly | QIODevice::Append)) {
        emit editor_.message(tr("%1 cannot be written: %2").arg(file, log->errorString()), true);
        return false;
    }
    l->log = std::move(log);
    return true;
}

void SerialView::openMenu(QPoint at)
{
    Line* l = shown();
    auto* menu = new QMenu(this);
    menu->setObjectName("serialMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    menu->addAction(tr("Copy all"), this, [this] {
        pane_->selectAll();
        pane_->copy();
    });
    menu->addAction(tr("Save the text…"), this, [this] {
        if (const QString file = QFileDialog::getSaveFileName(this, tr("Save the text"), editor_.folder() + "/serial.txt", tr("Text (*.txt);;All files (*)")); !file.isEmpty()) {
            const bool good = bench::saveText(file.toStdString(), pane_->allText(stamps_->isChecked()).toStdString()).has_value();
            emit editor_.message(good ? tr("Saved to %1").arg(file) : tr("%1 could not be written").arg(file), !good);
        }
    });
    if (l != nullptr && l->log != nullptr)
        menu->addAction(tr("Stop logging to %1").arg(QFileInfo(l->log->fileName()).fileName()), this, [this] { logTo({}); });
    else
        menu->addAction(tr("Log to a file from now on…"), this, [this] {
            if (const QString file = QFileDialog::getSaveFileName(this, tr("Log to a file"), editor_.folder() + "/serial.log", tr("All files (*)"), nullptr, QFileDialog::DontConfirmOverwrite); !file.isEmpty())
                logTo(file);
        });
    menu->addSeparator();
    if (SerialPort* p = port(); p != nullptr && p->isOpen()) {
        menu->addAction(tr("Close %1").arg(p->name()), this, [this, p] {
            p->close();
            showOpen();
        });
    } else if (p != nullptr) {
        const auto open = [this, p](const char* where) {
            if (p->open(where)) {
                // A program outside lives by the wall clock.
                emit editor_.message(tr("A program can connect to %1; it stands above the text as long as it is open").arg(p->name()), false);
            }
            showOpen();
        };
        menu->addAction(tr("Open a pseudo-terminal for a program"), this, [open] { open("pty"); });
        menu->addAction(tr("Open a TCP port for a program"), this, [open] { open("tcp:0"); });
    }
    menu->popup(at);
}

// The address, as long as it is open: a click closes it.
void SerialView::showOpen()
{
    const SerialPort* p = port();
    const bool open = p != nullptr && p->isOpen();
    open_->setVisible(open);
    if (open) {
        open_->setText(QString("● %1  ×").arg(p->name()));
        open_->setToolTip(tr("A program can connect here. A click closes it."));
    }
}

void SerialView::send()
{
    static constexpr const char* kEndings[] = {"", "\n", "\r", "\r\n"};
    const QString text = line_->text();
    Line* l = shown();
    if (l == nullptr) {
        emit editor_.message(tr("There is no UART on the bench to send it to"), true);
        return;
    }
    std::string bytes = text.toStdString();
    if (way_->currentIndex() == 1) {
        qsizetype wrong = 0;
        const auto read = unescaped(text, &wrong);
        if (!read) {
            emit editor_.message(tr("What follows the \\ at place %1 is no escape; expected \\n, \\r, \\t, \\0, \\e, \\\\ or \\xHH").arg(wrong + 1), true);
            return;
        }
        bytes = *read;
    } else if (way_->currentIndex() == 2) {
        const auto read = fromHex(text);
        if (!read) {
            emit editor_.message(tr("\"%1\" is no row of bytes; expected two hex digits for each, as 1B 5B 41").arg(text), true);
            return;
        }
        bytes = *read;
    }
    if (!text.isEmpty() && (history_.isEmpty() || history_.last() != text))
        history_ << text;
    historyAt_ = history_.size();
    editor_.session().send(l->name, bytes + (way_->currentIndex() == 2 ? "" : kEndings[ending_->currentIndex()]));
    line_->clear();
}

bool SerialView::eventFilter(QObject* watched, QEvent* event)
{
    if (event->type() == QEvent::KeyPress) {
        const auto* press = static_cast<QKeyEvent*>(event);
        const int key = press->key();
        if (watched == find_ && (key == Qt::Key_Return || key == Qt::Key_Enter)) {
            if (!pane_->find((press->modifiers() & Qt::ShiftModifier) == 0) && !find_->text().isEmpty())
                emit editor_.message(tr("No line has \"%1\" in it").arg(find_->text()), false);
            return true;
        }
        if (watched == line_ && key == Qt::Key_Up && historyAt_ > 0) {
            line_->setText(history_[--historyAt_]);
            return true;
        }
        if (watched == line_ && key == Qt::Key_Down && historyAt_ < history_.size()) {
            ++historyAt_;
            line_->setText(historyAt_ < history_.size() ? history_[historyAt_] : QString());
            return true;
        }
    }
    return QWidget::eventFilter(watched, event);
}

}  // namespace bramix::app
