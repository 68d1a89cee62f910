// A person's own buttons beside a serial line: each sends its bytes, once or again and again, by mouse or by a key. They are part of the bench file.
// Tested by tests/app/serial_test.cpp.
#pragma once

#include <functional>

#include <QLineEdit>
#include <QPushButton>
#include <QShortcut>
#include <QWidget>

#include "app/shell/editor.h"

namespace bramix::app {

// "\n", "\r", "\t", "\0", "\\" and "\x1B" in a text as the bytes that they stand for. Nothing where an escape is not one of these, with its place in `wrong`.
[[nodiscard]] std::optional<std::string> unescaped(const QString& text, qsizetype* wrong = nullptr);
// "1B 5B 41" or "1b5b41" as bytes.
[[nodiscard]] std::optional<std::string> fromHex(const QString& text);

class SerialButtons : public QWidget {
    Q_OBJECT

public:
    // `uart`: which line is shown just now.
    SerialButtons(Editor& editor, std::function<std::string()> uart, QWidget* parent = nullptr);

    // A field for a new button, or for the one of this number.
    void edit(std::optional<std::size_t> index);

private:
    void rebuild();
    // False where it cannot be; that is told.
    bool sendBytes(const bench::ButtonItem& button);
    void press(std::size_t index);
    void release(std::size_t index);
    void repeat();
    void take();

    struct Running {
        std::size_t index;
        kernel::Duration every;
        kernel::Time next;
    };

    Editor& editor_;
    std::function<std::string()> uart_;
    std::vector<bench::ButtonItem> shown_;
    std::vector<QPushButton*> buttons_;
    std::vector<QShortcut*> shortcuts_;
    std::vector<Running> running_;
    QWidget* row_;
    QWidget* form_;
    QLineEdit* label_;
    QLineEdit* bytes_;
    QLineEdit* every_;
    QLineEdit* key_;
    std::optional<std::size_t> edited_;
};

}  // namespace bramix::app
