// Code beside the bench: the sources of the firmware that is looked at, its instructions, the call stack, and the panes below.
//
// It shows where the program stands as soon as it stands; the files that the firmware was built from are tabs, and "Instructions" is the whole flash.
// Tested by tests/app/code_test.cpp.
#pragma once

#include <memory>

#include <QComboBox>
#include <QDateTime>
#include <QLabel>
#include <QSpinBox>
#include <QSplitter>
#include <QStackedWidget>
#include <QTabBar>
#include <QToolButton>
#include <QWidget>

#include "app/code/build_pane.h"
#include "app/code/code_view.h"
#include "app/code/sources.h"
#include "app/debug/chip_pane.h"
#include "app/debug/memory_pane.h"
#include "app/debug/stops_pane.h"
#include "app/debug/timing_pane.h"
#include "app/debug/variables_pane.h"
#include "app/shell/editor.h"
#include "debug/symbols.h"

namespace bramix::app {

class CodePanel : public QWidget {
    Q_OBJECT

public:
    explicit CodePanel(Editor& editor, QWidget* parent = nullptr);

    // Whether anybody looks: a panel that is hidden costs nothing.
    void setLooking(bool on);
    // Keys go to the source, as soon as it is there.
    void takeFocus();
    // Opens a file at a line: as the firmware names it, or as it lies on disk.
    bool openPlace(const QString& file, int line);
    // "lock.c:42".
    bool openPlace(const QString& place);
    void openAddress(std::uint32_t address);
    // Where an instruction lies in its source, or among the instructions; false while nothing is known of the firmware.
    bool openCode(std::uint32_t address);
    // The chip that is looked at.
    void chooseChip(const std::string& id);

    void toggleStopAtCursor();
    void runToCursor();
    void toggleInstructions();
    void edit();
    bool save();
    [[nodiscard]] bool hasUnsaved() const;
    void build();
    void slowRun(bool on);

    [[nodiscard]] CodeView* view() const;
    [[nodiscard]] QTabBar& tabs() { return *tabs_; }
    [[nodiscard]] BuildPane& buildPane() { return *build_; }
    [[nodiscard]] VariablesPane& variables() { return *variables_; }
    [[nodiscard]] StopsPane& stops() { return *stops_; }
    [[nodiscard]] ChipPane& chip() { return *chip_; }
    [[nodiscard]] MemoryPane& memory() { return *memory_; }
    [[nodiscard]] TimingPane& timing() { return *timing_; }
    void showPane(QWidget* pane);
    // Functions and files for finding anything: name, and what shows it.
    [[nodiscard]] std::vector<std::pair<QString, std::function<void()>>> findable();

signals:
    // A letter that is a command of code that is being read: "b".
    void letterTyped(const QString& letter);
    // Where a line ("lock.c:42") has made edges.
    void edgesWanted(QString place);

private:
    struct Tab {
        QString name;   // as the firmware names it; empty: the instructions
        QString file;   // on disk; empty: not found
        CodeView* view = nullptr;
        QDateTime read;
    };

    void refresh();
    void takeProgram(const session::DebugPicture& debug);
    // Where reading a program begins: main(), or setup() where main() is a package's; null where it names no function so.
    [[nodiscard]] const debug::Function* entry() const;
    void showPlace(const session::DebugPicture& debug);
    void showNothing(const session::DebugPicture& debug);
    // To where a name of the source is defined: a function, an interrupt's handler, a variable.
    void openDefinition(const QString& file, const QString& expression, int line);
    void mark(const session::DebugPicture& debug);
    void request();
    int tabOf(const QString& file);
    CodeView* load(Tab& tab);
    void fillInstructions();
    void toggleStop(const Tab& tab, int line);
    void toggleUnfold(const Tab& tab, int line);
    [[nodiscard]] QString instructionsOf(const QString& name, int line, std::uint32_t pc) const;
    [[nodiscard]] QString instructionRow(std::uint32_t address, bool next, unsigned* size) const;
    void hover(const QString& expression, const QPoint& at);
    void lineMenu(const Tab& tab, int line, const QPoint& at);
    [[nodiscard]] QString stopName(const Tab& tab, int line) const;
    CodeView* newView();
    void showCrumbs(const session::DebugPicture& debug);

    Editor& editor_;
    Sources sources_;
    debug::Symbols symbols_;
    const chip::Device* device_ = nullptr;
    std::shared_ptr<const std::vector<std::uint8_t>> flash_;  // program memory, from Device::codeBegin
    QString firmware_;
    std::uint64_t program_ = 0;
    bool freshProgram_ = false;  // nothing of it has been shown yet
    std::vector<Tab> files_;       // the instructions last
    std::map<std::uint32_t, int> lineOfAddress_;  // in the instructions
    std::map<int, std::uint32_t> addressOfLine_;
    std::set<std::pair<QString, int>> unfolded_;
    bool instructions_ = true;     // under the line where the program stands
    bool looking_ = false;
    std::string chipId_;
    std::size_t frame_ = 0;
    bool wasStanding_ = false;
    std::uint32_t shownPc_ = UINT32_MAX;
    bool focusWanted_ = false;
    std::size_t shownFrame_ = SIZE_MAX;
    kernel::Time shownAt_{};
    bool wasMarked_ = false;             // what the marks were made of
    std::int64_t markedCounts_ = 0;
    std::size_t markedStops_ = 0;
    QString hovered_;
    QPoint hoveredAt_;

    QTabBar* tabs_;
    QLabel* crumbs_;
    QLabel* hint_;
    QLabel* nothing_;
    bool nothingShown_ = false;
    QLabel* mode_;  // reading or editing, and the keys of that
    void showMode(const QString& typed = {});
    QToolButton* unfold_;
    QToolButton* slow_;
    QSpinBox* pace_;
    QComboBox* paceOf_;
    QStackedWidget* views_;
    QTabBar *leftTabs_, *rightTabs_;
    QStackedWidget *left_, *right_;
    VariablesPane* variables_;
    StopsPane* stops_;
    BuildPane* build_;
    ChipPane* chip_;
    MemoryPane* memory_;
    TimingPane* timing_;
};

}  // namespace bramix::app
