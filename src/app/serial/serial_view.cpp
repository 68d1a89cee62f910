#include "app/serial/serial_view.h"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QPushButton>
#include <QScrollBar>
#include <QTextCursor>
#include <QVBoxLayout>

#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

namespace {

constexpr int kMostLines = 20'000;

}  // namespace

SerialView::SerialView(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    setObjectName("serial");
    setAttribute(Qt::WA_StyledBackground);
    setStyleSheet(R"(
        QWidget#serial { background: #221A26; }
        QWidget#serial QLabel { color: #9A8EA0; }
        QWidget#serial QPlainTextEdit { background: #221A26; color: #D9CFC2; border: none; padding: 2px 8px; }
        QWidget#serial QLineEdit, QWidget#serial QComboBox { background: #2E2433; color: #EFE7DC; border: 1px solid #4A3E52; }
        QWidget#serial QLineEdit:focus { border: 1px solid #C06A93; }
        QWidget#serial QPushButton { background: #3A3040; color: #EFE7DC; border: 1px solid #4A3E52; }
        QWidget#serial QComboBox QAbstractItemView { background: #2E2433; color: #EFE7DC; selection-background-color: #4A3E52; selection-color: #FFFFFF; }
    )");
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(6, 4, 10, 8);
    layout->setSpacing(4);
    auto* top = new QHBoxLayout;
    uart_ = new QComboBox;
    uart_->setFont(theme::figures(8.5));
    uart_->setFocusPolicy(Qt::ClickFocus);
    uart_->setMinimumWidth(124);
    format_ = new QLabel;
    format_->setFont(theme::figures(8.5));
    auto* clear = new QPushButton(tr("Clear"));
    clear->setFocusPolicy(Qt::NoFocus);
    top->addSpacing(6);
    top->addWidget(uart_);
    top->addWidget(format_);
    top->addStretch(1);
    top->addWidget(clear);
    layout->addLayout(top);
    view_ = new QPlainTextEdit;
    view_->setObjectName("serialText");
    view_->setReadOnly(true);
    view_->setFont(theme::figures(9));
    view_->setMaximumBlockCount(kMostLines);
    view_->setUndoRedoEnabled(false);
    view_->setFocusPolicy(Qt::ClickFocus);
    layout->addWidget(view_, 1);
    auto* bottom = new QHBoxLayout;
    line_ = new QLineEdit;
    line_->setObjectName("serialLine");
    line_->setFont(theme::figures(9));
    line_->setPlaceholderText(tr("type a line and press Enter"));
    line_->installEventFilter(this);
    ending_ = new QComboBox;
    ending_->addItems({tr("nothing after"), tr("then LF"), tr("then CR"), tr("then CR LF")});
    ending_->setCurrentIndex(1);
    ending_->setFont(theme::words(8.5));
    ending_->setFocusPolicy(Qt::ClickFocus);
    auto* sendButton = new QPushButton(tr("Send"));
    sendButton->setFocusPolicy(Qt::NoFocus);
    bottom->addWidget(line_, 1);
    bottom->addWidget(ending_);
    bottom->addWidget(sendButton);
    layout->addLayout(bottom);
    connect(clear, &QPushButton::clicked, this, [this] {
        kept_.clear();
        view_->clear();
    });
    connect(line_, &QLineEdit::returnPressed, this, &SerialView::send);
    connect(sendButton, &QPushButton::clicked, this, &SerialView::send);
    connect(&editor_, &Editor::serialReceived, this, &SerialView::receive);
    connect(&editor_, &Editor::pictureChanged, this, &SerialView::refresh);
    connect(&editor_, &Editor::sessionRestarted, this, [this] {
        kept_.clear();
        view_->clear();
        atLineStart_ = true;
    });
}

void SerialView::refresh()
{
    const auto& uarts = editor_.picture().uarts;
    if (uart_->count() != static_cast<int>(uarts.size())) {
        uart_->clear();
        for (const session::UartPicture& u : uarts)
            uart_->addItem(QString::fromStdString(u.name));
    }
    uart_->setVisible(!uarts.empty());
    const auto index = static_cast<std::size_t>(std::max(0, uart_->currentIndex()));
    if (index < uarts.size())
        format_->setText(uarts[index].on ? tr("%1 baud, %2").arg(uarts[index].baud, 0, 'f', 0).arg(QString::fromStdString(uarts[index].format)) : tr("switched off by the firmware"));
    else
        format_->setText(tr("no UART on the bench"));
}

void SerialView::append(const QString& text, const QColor& color, bool stamp, kernel::Time at)
{
    QTextCursor cursor(view_->document());
    cursor.movePosition(QTextCursor::End);
    QTextCharFormat format;
    if (stamp) {
        format.setForeground(QColor(0x8A, 0x7E, 0x92));
        cursor.insertText(QString::number(kernel::seconds(at), 'f', 6).rightJustified(12) + "  ", format);
    }
    format.setForeground(color);
    cursor.insertText(text, format);
}

// Bytes as they come; a mark among them says that the run has gone back, and what came later has not happened.
void SerialView::receive(const std::vector<session::SerialByte>& bytes)
{
    constexpr std::size_t kMost = 4'000'000;
    std::size_t from = 0;
    for (std::size_t i = 0; i < bytes.size(); ++i)
        if (bytes[i].uart == session::kRewound) {
            kept_.insert(kept_.end(), bytes.begin() + static_cast<std::ptrdiff_t>(from), bytes.begin() + static_cast<std::ptrdiff_t>(i));
            std::erase_if(kept_, [&](const session::SerialByte& b) { return b.at > bytes[i].at; });
            from = i + 1;
            writeAgain();
        }
    const std::vector<session::SerialByte> fresh(bytes.begin() + static_cast<std::ptrdiff_t>(from), bytes.end());
    kept_.insert(kept_.end(), fresh.begin(), fresh.end());
    if (kept_.size() > kMost)
        kept_.erase(kept_.begin(), kept_.begin() + static_cast<std::ptrdiff_t>(kept_.size() - kMost));
    write(fresh);
}

void SerialView::writeAgain()
{
    view_->clear();
    atLineStart_ = true;
    lastSent_ = false;
    write(kept_);
}

void SerialView::write(const std::vector<session::SerialByte>& bytes)
{
    const auto wanted = static_cast<std::uint32_t>(std::max(0, uart_->currentIndex()));
    QScrollBar* bar = view_->verticalScrollBar();
    const bool atEnd = bar->value() >= bar->maximum() - 4;
    static const QColor kReceived = theme::kTapeText;
    static const QColor kSent(0xE0, 0x8A, 0xB0);
    static const QColor kBroken(0xE2, 0x8A, 0x6E);
    view_->setUpdatesEnabled(false);
    // Runs of one kind are appended together.
    QString run;
    QColor runColor = kReceived;
    kernel::Time runAt{};
    bool runStamp = false;
    const auto flush = [&] {
        if (!run.isEmpty())
            append(run, runColor, runStamp, runAt);
        run.clear();
        runStamp = false;
    };
    for (const session::SerialByte& b : bytes) {
        if (b.uart != wanted)
            continue;
        const QColor color = !b.good ? kBroken : b.fromChip ? kReceived : kSent;
        if (lastSent_ == b.fromChip && !atLineStart_) {  // the other side speaks: a line of its own
            flush();
            append("\n", kReceived, false, b.at);
            atLineStart_ = true;
        }
        lastSent_ = !b.fromChip;
        if (color != runColor || atLineStart_)
            flush();
        if (b.byte == '\r')
            continue;
        if (b.byte == '\n') {
            if (atLineStart_)
                continue;
            run += '\n';
            flush();
            atLineStart_ = true;
            continue;
        }
        if (run.isEmpty()) {
            runColor = color;
            runAt = b.at;
            runStamp = atLineStart_;
            if (atLineStart_ && !b.fromChip)
                run = QStringLiteral("› ");
        }
        run += b.byte >= 32 && b.byte < 127 ? QChar(b.byte) : QChar(0xFFFD);
        atLineStart_ = false;
    }
    flush();
    view_->setUpdatesEnabled(true);
    if (atEnd)
        bar->setValue(bar->maximum());
}

void SerialView::send()
{
    static constexpr const char* kEndings[] = {"", "\n", "\r", "\r\n"};
    const QString text = line_->text();
    if (uart_->count() == 0)
        return;
    if (!text.isEmpty() && (history_.isEmpty() || history_.last() != text))
        history_ << text;
    historyAt_ = history_.size();
    editor_.session().send(uart_->currentText().toStdString(), text.toStdString() + kEndings[ending_->currentIndex()]);
    line_->clear();
}

bool SerialView::eventFilter(QObject* watched, QEvent* event)
{
    if (watched == line_ && event->type() == QEvent::KeyPress) {
        const int key = static_cast<QKeyEvent*>(event)->key();
        if (key == Qt::Key_Up && historyAt_ > 0) {
            line_->setText(history_[--historyAt_]);
            return true;
        }
        if (key == Qt::Key_Down && historyAt_ < history_.size()) {
            ++historyAt_;
            line_->setText(historyAt_ < history_.size() ? history_[historyAt_] : QString());
            return true;
        }
    }
    return QWidget::eventFilter(watched, event);
}

}  // namespace bramix::app
