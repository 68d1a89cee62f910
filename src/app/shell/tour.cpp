#include "app/shell/tour.h"

#include <QHBoxLayout>
#include <QTimer>
#include <QVBoxLayout>

#include "app/shell/theme.h"

namespace bramix::app {

Tour::Tour(std::vector<Step> steps, QWidget* parent) : QFrame(parent), steps_(std::move(steps))
{
    setObjectName("tour");
    setAttribute(Qt::WA_DeleteOnClose);
    setAccessibleName(tr("First steps"));
    theme::dress(this, "QFrame#tour { background: @card; border: 2px solid @bramble; border-radius: 10px; }");
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(16, 12, 16, 12);
    rows->setSpacing(6);
    head_ = new QLabel;
    head_->setFont(theme::words(8.6, QFont::DemiBold));
    theme::dress(head_, "color: @bramble;");
    text_ = new QLabel;
    text_->setFont(theme::words(10));
    text_->setWordWrap(true);
    auto* buttons = new QHBoxLayout;
    auto* leave = new QPushButton(tr("Leave"));
    leave->setObjectName("tourLeave");
    next_ = new QPushButton(tr("Next"));
    next_->setObjectName("tourNext");
    for (QPushButton* b : {leave, next_})
        b->setFocusPolicy(Qt::NoFocus);
    buttons->addStretch(1);
    buttons->addWidget(leave);
    buttons->addWidget(next_);
    rows->addWidget(head_);
    rows->addWidget(text_, 1);
    rows->addLayout(buttons);
    setFixedSize(340, 150);
    connect(leave, &QPushButton::clicked, this, [this] {
        emit ended();
        close();
    });
    connect(next_, &QPushButton::clicked, this, &Tour::next);
    auto* timer = new QTimer(this);
    connect(timer, &QTimer::timeout, this, &Tour::look);
    constexpr int kLookMs = 200;
    timer->start(kLookMs);
    show(0);
}

void Tour::show(std::size_t step)
{
    step_ = step;
    head_->setText(tr("First steps, %1 of %2").arg(step + 1).arg(steps_.size()));
    text_->setText(steps_[step].text);
    next_->setText(step + 1 == steps_.size() ? tr("Done") : tr("Next"));
}

void Tour::next()
{
    if (step_ + 1 < steps_.size())
        return show(step_ + 1);
    emit ended();
    close();
}

void Tour::look()
{
    if (step_ + 1 < steps_.size() && steps_[step_].done && steps_[step_].done())
        next();
}

}  // namespace bramix::app
