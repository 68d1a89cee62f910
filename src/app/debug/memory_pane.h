// Memory in hexadecimal: one region of the chip (RAM, flash, EEPROM …), with the stack and its low-water mark, changes marked, and searching. Typing over a byte writes it.
// Tested by tests/app/code_test.cpp.
#pragma once

#include <QComboBox>
#include <QLineEdit>
#include <QScrollBar>
#include <QWidget>

#include <span>

#include "app/shell/editor.h"

namespace bramix::app {

class MemorySheet : public QWidget {
    Q_OBJECT

public:
    explicit MemorySheet(Editor& editor, QWidget* parent = nullptr);

    void refresh(const session::DebugPicture& debug);
    // The region that is shown, of Device::regions, and the address at which the view begins; clamped to what is there.
    void setView(std::size_t region, std::uint64_t from);
    [[nodiscard]] std::size_t region() const { return region_; }
    [[nodiscard]] std::uint64_t from() const { return from_; }
    [[nodiscard]] bool showsProgram() const { return place() != nullptr && place()->kind == chip::RegionKind::flash; }
    // Everything in the memory that is shown; empty until it is known.
    [[nodiscard]] QByteArray contents() const;
    // First address and number of bytes; 0 while no chip is known.
    [[nodiscard]] std::uint64_t begin() const { return place() == nullptr ? 0 : place()->begin; }
    [[nodiscard]] std::uint64_t size() const { return place() == nullptr ? 0 : place()->size; }

signals:
    void viewChanged();

protected:
    void paintEvent(QPaintEvent*) override;
    void wheelEvent(QWheelEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void resizeEvent(QResizeEvent*) override { emit viewChanged(); }

private:
    [[nodiscard]] const chip::MemoryRegion* place() const { return debug_.device == nullptr || region_ >= debug_.device->regions.size() ? nullptr : &debug_.device->regions[region_]; }
    // What stands there, and what stood there at the last stop.
    [[nodiscard]] std::span<const std::uint8_t> bytes() const;
    [[nodiscard]] int addressDigits() const;
    [[nodiscard]] int byteLeft() const;
    [[nodiscard]] bool isNarrow() const;
    [[nodiscard]] int bytePitch() const;

    Editor& editor_;
    session::DebugPicture debug_;
    std::size_t region_ = 0;
    std::uint64_t from_ = 0;
    std::optional<std::uint64_t> cursor_;
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
    void offerRegions();
    // To a region, where its interesting part begins.
    void showRegion(std::size_t region);

    Editor& editor_;
    QComboBox* choice_;                  // its data are indices into Device::regions
    const chip::Device* device_ = nullptr;  // whose regions are offered
    QString wanted_;                     // where to go when they are known
    QLineEdit* where_;
    MemorySheet* sheet_;
    QScrollBar* bar_;
    session::DebugPicture debug_;
};

}  // namespace bramix::app
