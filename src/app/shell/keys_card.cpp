#include "app/shell/keys_card.h"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QScrollArea>
#include <QVBoxLayout>

#include "app/shell/theme.h"

namespace bramix::app {

namespace {

struct Row {
    QString keys, name;
};

// One text, as a table: rows take two lines where they need them.
QLabel* block(const QString& title, const std::vector<Row>& rows)
{
    QString html = QString("<p style='margin:0 0 3px 0'><b>%1</b></p><table cellspacing='0' cellpadding='2'>").arg(title.toHtmlEscaped());
    for (const Row& row : rows)
        html += QString("<tr><td style='white-space:nowrap; color:@bramble; padding-right:12px; font-family:JetBrains Mono'>%1</td><td>%2</td></tr>").arg(row.keys.toHtmlEscaped(), row.name.toHtmlEscaped());
    auto* out = new QLabel;
    theme::write(out, html + "</table>");
    out->setTextFormat(Qt::RichText);
    out->setFont(theme::words(8.8));
    out->setWordWrap(true);
    out->setAlignment(Qt::AlignTop | Qt::AlignLeft);
    // As high as it is at the width that it gets.
    constexpr int kColumn = 355;
    out->setFixedWidth(kColumn);
    out->setFixedHeight(out->heightForWidth(kColumn) + 10);
    return out;
}

}  // namespace

QString menuTitle(Menu menu)
{
    switch (menu) {
    case Menu::file: return QObject::tr("File");
    case Menu::edit: return QObject::tr("Edit");
    case Menu::bench: return QObject::tr("Parts and wires");
    case Menu::run: return QObject::tr("Run and step");
    case Menu::code: return QObject::tr("Code");
    case Menu::tape: return QObject::tr("Tape");
    case Menu::instruments: return QObject::tr("Instruments");
    case Menu::view: return QObject::tr("View");
    case Menu::help: return QObject::tr("Help");
    }
    return {};
}

QString keysTitle(Keys where)
{
    switch (where) {
    case Keys::window: return QObject::tr("Anywhere");
    case Keys::bench: return QObject::tr("With the pointer or the focus on the bench");
    case Keys::code: return QObject::tr("In code that is being read");
    }
    return {};
}

KeysCard::KeysCard(const std::vector<Command>& commands, QWidget* parent) : QFrame(parent)
{
    setObjectName("keysCard");
    setAttribute(Qt::WA_DeleteOnClose);
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(tr("List of keys"));
    theme::dress(this, "QFrame#keysCard { background: @card; border: 1px solid @bramble; border-radius: 10px; } QScrollArea, QWidget#keysPage { background: @card; }");
    auto* outer = new QVBoxLayout(this);
    outer->setContentsMargins(22, 16, 10, 12);
    auto* title = new QLabel(tr("Keys"));
    title->setFont(theme::words(14, QFont::DemiBold));
    outer->addWidget(title);
    auto* page = new QWidget;
    page->setObjectName("keysPage");
    auto* columns = new QHBoxLayout(page);
    columns->setContentsMargins(0, 0, 12, 0);
    columns->setSpacing(20);
    auto* left = new QVBoxLayout;
    auto* middle = new QVBoxLayout;
    auto* right = new QVBoxLayout;
    const auto rowsOf = [&](const auto& wanted) {
        std::vector<Row> rows;
        for (const Command& c : commands)
            if (!c.keys.isEmpty() && wanted(c))
                rows.push_back({c.shownKey(), c.name});
        return rows;
    };
    const std::pair<Menu, QVBoxLayout*> places[] = {{Menu::run, left}, {Menu::code, left}, {Menu::view, left}, {Menu::file, middle}, {Menu::edit, middle}, {Menu::bench, middle}, {Menu::tape, middle}, {Menu::instruments, middle}, {Menu::help, middle}};
    for (const auto& [menu, column] : places)
        if (const auto rows = rowsOf([menu = menu](const Command& c) { return c.where == Keys::window && c.menu == menu; }); !rows.empty())
            column->addWidget(block(menuTitle(menu), rows));
    right->addWidget(block(keysTitle(Keys::bench), rowsOf([](const Command& c) { return c.where == Keys::bench; })));
    left->addWidget(block(keysTitle(Keys::code), rowsOf([](const Command& c) { return c.where == Keys::code; })));
    middle->addWidget(block(tr("The mouse on the bench"), {{tr("drag from a pin"), tr("A wire to another pin")},
                                                         {tr("click a pin"), tr("A wire with bends: click where it bends")},
                                                         {tr("drag a wire's end"), tr("To another pin, once the wire is selected")},
                                                         {tr("drag a knob"), tr("Turns it; so does the wheel")},
                                                         {tr("wheel"), tr("Zooms; with Shift it moves sideways")},
                                                         {tr("middle or right drag"), tr("Moves the sheet")},
                                                         {tr("right click"), tr("What can be done there")},
                                                         {tr("Shift and click"), tr("Selects more")}}));
    right->addWidget(block(tr("With the focus on the tape"), {{"\u2191 \u2193", tr("The lane above, below")},
                                                              {"\u2190 \u2192", tr("The edge before, after")},
                                                              {"Alt+\u2191 Alt+\u2193", tr("Moves the lane")},
                                                              {"Del", tr("Takes the lane off")},
                                                              {"G", tr("Begins a group at the lane")},
                                                              {"M", tr("A bookmark")}}));
    for (QVBoxLayout* column : {left, middle, right})
        column->addStretch(1);
    columns->addLayout(left, 1);
    columns->addLayout(middle, 1);
    columns->addLayout(right, 1);
    auto* scroll = new QScrollArea;
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setFocusPolicy(Qt::NoFocus);
    scroll->setWidget(page);
    outer->addWidget(scroll, 1);
    auto* close = new QLabel(tr("Esc closes this"));
    close->setFont(theme::words(8.6));
    theme::dress(close, "color: @muted;");
    outer->addWidget(close);
    const QSize size(std::min(parent->width() - 40, 1180), std::min(parent->height() - 40, 740));
    setGeometry((parent->width() - size.width()) / 2, (parent->height() - size.height()) / 2, size.width(), size.height());
    show();
    raise();
    setFocus();
}

void KeysCard::keyPressEvent(QKeyEvent* event)
{
    if (event->key() == Qt::Key_Escape || event->key() == Qt::Key_Question) {
        close();
        return;
    }
    QFrame::keyPressEvent(event);
}

void KeysCard::focusOutEvent(QFocusEvent* event)
{
    if (event->reason() != Qt::ActiveWindowFocusReason && event->reason() != Qt::PopupFocusReason)
        close();
}

}  // namespace bramix::app
