// Memory in hexadecimal: data, EEPROM or flash, with the stack and its low-water mark, changes marked, and searching. Typing over a byte writes it.
// Tested by tests/app/code_test.cpp.
#pragma once

#include <QComboBox>
#include <QLineEdit>
#include <QScrollBar>
#include <QWidget>

#include "app/shell/editor.h"

namespace bramix::app {

class MemorySheet : public QWidget {
    Q_OBJECT

public:
    explicit MemorySheet(Editor& editor, QWidget* parent = nullptr);

    void refresh(const session::DebugPicture& debug);
    void setView(debug::Space space, std::uint32_t from);
    [[nodiscard]] debug::Space space() const { return space_; }
    [[nodiscard]] std::uint32_t from() const { return from_; }
    // Everything in the memory that is shown; empty until it is known.
    [[nodiscard]] QByteArray contents() const;
    [[nodiscard]] std::uint32_t size() const;
    // Where a program's data begin; 0 while no chip is known.
    [[nodiscard]] std::uint32_t ramBegin() const { return debug_.device == nullptr ? 0 : static_cast<std::uint32_t>(debug_.device->ramBegin); }

signals:
    void viewChanged();

protected:
    void paintEvent(QPaintEvent*) override;
    void wheelEvent(QWheelEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void resizeEvent(QResizeEvent*) override { emit viewChanged(); }

private:
    Editor& editor_;
    session::DebugPicture debug_;
    debug::Space space_ = debug::Space::data;
    std::uint32_t from_ = 0x100;
    std::optional<std::uint32_t> cursor_;
    int nibble_ = -1;  // typed first half
};

class MemoryPane : public QWidget {
    Q_OBJECT

public:
    explicit MemoryPane(Editor& editor, QWidget* parent = nullptr);

    void refresh(const session::DebugPicture& debug);
    [[nodiscard]] MemorySheet& sheet() { return *sheet_; }

    // To an address, to the stack ("sp"), or to bytes that are looked for.
    void go(const QString& text);

signals:
    void viewChanged();

private:

    Editor& editor_;
    QComboBox* space_;
    QLineEdit* where_;
    MemorySheet* sheet_;
    QScrollBar* bar_;
    session::DebugPicture debug_;
};

}  // namespace bramix::app
