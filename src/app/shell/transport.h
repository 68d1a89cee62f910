// The transport strip: what bench, run controls, the simulated clock, how fast it runs and why, findings, and the search field.
#pragma once

#include <QLabel>
#include <QPushButton>
#include <QToolButton>
#include <QWidget>

#include "app/shell/editor.h"

namespace bramix::app {

class Transport : public QWidget {
    Q_OBJECT

public:
    explicit Transport(Editor& editor, QWidget* parent = nullptr);

signals:
    void findWanted();
    void menuWanted();
    void findingsWanted();

protected:
    void paintEvent(QPaintEvent*) override;

private:
    void refresh();

    Editor& editor_;
    QToolButton* menu_;
    QLabel* title_;
    QToolButton* run_;
    QToolButton* back_ = nullptr;
    QToolButton* step_;
    QToolButton* restart_;
    QLabel* clock_;
    QPushButton* speed_;
    QPushButton* findings_;
    QPushButton* find_;
    bool shownRunning_ = true;
};

}  // namespace bramix::app
