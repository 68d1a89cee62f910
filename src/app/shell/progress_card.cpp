#include "app/shell/progress_card.h"

#include <future>

#include <QApplication>
#include <QDialog>
#include <QEventLoop>
#include <QHBoxLayout>
#include <QTimer>

#include "app/shell/theme.h"

namespace bramix::app {

namespace {

constexpr int kSteps = 1000;

}  // namespace

ProgressCard::ProgressCard(QWidget* parent) : QFrame(parent)
{
    setObjectName("progressCard");
    theme::dress(this, "QFrame#progressCard { background: @card; border: 1px solid @edge; border-radius: 8px; }"
                       "QProgressBar { background: @hover; border: none; border-radius: 3px; } QProgressBar::chunk { background: @accent; border-radius: 3px; }");
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(14, 8, 8, 8);
    row->setSpacing(12);
    what_ = new QLabel;
    what_->setFont(theme::words(9.4, QFont::Medium));
    bar_ = new QProgressBar;
    bar_->setRange(0, kSteps);
    bar_->setTextVisible(false);
    bar_->setFixedSize(180, 6);
    stop_ = new QPushButton(tr("Stop"));
    stop_->setObjectName("stopWork");
    row->addWidget(what_);
    row->addWidget(bar_);
    row->addWidget(stop_);
    connect(stop_, &QPushButton::clicked, this, &ProgressCard::stopWanted);
    hide();
}

void ProgressCard::follow(const std::optional<kernel::Progress::State>& work)
{
    const bool long_ = work && std::chrono::steady_clock::now() - work->since >= std::chrono::milliseconds(kPatienceMs);
    if (long_) {
        what_->setText(QString::fromStdString(work->what) + tr(" … %1 %").arg(static_cast<int>(100 * work->share)));
        bar_->setValue(static_cast<int>(kSteps * work->share));
        bar_->setAccessibleName(QString::fromStdString(work->what));
        adjustSize();
    }
    if (long_ == isVisibleTo(parentWidget()))
        return;
    setVisible(long_);
    raise();
}

void ProgressCard::place(const QRect& over) { move(over.center().x() - width() / 2, over.bottom() - height() - 16); }

void waitFor(const QString& what, const std::function<void(kernel::Progress&)>& work)
{
    kernel::Progress progress;
    progress.begin(what.toStdString());
    auto done = std::async(std::launch::async, [&] { work(progress); });
    // What is short needs no loop of its own.
    constexpr auto kAtOnce = std::chrono::milliseconds(150);
    if (done.wait_for(kAtOnce) == std::future_status::ready)
        return done.get();
    QDialog dialog(QApplication::activeWindow(), Qt::Dialog | Qt::FramelessWindowHint);
    dialog.setObjectName("waiting");
    dialog.setModal(true);
    auto* rows = new QHBoxLayout(&dialog);
    rows->setContentsMargins(0, 0, 0, 0);
    auto* card = new ProgressCard(&dialog);
    rows->addWidget(card);
    QObject::connect(card, &ProgressCard::stopWanted, [&] { progress.stop(); });
    QObject::connect(&dialog, &QDialog::rejected, [&] { progress.stop(); });  // Esc
    QEventLoop loop;
    QTimer look;
    QObject::connect(&look, &QTimer::timeout, [&] {
        if (done.wait_for(std::chrono::seconds(0)) == std::future_status::ready)
            return loop.quit();
        const auto now = progress.state();
        card->follow(now);
        if (card->isVisibleTo(&dialog) && !dialog.isVisible())
            dialog.show();
    });
    constexpr int kLookMs = 30;
    look.start(kLookMs);
    loop.exec();
    done.get();
}

}  // namespace bramix::app
