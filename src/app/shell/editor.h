// The one model that the views share: the document with its undo history and file, what is selected, and the running session behind it.
//
// Every edit goes through change(): it is recorded for undo, sent to the session, autosaved, and announced.
// Invariant: the session runs the document as it stands (or the last one that could be built).
// Tested by tests/app/.
#pragma once

#include <functional>

#include <QDateTime>
#include <QFileSystemWatcher>
#include <QLockFile>
#include <QObject>
#include <QDateTime>
#include <QTimer>

#include "bench/edit.h"
#include "bench/history.h"
#include "session/live/live_session.h"

namespace bramix::app {

class Editor : public QObject {
    Q_OBJECT

public:
    explicit Editor(const bench::Catalogue& catalogue, QObject* parent = nullptr);

    [[nodiscard]] const bench::Catalogue& catalogue() const { return catalogue_; }
    [[nodiscard]] const bench::Document& document() const { return document_; }
    [[nodiscard]] session::LiveSession& session() { return session_; }
    [[nodiscard]] const session::Picture& picture() const { return *picture_; }
    [[nodiscard]] QString file() const { return file_; }
    [[nodiscard]] bool isSaved() const { return document_ == saved_; }

    // Files. Errors come out of message().
    void newBench();
    // A bench, or a recording of one (*.bramix-run), which is unpacked into the cache.
    bool openFile(const QString& file);
    // Where the file has been changed by somebody else meanwhile, only with `overwrite`.
    bool save(bool overwrite = false);
    // What differs between the file and what it was when it was last read or written here; empty where nothing does.
    [[nodiscard]] QString changedOnDisk() const;
    // The file as it is now, and what was changed here is no more.
    bool reload();
    bool saveAs(const QString& file);
    [[nodiscard]] QStringList recentFiles() const;

    // Work that was not saved when the program last ended, for the present file (or for a bench without one).
    [[nodiscard]] bool hasRecovery() const;
    void restoreRecovery();
    void discardRecovery();

    // `edit` changes a copy; nothing happens where it leaves it the same. Edits with one merge key in a row undo together.
    void change(const QString& name, const std::function<void(bench::Document&)>& edit, const QString& mergeKey = {});
    void undo();
    void redo();
    [[nodiscard]] const bench::History& history() const { return history_; }

    [[nodiscard]] const bench::Selection& selection() const { return selection_; }
    void select(const bench::Selection& selection);

    // Pins on the tape, in the order of their lanes.
    [[nodiscard]] const std::vector<bench::PinRef>& lanes() const { return lanes_; }
    void setLanes(std::vector<bench::PinRef> lanes);
    void toggleLane(const bench::PinRef& pin);
    // Lanes that show more than a pin (session/lanes/read_lanes.h); none: the usual ones of a bench. A lane that is there already goes.
    [[nodiscard]] const std::optional<std::vector<std::string>>& reads() const { return reads_; }
    void toggleRead(const std::string& lane);
    // These pins, and these lanes beside those that are there.
    void addLanes(const std::vector<bench::PinRef>& pins, const std::vector<std::string>& reads);
    // Lanes of the tape from the top, groups' headings among them, as far as somebody has put them in order; "usual" stands for those that come by themselves.
    [[nodiscard]] const std::vector<std::string>& laneOrder() const { return document_.lanes; }
    // One lane, or a heading, up or down.
    void moveLane(const std::string& lane, int by);
    // A heading over the lanes from this one on; and what becomes of it: another text ("folded Motor"), or with none it goes.
    void groupFrom(const std::string& lane, const std::string& name);
    void changeGroup(const std::string& heading, const std::string& to);

    // Pins with a probe beside them, measured over the last probeSpan(); and one under the pointer.
    [[nodiscard]] const std::vector<bench::PinRef>& probes() const { return probes_; }
    void toggleProbe(const bench::PinRef& pin);
    void hoverProbe(const std::optional<bench::PinRef>& pin);
    [[nodiscard]] kernel::Duration probeSpan() const { return probeSpan_; }
    void nextProbeSpan();

    void run();
    void pause();
    void toggleRun();
    void step();
    void restart();
    // The firmware has just been built: it is loaded anew and the bench starts again, controls as they stand.
    void firmwareBuilt();
    void replacePart(const std::string& part);
    void setControl(const std::string& part, const std::string& control, double value);
    // By hundredths of its way, or stop by stop; gives the new value.
    double turnDial(const bench::PartItem& part, const bench::ControlKind& dial, double steps);
    // Into the named part, and into the document, as a path beside the bench file where that is possible.
    void loadFirmware(const std::string& part, const QString& file);
    // An SVD file describes a chip's registers from now on; empty: the chip's own do.
    void describeRegisters(const std::string& part, const QString& file);

    // Seconds between two copies of unsaved work.
    void keepAsideEvery(int seconds);

    [[nodiscard]] QString folder() const;
    // What the bench may name, for whatever works on it beside the run.
    [[nodiscard]] kernel::FileAccess files() const { return {folder().toStdString(), true, allowed_}; }

signals:
    void documentChanged();
    void selectionChanged();
    void fileChanged();
    void lanesChanged();
    void recordingOpened(kernel::Time latest);
    void probesChanged();
    void pictureChanged();                             // at most 60 times a second
    void serialReceived(const std::vector<bramix::session::SerialByte>& bytes);
    void sessionRestarted();
    void message(const QString& text, bool error);

private:
    void adopt(bench::Document document, const QString& file);
    void afterEdit();
    void pruneSelection();
    void poll();
    void autosave();
    void watchFirmware();
    void firmwareFileChanged(const QString& path);
    // Files outside the bench's folder that it may use: those that a person has chosen here, now or earlier.
    void allowFiles();
    [[nodiscard]] QString recoveryFile() const;
    [[nodiscard]] QString recoveryFile(int slot) const;
    void takeSlot();
    void rememberRecent(const QString& file);

    const bench::Catalogue& catalogue_;
    session::LiveSession session_;
    bench::Document document_;
    bench::Document saved_;
    std::string known_;                // the file, as last read or written
    std::vector<std::string> allowed_;
    std::set<std::string> strangers_;  // what the bench named when it was opened
    std::unique_ptr<QLockFile> slot_;  // of several windows on one bench each keeps its work aside in a file of its own
    int slotNumber_ = 0;
    bool toldNotKept_ = false;
    bench::Document autosaved_;
    bench::History history_;
    bench::Selection selection_;
    std::vector<bench::StopItem> sentStops_;
    void sendProbes();
    std::vector<bench::PinRef> lanes_;
    std::optional<std::vector<std::string>> reads_;
    void adoptLanes();
    void keepLanes();
    bool openRecording(const QString& file);
    [[nodiscard]] std::vector<std::string> shownLanes() const;
    void setOrder(const std::vector<std::string>& lanes);
    [[nodiscard]] std::vector<std::string> shownReads(bool byName) const;
    std::vector<bench::PinRef> probes_;
    std::optional<bench::PinRef> hovered_;
    kernel::Duration probeSpan_ = std::chrono::milliseconds(100);
    QString file_;
    std::shared_ptr<const session::Picture> picture_;
    QTimer frame_;
    QTimer autosave_;
    QFileSystemWatcher watcher_;
    QDateTime built_;  // what the watcher sees of that build is no news
};

}  // namespace bramix::app
