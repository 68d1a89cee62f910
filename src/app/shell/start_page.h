// Where work begins: a new bench in a minute, the ones worked on last, and the examples by what they teach.
// Tested by tests/app/start_test.cpp.
#pragma once

#include <QLineEdit>
#include <QProcess>
#include <QWidget>

#include "app/canvas/part_art.h"
#include "bench/new_bench.h"

class QComboBox;
class QLabel;
class QPushButton;
class QVBoxLayout;

namespace bramix::app {

class StartPage : public QWidget {
    Q_OBJECT

public:
    StartPage(const bench::Catalogue& catalogue, PartArt& art, QWidget* parent = nullptr);
    ~StartPage() override { build_.disconnect(this); }

    // Looks at recent files, examples and compilers anew.
    void refresh(const QStringList& recent);
    // Typing names the new bench, Enter makes it.
    void takeFocus();
    // Makes the bench that is asked for, builds its firmware, and tells.
    void make();

    // What a bench's file looks like, drawn once for as long as it is not changed; none of one that cannot be read.
    [[nodiscard]] QPixmap pictureOf(const QString& file, QSize size);

signals:
    void benchChosen(const QString& file);
    void emptyWanted();
    void openWanted();
    // Built and ready to run.
    void made(const QString& file);

protected:
    void resizeEvent(QResizeEvent* event) override;

private:
    [[nodiscard]] int columnsThatFit() const;
    void addTiles(QVBoxLayout* column, const QString& heading, const QStringList& files, int most);
    [[nodiscard]] QPixmap picture(const bench::Document& document, QSize size);
    void boardChosen();
    void showTools();
    void say(const QString& text, bool error);

    const bench::Catalogue& catalogue_;
    PartArt& art_;
    QComboBox* board_;
    QComboBox* language_;
    QLineEdit* name_;
    QLineEdit* folder_;
    QPushButton* make_;
    QLabel* tools_;
    QLabel* state_;
    QVBoxLayout* tiles_;
    QStringList recent_;
    int columns_ = 0;
    QProcess build_;
    QString file_;  // that is being built
};

}  // namespace bramix::app
