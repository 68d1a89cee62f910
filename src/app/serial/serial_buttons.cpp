#include "app/serial/serial_buttons.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QMenu>
#include <QVBoxLayout>

#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

std::optional<std::string> unescaped(const QString& text, qsizetype* wrong)
{
    const QByteArray in = text.toUtf8();
    std::string out;
    for (qsizetype i = 0; i < in.size(); ++i) {
        if (in[i] != '\\') {
            out += in[i];
            continue;
        }
        const char c = i + 1 < in.size() ? in[i + 1] : '\0';
        bool good = true;
        if (c == 'x') {
            const int value = in.mid(i + 2, 2).toInt(&good, 16);
            good = good && i + 3 < in.size();
            out += static_cast<char>(value);
            i += 3;
        } else if (const QByteArray names("nrt0\\e"); c != '\0' && names.contains(c)) {
            out += "\n\r\t\0\\\x1B"[names.indexOf(c)];
            ++i;
        } else {
            good = false;
        }
        if (!good) {
            if (wrong != nullptr)
                *wrong = i;
            return std::nullopt;
        }
    }
    return out;
}

std::optional<std::string> fromHex(const QString& text)
{
    QString digits = text;
    digits.remove(' ').remove(',').remove("0x", Qt::CaseInsensitive);
    static const QRegularExpression kHex("^([0-9A-Fa-f]{2})*$");
    if (!kHex.match(digits).hasMatch())
        return std::nullopt;
    return QByteArray::fromHex(digits.toLatin1()).toStdString();
}

SerialButtons::SerialButtons(Editor& editor, std::function<std::string()> uart, QWidget* parent) : QWidget(parent), editor_(editor), uart_(std::move(uart))
{
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(4);
    row_ = new QWidget;
    auto* line = new QHBoxLayout(row_);
    line->setContentsMargins(0, 0, 0, 0);
    line->setSpacing(6);
    rows->addWidget(row_);
    form_ = new QWidget;
    auto* fields = new QHBoxLayout(form_);
    fields->setContentsMargins(0, 0, 0, 0);
    fields->setSpacing(6);
    const auto field = [&](const char* name, const QString& hint, int stretch) {
        auto* edit = new QLineEdit;
        edit->setObjectName(name);
        edit->setPlaceholderText(hint);
        edit->setFont(theme::figures(8.8));
        connect(edit, &QLineEdit::returnPressed, this, &SerialButtons::take);
        fields->addWidget(edit, stretch);
        return edit;
    };
    label_ = field("buttonLabel", tr("label"), 2);
    bytes_ = field("buttonBytes", tr("bytes, with \\n, \\r, \\x1B"), 4);
    every_ = field("buttonEvery", tr("every, as 250ms; empty: once"), 2);
    key_ = field("buttonKey", tr("key, as F5"), 1);
    auto* good = new QPushButton(tr("Keep"));
    auto* away = new QPushButton(tr("Leave"));
    for (QPushButton* b : {good, away}) {
        b->setFocusPolicy(Qt::NoFocus);
        fields->addWidget(b);
    }
    connect(good, &QPushButton::clicked, this, &SerialButtons::take);
    connect(away, &QPushButton::clicked, form_, &QWidget::hide);
    rows->addWidget(form_);
    form_->hide();
    connect(&editor_, &Editor::documentChanged, this, [this] {
        if (editor_.document().buttons != shown_)
            rebuild();
    });
    connect(&editor_, &Editor::pictureChanged, this, &SerialButtons::repeat);
    rebuild();
}

void SerialButtons::rebuild()
{
    shown_ = editor_.document().buttons;
    running_.clear();
    qDeleteAll(buttons_);
    buttons_.clear();
    qDeleteAll(shortcuts_);
    shortcuts_.clear();
    auto* line = static_cast<QHBoxLayout*>(row_->layout());
    while (QLayoutItem* item = line->takeAt(0))
        delete item;
    for (std::size_t i = 0; i < shown_.size(); ++i) {
        const bench::ButtonItem& b = shown_[i];
        auto* button = new QPushButton(QString::fromStdString(b.label));
        button->setFocusPolicy(Qt::NoFocus);
        button->setFont(theme::words(8.8));
        button->setCheckable(!b.every.empty());
        button->setToolTip(QString::fromStdString(b.bytes) + (b.every.empty() ? QString() : tr(", every %1").arg(QString::fromStdString(b.every))) + (b.key.empty() ? QString() : tr(" (%1)").arg(QString::fromStdString(b.key))));
        button->setContextMenuPolicy(Qt::CustomContextMenu);
        connect(button, &QPushButton::clicked, this, [this, i, button] { button->isCheckable() && !button->isChecked() ? release(i) : press(i); });
        connect(button, &QPushButton::customContextMenuRequested, this, [this, i, button](QPoint at) {
            auto* menu = new QMenu(this);
            menu->setAttribute(Qt::WA_DeleteOnClose);
            menu->addAction(tr("Change"), this, [this, i] { edit(i); });
            menu->addAction(tr("Remove"), this, [this, i] {
                editor_.change(tr("remove button"), [i](bench::Document& d) { d.buttons.erase(d.buttons.begin() + static_cast<std::ptrdiff_t>(i)); });
            });
            menu->popup(button->mapToGlobal(at));
        });
        if (!b.key.empty()) {
            auto* shortcut = new QShortcut(QKeySequence(QString::fromStdString(b.key)), this);
            shortcut->setContext(Qt::WindowShortcut);
            connect(shortcut, &QShortcut::activated, button, &QPushButton::click);
            shortcuts_.push_back(shortcut);
        }
        line->addWidget(button);
        buttons_.push_back(button);
    }
    line->addStretch(1);
    row_->setVisible(!shown_.empty());
}

void SerialButtons::edit(std::optional<std::size_t> index)
{
    edited_ = index;
    const bench::ButtonItem b = index && *index < shown_.size() ? shown_[*index] : bench::ButtonItem{};
    label_->setText(QString::fromStdString(b.label));
    bytes_->setText(QString::fromStdString(b.bytes));
    every_->setText(QString::fromStdString(b.every));
    key_->setText(QString::fromStdString(b.key));
    form_->show();
    label_->setFocus();
}

// What was typed becomes a button, or is told where it cannot.
void SerialButtons::take()
{
    bench::ButtonItem b = edited_ && *edited_ < shown_.size() ? shown_[*edited_] : bench::ButtonItem{};
    b.label = label_->text().trimmed().toStdString();
    b.bytes = bytes_->text().toStdString();
    b.every = every_->text().trimmed().toStdString();
    b.key = key_->text().trimmed().toStdString();
    qsizetype wrong = 0;
    if (b.label.empty() || b.bytes.empty()) {
        emit editor_.message(tr("A button needs a label and its bytes"), true);
        return;
    }
    if (!unescaped(bytes_->text(), &wrong)) {
        emit editor_.message(tr("Bytes: what follows the \\ at place %1 is no escape; expected \\n, \\r, \\t, \\0, \\e, \\\\ or \\xHH").arg(wrong + 1), true);
        return;
    }
    if (!b.every.empty())
        if (const auto every = kernel::parseQuantity(b.every, kernel::Unit::second); !every || !(*every > 0)) {
            emit editor_.message(tr("\"%1\" is no time; expected one such as 250ms").arg(every_->text()), true);
            return;
        }
    if (!b.key.empty() && QKeySequence(key_->text().trimmed()).isEmpty()) {
        emit editor_.message(tr("\"%1\" is no key; expected one such as F5 or Ctrl+1").arg(key_->text()), true);
        return;
    }
    form_->hide();
    editor_.change(tr("button"), [&](bench::Document& d) {
        if (edited_ && *edited_ < d.buttons.size())
            d.buttons[*edited_] = b;
        else
            d.buttons.push_back(b);
    });
}

bool SerialButtons::sendBytes(const bench::ButtonItem& b)
{
    const std::string uart = b.uart.empty() ? uart_() : b.uart;
    const auto bytes = unescaped(QString::fromStdString(b.bytes));
    if (!bytes || uart.empty()) {
        emit editor_.message(bytes ? tr("No UART on the bench") : tr("The bytes of %1 cannot be read").arg(QString::fromStdString(b.label)), true);
        return false;
    }
    editor_.session().send(uart, *bytes);
    return true;
}

void SerialButtons::press(std::size_t index)
{
    const bench::ButtonItem& b = shown_[index];
    if (!sendBytes(b))
        return;
    if (!b.every.empty())
        if (const auto every = kernel::parseQuantity(b.every, kernel::Unit::second); every && *every > 0) {
            const auto length = kernel::Duration(static_cast<std::int64_t>(*every * 1e12));
            running_.push_back({index, length, editor_.picture().now + length});
        }
}

void SerialButtons::release(std::size_t index) { std::erase_if(running_, [index](const Running& r) { return r.index == index; }); }

// In simulated time, as far as pictures of it come.
void SerialButtons::repeat()
{
    const kernel::Time now = editor_.picture().now;
    for (Running& r : running_) {
        if (now + r.every < r.next)
            r.next = now + r.every;  // time has been put back
        if (now < r.next)
            continue;
        (void)sendBytes(shown_[r.index]);
        r.next = std::max(r.next + r.every, now);
    }
}

}  // namespace bramix::app
