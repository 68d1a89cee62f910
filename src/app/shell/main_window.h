// The window: where everything is, and what the keys do.
// Tested by tests/app/window_test.cpp.
#pragma once

#include <QMainWindow>
#include <QSplitter>
#include <QStackedWidget>
#include <QTabBar>

#include "app/canvas/bench_view.h"
#include "app/code/code_panel.h"
#include "app/debug/gdb_link.h"
#include "app/inspector/inspector.h"
#include "app/scope/scope_view.h"
#include "app/serial/serial_view.h"
#include "app/sweep/sweep_view.h"
#include "app/shell/commands.h"
#include "app/shell/drawer.h"
#include "app/shell/editor.h"
#include "app/shell/guide_view.h"
#include "app/shell/pick_list.h"
#include "app/shell/progress_card.h"
#include "app/shell/start_page.h"
#include "app/shell/transport.h"
#include "app/tape/decode_table.h"
#include "app/tape/tape_view.h"

namespace bramix::app {

class MainWindow : public QMainWindow {
    Q_OBJECT

public:
    explicit MainWindow(const bench::Catalogue& catalogue);

    [[nodiscard]] Editor& editor() { return editor_; }
    [[nodiscard]] BenchView& benchView() { return *bench_; }
    [[nodiscard]] TapeView& tapeView() { return *tape_; }
    [[nodiscard]] SerialView& serialView() { return *serial_; }
    [[nodiscard]] PickList& pickList() { return *pick_; }

    void open(const QString& file);
    // By its suffix: a bench or a recording is opened, a program built on a bench of its own, firmware loaded into the only board.
    void takeFile(const QString& file);
    void openAddPart(const QString& typed = {});
    void openFindAnything();
    void showSerial();
    void showScope();
    void showSweep();
    // In place of bench and tape, until a bench is chosen.
    void showStart();
    [[nodiscard]] StartPage& startPage() { return *start_; }
    void showFindings();
    [[nodiscard]] ScopeView& scope() { return *scope_; }
    [[nodiscard]] SweepView& sweep() { return *sweep_; }
    void showTape();
    // The arrangement for measuring.
    void showTapeLarge();
    // What the tape's lanes read, as a table beside it.
    void showTable(bool on) { table_->setVisible(on); }
    [[nodiscard]] DecodeTable& decodeTable() { return *table_; }
    [[nodiscard]] CodePanel& code() { return *code_; }
    [[nodiscard]] GdbLink& gdb() { return gdb_; }
    // Code beside the bench, or away.
    void showCode(bool on);
    // Opens a source line ("lock.c:42") of a chip's firmware.
    void openCode(const std::string& chip, const QString& place);
    // Everything that can be done, and its menus; the caller shows them.
    [[nodiscard]] const std::vector<Command>& commands() const { return commands_; }
    [[nodiscard]] QMenu* makeMenu();
    [[nodiscard]] QMenu* makeMenuOf(const BenchView::Target& target);
    void openMenu();
    void openGuide();
    void openKeys();
    void openSettings();
    [[nodiscard]] GuideView& guide() { return *guide_; }
    // The first steps, if nobody has seen them; or again.
    void offerTour();
    void startTour();
    // Closing asks no questions; for tests.
    void neverAsk() { asks_ = false; }

signals:
    // The look is taken up by whoever knows the desktop's.
    void settingsChanged();

protected:
    void closeEvent(QCloseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void keyReleaseEvent(QKeyEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void dragEnterEvent(QDragEnterEvent*) override;
    void dropEvent(QDropEvent*) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    static constexpr double kWireShare = 0.325;  // of the height, for the tape
    static constexpr double kMeasureShare = 0.62;
    static constexpr double kDebugShare = 0.25;
    static constexpr int kMessageMs = 8000;
    static constexpr int kShortMessageMs = 3000;

    // main_window_commands.cpp
    void addCommand(Command command);
    void addCommands();
    void addFileCommands();
    void addBenchCommands();
    void addRunCommands();
    void addViewCommands();
    [[nodiscard]] const Command* command(const QString& id) const;
    [[nodiscard]] bool benchHasKeys() const;
    void withPin(const std::function<void(const bench::PinRef&)>& then);

    // main_window_menus.cpp
    QAction* addRow(QMenu& menu, const QString& id, const QString& otherName = {});
    [[nodiscard]] QString nameOfUndo() const;
    [[nodiscard]] QString nameOfRedo() const;
    void showAbout();
    void openWire();
    void placeTour();
    void openWireFrom(const bench::PinRef& from);
    std::vector<PickList::Entry> pinsMatching(const QString& typed, const std::function<void(const bench::PinRef&)>& then);

    void arrange(double tapeShare);
    void askOpen();
    void askSave(bool elsewhere);
    void askExport();
    void openReplace();
    void hideStart();
    void askNew();
    void newEmpty();
    void askFirmware(const std::string& part);
    void askRegisters(const std::string& part);
    void askFirmwareOfChosen();
    void openProgram(const QString& file);
    [[nodiscard]] std::vector<std::string> chipParts() const;
    bool mayLeave();
    void showMessage(const QString& text, bool error, int ms = kMessageMs);
    void placeMessage();
    void showRecoveryBar();
    void holdKey(const QString& text, bool down);
    std::vector<PickList::Entry> findEverything(const QString& typed);
    void offerTime(const QString& typed, std::vector<PickList::Entry>& out);
    void offerParts(const QString& typed, const QString& title, std::size_t most, std::vector<PickList::Entry>& out);
    void takeFolder(const QString& folder);

    Editor editor_;
    PartArt art_;
    Transport* transport_;
    Drawer* drawer_;
    BenchView* bench_;
    Inspector* inspector_;
    CodePanel* code_ = nullptr;
    GdbLink gdb_{editor_};
    QSplitter* middle_ = nullptr;
    TapeView* tape_;
    DecodeTable* table_ = nullptr;
    ScopeView* scope_ = nullptr;
    SweepView* sweep_ = nullptr;
    SerialView* serial_;
    QTabBar* tabs_;
    QStackedWidget* lower_;
    StartPage* start_ = nullptr;
    QSplitter* split_;
    PickList* pick_;
    ProgressCard* progress_ = nullptr;
    QTimer progressLook_;
    QLabel* message_;
    QTimer messageTime_;
    QWidget* recovery_;
    std::vector<Command> commands_;
    GuideView* guide_ = nullptr;
    QWidget* tour_ = nullptr;
    bool fromMenu_ = false;  // a command that was chosen, not typed
    bool asks_ = true;
};

}  // namespace bramix::app
