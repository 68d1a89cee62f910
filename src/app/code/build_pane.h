// Building the firmware: the bench's command, its output as it comes, and errors that lead to their lines.
// Tested by tests/app/code_test.cpp.
#pragma once

#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QProcess>
#include <QPushButton>
#include <QWidget>

#include "app/shell/editor.h"

namespace bramix::app {

class BuildPane : public QWidget {
    Q_OBJECT

public:
    explicit BuildPane(Editor& editor, QWidget* parent = nullptr);
    // A build that still runs is ended, and nobody hears of it any more.
    ~BuildPane() override { process_.disconnect(this); }

    // Runs the command that the bench names, or what is found beside the firmware: a Makefile, a CMakeLists.txt. A bench may come from anybody, so what it would run is
    // shown first and waits until the person has allowed it, once for each command with the files that it is made of.
    void build();
    void allowAndBuild();
    // What is found in a folder that was made here needs no asking.
    static void allowIn(const QString& folder);
    [[nodiscard]] bool isBuilding() const { return process_.state() != QProcess::NotRunning; }
    [[nodiscard]] QListWidget& output() { return *output_; }
    // Ways to build that can be chosen, each as it is shown and the command that it stands for; without a command: what is missing.
    [[nodiscard]] std::vector<std::pair<QString, QString>> ways() const;
    // How many errors and warnings the last build told of.
    [[nodiscard]] int errors() const { return errors_; }
    [[nodiscard]] int warnings() const { return warnings_; }

signals:
    void placeChosen(const QString& file, int line);
    // The build is over; `good`: the firmware has been loaded anew and the bench restarted.
    void built(bool good);

private:
    struct Plan {
        QString folder;
        QString command;
    };
    [[nodiscard]] Plan plan() const;
    [[nodiscard]] static QString markOf(const Plan& plan);
    [[nodiscard]] static bool isAllowed(const Plan& plan);
    static void allow(const Plan& plan);
    void askFirst(const Plan& plan);
    // Folders in which firmware of this bench may be built, the likeliest first.
    [[nodiscard]] QStringList folders() const;
    // What can be run there, as it is found: a Makefile, a CMakeLists.txt, a script.
    [[nodiscard]] static std::vector<Plan> found(const QString& folder);
    void offerWays(QPoint at);
    void setCommand(const QString& command);
    void take(const QByteArray& bytes);
    void line(const QString& text);
    void finished(int code, QProcess::ExitStatus status);

    Editor& editor_;
    QProcess process_;
    QString folder_;
    QByteArray rest_;
    QLabel* title_;
    QListWidget* output_;
    QLineEdit* command_;
    QWidget* consent_;  // shown while a command waits to be allowed
    int errors_ = 0, warnings_ = 0;
};

}  // namespace bramix::app
