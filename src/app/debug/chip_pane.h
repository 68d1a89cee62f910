// The chip's registers: the core's, and each peripheral's bit by bit with its meaning in words. A click on a bit turns it over.
// Tested by tests/app/code_test.cpp.
#pragma once

#include <set>

#include <QComboBox>
#include <QScrollArea>
#include <QTreeWidget>
#include <QWidget>

#include "app/shell/editor.h"
#include "debug/register_view.h"

namespace bramix::app {

class ChipSheet : public QWidget {
    Q_OBJECT

public:
    explicit ChipSheet(Editor& editor, QWidget* parent = nullptr);

    void refresh(const session::DebugPicture& debug);
    // Empty: the groups that the firmware uses.
    void showGroup(const QString& name);
    [[nodiscard]] QStringList groups() const;
    // Where a bit stands, for tests.
    [[nodiscard]] QRect bitRect(const QString& reg, int bit) const;

    [[nodiscard]] QSize sizeHint() const override { return {250, height_}; }

protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent* event) override;
    bool event(QEvent* event) override;

private:
    struct Row {
        const chip::PeripheralRegister* reg;
        int top;
    };

    void lay();
    [[nodiscard]] bool inUse(const chip::PeripheralGroup& group) const;
    [[nodiscard]] const std::vector<chip::PeripheralGroup>& all() const;
    [[nodiscard]] int coreHeight() const;
    void paintCore(QPainter& p) const;

    Editor& editor_;
    session::DebugPicture debug_;
    QString shown_;
    std::vector<Row> rows_;
    std::vector<std::pair<QString, int>> heads_;
    int height_ = 100;
};

class ChipPane : public QWidget {
    Q_OBJECT

public:
    explicit ChipPane(Editor& editor, QWidget* parent = nullptr);

    void refresh(const session::DebugPicture& debug);
    [[nodiscard]] ChipSheet& sheet() { return *sheet_; }
    [[nodiscard]] QTreeWidget& pins() { return *pins_; }
    // A group by its name, as soon as the chip is known.
    void show(const QString& group) { wanted_ = group; }

private:
    void refreshPins(const std::vector<chip::PinStatus>& pins);
    QComboBox* choice_;
    ChipSheet* sheet_;
    QScrollArea* scroll_;
    QTreeWidget* pins_;
    const chip::RegisterMap* map_ = nullptr;  // whose groups are offered
    QString wanted_;
};

}  // namespace bramix::app
