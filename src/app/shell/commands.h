// Everything that can be done in the window, once: its words, its keys, where it stands in the menu, and where its keys act. The menu behind the mark,
// the menus of things, the list of keys and the search take what they show from here.
// Tested by tests/app/commands_test.cpp.
#pragma once

#include <QAction>
#include <QKeySequence>
#include <QList>
#include <QString>

#include <functional>
#include <vector>

namespace bramix::app {

// Parts of the menu, in its order.
enum class Menu { file, edit, bench, run, code, tape, instruments, view, help };

// Where a command's keys act. A single letter of the bench does nothing while one is elsewhere, and what it did is said.
enum class Keys { window, bench, code };

struct Command {
    QString id;     // for menus that name it: "turn"
    QString name;   // as a row of the menu
    QString words;  // further words to find it by
    Menu menu = Menu::file;
    Keys where = Keys::window;
    QList<QKeySequence> keys;
    std::function<void()> run;
    QAction* action = nullptr;  // shows the name and the first key

    [[nodiscard]] QString shownKey() const { return keys.isEmpty() ? QString() : keys.first().toString(QKeySequence::NativeText); }
};

[[nodiscard]] QString menuTitle(Menu menu);
[[nodiscard]] QString keysTitle(Keys where);

}  // namespace bramix::app
