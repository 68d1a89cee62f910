// How far something long has come, with a button that stops it. It comes after most of a second, so that what is short does not flicker.
//
// ProgressCard stands over the bench while the session's thread has something long to do (LiveSession::work()); everything else can be used meanwhile.
// waitFor() is for what has to be there before anything else can go on, such as a recording that is being opened: the work is done in a thread of its own,
// the window is drawn and can be closed, and only the button takes the mouse.
// Tested by tests/app/progress_test.cpp.
#pragma once

#include <functional>

#include <QFrame>
#include <QLabel>
#include <QProgressBar>
#include <QPushButton>

#include "kernel/progress.h"

namespace bramix::app {

class ProgressCard : public QFrame {
    Q_OBJECT

public:
    explicit ProgressCard(QWidget* parent);
    // What is under way, or nothing: shows and hides the card.
    void follow(const std::optional<kernel::Progress::State>& work);
    // In the middle of this place of its parent, at the bottom.
    void place(const QRect& over);

    static constexpr int kPatienceMs = 700;

signals:
    void stopWanted();

private:
    QLabel* what_;
    QProgressBar* bar_;
    QPushButton* stop_;
};

void waitFor(const QString& what, const std::function<void(kernel::Progress&)>& work);

}  // namespace bramix::app
