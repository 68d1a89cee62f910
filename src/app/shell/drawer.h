// The drawer at the left: parts, files or findings, one at a time, closed by default.
#pragma once

#include <functional>

#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QStackedWidget>
#include <QToolButton>
#include <QVBoxLayout>
#include <QWidget>

#include "app/canvas/part_art.h"
#include "app/shell/editor.h"

namespace bramix::app {

class Drawer : public QWidget {
    Q_OBJECT

public:
    enum Page { kParts, kFiles, kFindings };

    Drawer(Editor& editor, PartArt& art, QWidget* parent = nullptr);

    void toggle(Page page);

signals:
    // Before it takes room, or gives it back.
    void aboutToToggle();
    void partChosen(const std::string& kind);
    void openWanted();
    void newWanted();
    void saveWanted(bool elsewhere);
    void fileChosen(const QString& file);
    void placeChosen(const std::string& where);
    void codeChosen(const std::string& chip, const QString& place);  // "lock.c:42"
    void momentChosen(kernel::Time at);

private:
    void fillParts();
    void fillFiles();
    void fillFindings();
    void offerMute(const QPoint& at);
    QWidget* page(const QString& title, QWidget* content);

    Editor& editor_;
    PartArt& art_;
    QStackedWidget* stack_;
    std::vector<QToolButton*> rail_;
    QListWidget* parts_;
    QLineEdit* filter_;
    QWidget* files_;
    QVBoxLayout* filesLayout_;
    QListWidget* findings_;
    std::size_t shownFindings_ = SIZE_MAX;
};

}  // namespace bramix::app
