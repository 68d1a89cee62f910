// The inspector: whatever is selected. Live controls first, then pins with their voltage, current and function, then firmware and settings.
// With nothing selected: the bench's title, notes, chips and findings.
// Built anew when the selection or the document changes; a new picture only changes figures.
// Tested by tests/app/window_test.cpp.
#pragma once

#include <functional>
#include <set>

#include <QLabel>
#include <QScrollArea>
#include <QVBoxLayout>

#include "app/shell/editor.h"

namespace bramix::app {

class Inspector : public QScrollArea {
    Q_OBJECT

public:
    explicit Inspector(Editor& editor, QWidget* parent = nullptr);

signals:
    void firmwareWanted(const std::string& part);
    // A file that describes the registers of its chip.
    void registersWanted(const std::string& part);

private:
    void rebuild();
    void refresh();
    void showBench();
    void showPart(const bench::PartItem& part, const bench::PartKind& kind);
    void showWire(std::size_t wire);
    void showMany();
    void addWireColours(const std::set<std::size_t>& wires);
    [[nodiscard]] std::string offers() const;
    void addSeriesHelp(const bench::PartItem& part);
    void addCounts(const bench::PartItem& part, const bench::PartKind& kind);
    void addMeasured(const bench::PartItem& part, const bench::PartKind& kind);
    void addControls(const bench::PartItem& part, const bench::PartKind& kind);
    void addDial(const std::string& part, const bench::ControlKind& control);
    void addPins(const bench::PartItem& part, const bench::PartKind& kind);
    void addOrder(const bench::PartItem& part, const bench::PartKind& kind);
    void addFirmware(const bench::PartItem& part);
    void addSettings(const bench::PartItem& part, const bench::PartKind& kind);

    void addTitle(const QString& title, const QString& about, const QByteArray& lanes = {});
    void addHeading(const QString& text);
    QWidget* addRow(const QString& label, QWidget* field);
    QWidget* addWideRow(const QString& label, QWidget* field);
    QLabel* addText(const QString& text);

    Editor& editor_;
    QWidget* page_ = nullptr;
    QVBoxLayout* layout_ = nullptr;
    std::string offered_;
    std::set<std::string> unfolded_;  // dials of which one wants to see what they follow
    std::vector<std::function<void()>> refreshers_;  // each takes its figures from the present picture
};

}  // namespace bramix::app
