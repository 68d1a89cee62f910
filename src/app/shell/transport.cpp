#include "app/shell/transport.h"

#include <cmath>

#include <QHBoxLayout>
#include <QPainter>

#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

namespace {

constexpr int kHeight = 48;
constexpr int kTitleWidth = 208, kFindingsWidth = 108, kSpeedWidth = 176;

QString factor(double speed)
{
    return speed >= 100 ? QString("×%1").arg(std::lround(speed)) : speed >= 10 ? QString("×%1").arg(speed, 0, 'f', 1) : QString("×%1").arg(speed, 0, 'f', 2);
}

}  // namespace

Transport::Transport(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    setFixedHeight(kHeight);
    auto* layout = new QHBoxLayout(this);
    layout->setContentsMargins(10, 0, 12, 0);
    layout->setSpacing(10);

    menu_ = new QToolButton;
    menu_->setObjectName("menuMark");
    menu_->setIcon(theme::icon("berry", theme::bramble));
    menu_->setIconSize({26, 26});
    menu_->setToolTip(tr("Menu: everything that can be done (F10)"));
    menu_->setAccessibleName(tr("Menu"));
    menu_->setFocusPolicy(Qt::NoFocus);
    layout->addWidget(menu_);
    // As wide as it is, whatever the bench is called: nothing beside it moves.
    title_ = new QLabel;
    title_->setFont(theme::words(11, QFont::DemiBold));
    title_->setFixedWidth(kTitleWidth);
    layout->addWidget(title_);
    layout->addStretch(1);

    auto* pill = new QWidget;
    pill->setObjectName("pill");
    theme::dress(pill, "QWidget#pill { background: @card; border: 1px solid @rule; border-radius: 17px; } QToolButton { border-radius: 14px; padding: 3px; }"
                        "QToolButton#run { background: @go; } QToolButton#run:hover { background: @goHover; }");
    auto* buttons = new QHBoxLayout(pill);
    pill->setFixedHeight(36);
    buttons->setContentsMargins(3, 2, 8, 2);
    buttons->setSpacing(4);
    const auto button = [&](const char* name, const char* icon, const theme::Tone& tone, const QString& tip) {
        auto* b = new QToolButton;
        b->setObjectName(name);
        b->setIcon(theme::icon(icon, tone));
        b->setIconSize({22, 22});
        b->setToolTip(tip);
        b->setAccessibleName(tip.section('(', 0, 0).trimmed());
        b->setFocusPolicy(Qt::NoFocus);
        buttons->addWidget(b);
        return b;
    };
    back_ = button("back", "back", theme::ink, tr("Step back one line (,)\nStep back one instruction (Shift+,)"));
    run_ = button("run", "run", theme::white, tr("Run or pause (Space)"));
    run_->setFixedSize(48, 29);
    step_ = button("step", "step", theme::ink, tr("One line (.)\nOver its calls (Alt+.), out of the function (Ctrl+.), one instruction (Shift+.)"));
    restart_ = button("restart", "restart", theme::ink, tr("Power off and on again (Ctrl+R)"));
    layout->addWidget(pill);

    clock_ = new QLabel;
    clock_->setObjectName("clock");
    clock_->setFont(theme::figures(15));
    clock_->setToolTip(tr("Simulated time since power-up"));
    clock_->setMinimumWidth(clock_->fontMetrics().horizontalAdvance("00.000 000 000 s"));
    layout->addWidget(clock_);
    speed_ = new QPushButton;
    speed_->setObjectName("speed");
    speed_->setFlat(true);
    speed_->setFocusPolicy(Qt::NoFocus);
    speed_->setFont(theme::figures(9));
    theme::dress(speed_, "QPushButton { background: transparent; border: none; text-align: left; padding: 2px 4px; } QPushButton:hover { color: @bramble; }");
    speed_->setFixedWidth(kSpeedWidth);
    layout->addWidget(speed_);
    layout->addStretch(1);

    findings_ = new QPushButton;
    findings_->setFocusPolicy(Qt::NoFocus);
    findings_->setFont(theme::words(9, QFont::DemiBold));
    findings_->setFixedWidth(kFindingsWidth);
    QSizePolicy stays = findings_->sizePolicy();
    stays.setRetainSizeWhenHidden(true);
    findings_->setSizePolicy(stays);
    layout->addWidget(findings_);
    find_ = new QPushButton(theme::icon("search", theme::muted), tr("Find anything      Ctrl K"));
    find_->setFocusPolicy(Qt::NoFocus);
    find_->setFont(theme::words(9));
    theme::dress(find_, "QPushButton { color: @muted; text-align: left; padding: 5px 10px; border-radius: 6px; }");
    find_->setMinimumWidth(180);
    layout->addWidget(find_);

    connect(menu_, &QToolButton::clicked, this, &Transport::menuWanted);
    connect(run_, &QToolButton::clicked, &editor_, &Editor::toggleRun);
    connect(step_, &QToolButton::clicked, this, [this] { editor_.session().step(session::Step::line); });
    connect(back_, &QToolButton::clicked, this, [this] { editor_.session().back(session::Step::line); });
    connect(restart_, &QToolButton::clicked, &editor_, &Editor::restart);
    connect(speed_, &QPushButton::clicked, this, [this] { editor_.session().setFullSpeed(!editor_.picture().atFullSpeed); });
    connect(findings_, &QPushButton::clicked, this, &Transport::findingsWanted);
    connect(find_, &QPushButton::clicked, this, &Transport::findWanted);
    connect(&editor_, &Editor::pictureChanged, this, &Transport::refresh);
    connect(&editor_, &Editor::fileChanged, this, &Transport::refresh);
    refresh();
}

void Transport::refresh()
{
    const session::Picture& p = editor_.picture();
    const bool saved = editor_.isSaved();
    const QString title = QString::fromStdString(editor_.document().title);
    const QString shown = title_->fontMetrics().elidedText(title, Qt::ElideRight, kTitleWidth - 22);
    theme::write(title_, QString("%1 %2").arg(shown.toHtmlEscaped(), saved ? "" : "<span style='color:@bramble'>●</span>"));
    title_->setToolTip(title + "\n" + (saved ? tr("Saved") : tr("Not saved yet (Ctrl+S)")));
    if (p.running != shownRunning_) {
        shownRunning_ = p.running;
        run_->setIcon(theme::icon(p.running ? "pause" : "run", theme::white));
    }
    clock_->setText(QString::fromStdString(kernel::formatClock(p.now)));
    QString speed;
    QString tip = tr("Click to change between real time and full speed");
    if (!p.notBuilt.empty()) {
        speed = tr("not as drawn");
        tip = QString::fromStdString(p.notBuilt);
    } else if (!p.stopped.empty()) {
        speed = tr("stopped");
        tip = QString::fromStdString(p.stopped);
    } else if (p.debug.slow) {
        speed = tr("slow run");
        tip = tr("Line by line; Space ends it");
    } else if (!p.running && p.latest > p.now) {
        speed = tr("%1 back").arg(QString::fromStdString(kernel::formatQuantity(kernel::seconds(p.latest - p.now), kernel::Unit::second, 3)));
        tip = tr("The bench stands in the past. Run, and the same comes again; do something new, and it takes another course from here");
    } else if (!p.running) {
        speed = p.atFullSpeed ? tr("paused, full speed") : tr("paused, real time");
    } else if (p.atFullSpeed) {
        speed = tr("%1 full speed").arg(factor(p.speed));
    } else if (p.speed > 0 && p.speed < 0.97) {
        speed = tr("%1 this machine is too slow").arg(factor(p.speed));
        tip = tr("Real time would need %1 times this machine").arg(1 / std::max(0.001, p.capacity), 0, 'f', 1);
    } else {
        speed = tr("%1 real time").arg(factor(p.speed > 0 ? p.speed : 1));
        if (p.capacity > 0)
            tip = tr("Held to the wall clock; this machine could run it at %1. Click for full speed").arg(factor(p.capacity));
    }
    speed_->setText(speed);
    speed_->setToolTip(tip);
    int worst = 0;
    std::size_t count = 0;
    for (const bench::Finding& f : p.findings)
        if (f.muted.empty() && !(f.wiring && f.severity == bench::Severity::note)) {  // a part that is not wired yet is no news
            worst = std::max(worst, static_cast<int>(f.severity));
            ++count;
        }
    findings_->setVisible(count > 0);
    findings_->setText(count == 1 ? tr("1 finding") : tr("%1 findings").arg(count));
    const char* style = worst == 2 ? "background: @errorGround; color: @errorInk;" : worst == 1 ? "background: @warningGround; color: @warningInk;" : "background: @hover; color: @muted;";
    theme::dress(findings_, QString("QPushButton { %1 border: none; border-radius: 12px; padding: 4px 12px; }").arg(style));
}

void Transport::paintEvent(QPaintEvent*)
{
    QPainter painter(this);
    painter.fillRect(rect(), theme::panel());
    painter.setPen(theme::rule());
    painter.drawLine(0, height() - 1, width(), height() - 1);
}

}  // namespace bramix::app
