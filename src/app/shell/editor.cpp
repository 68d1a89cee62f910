#include "app/shell/editor.h"

#include <algorithm>
#include <cmath>
#include <array>

#include <QCryptographicHash>
#include <QDir>
#include <QFile>
#include <QFileInfo>
#include <QSettings>
#include <QStandardPaths>

#include <fmt/format.h>

#include "app/shell/progress_card.h"
#include "app/shell/settings.h"
#include "chip/families.h"
#include "chip/svd.h"
#include "session/recording/recording.h"

#include "kernel/files.h"

namespace bramix::app {

namespace {

constexpr int kFrameMs = 4;  // pictures come every 16 ms; looking oftener misses none of them
constexpr std::size_t kLargestBench = 16U << 20U;
constexpr int kRecent = 8;
// A linker writes a file in pieces; what has not changed for this long is complete.
constexpr int kFileQuietMs = 150;
constexpr std::size_t kFirstLanes = 8;

// What only feeds a chip tells nothing on the tape.
bool isSupply(const chip::Device& device, const std::string& chipPin)
{
    return std::any_of(device.package.begin(), device.package.end(), [&](const chip::PackagePin& p) { return p.name == chipPin && (p.functions == "supply" || p.functions == "analog supply" || p.functions == "ground"); });
}

// Of a fresh bench: the wired port pins of its chips.
std::vector<bench::PinRef> usualLanes(const bench::Document& document, const bench::Catalogue& catalogue)
{
    std::vector<bench::PinRef> lanes;
    std::map<std::string_view, const bench::PartKind*> chips;  // on a large bench most ends of wires are none of theirs
    for (const bench::PartItem& part : document.parts)
        if (const bench::PartKind* kind = catalogue.find(part.kind); kind != nullptr && kind->chip != nullptr)
            chips[part.id] = kind;
    const auto consider = [&](const bench::PinRef& ref) {
        const auto found = chips.find(ref.part);
        const bench::PartKind* kind = found == chips.end() ? nullptr : found->second;
        const bench::PinKind* pin = kind == nullptr ? nullptr : kind->pin(ref.pin);
        if (pin == nullptr || pin->chipPin.empty() || isSupply(*kind->chip, pin->chipPin) || lanes.size() >= kFirstLanes)
            return;
        const bench::PinRef named{ref.part, pin->name};
        if (std::find(lanes.begin(), lanes.end(), named) == lanes.end())
            lanes.push_back(named);
    };
    for (const bench::WireItem& w : document.wires) {
        consider(w.from);
        consider(w.to);
    }
    for (const bench::NetItem& n : document.nets)
        for (const bench::PinRef& pin : n.pins)
            consider(pin);
    // What is plugged in is as good as wired.
    for (const auto& [lead, hole] : bench::pluggedIn(document, catalogue))
        consider(lead);
    return lanes;
}

}  // namespace

Editor::Editor(const bench::Catalogue& catalogue, QObject* parent) : QObject(parent), catalogue_(catalogue), session_(catalogue), picture_(session_.picture())
{
    connect(&frame_, &QTimer::timeout, this, &Editor::poll);
    frame_.setTimerType(Qt::PreciseTimer);
    frame_.start(kFrameMs);
    connect(&autosave_, &QTimer::timeout, this, &Editor::autosave);
    keepAsideEvery(settings::autosaveSeconds());
    connect(&watcher_, &QFileSystemWatcher::fileChanged, this, &Editor::firmwareFileChanged);
    session_.setTapeBytes(static_cast<std::size_t>(settings::tapeMegabytes()) << 20U);
    if (settings::startsAtFullSpeed())
        session_.setFullSpeed(true);
    adopt(bench::Document{}, {});
}

QString Editor::folder() const { return file_.isEmpty() ? QDir::currentPath() : QFileInfo(file_).absolutePath(); }

void Editor::adopt(bench::Document document, const QString& file)
{
    document_ = std::move(document);
    saved_ = autosaved_ = document_;
    file_ = file;
    known_.clear();
    if (!file_.isEmpty())
        known_ = kernel::readFile(file_.toStdString(), kLargestBench).value_or("");
    strangers_ = bench::filesNamed(document_);
    takeSlot();
    allowFiles();
    history_.clear();
    selection_ = {};
    session_.setStops(sentStops_ = document_.stops);
    session_.open(document_, folder().toStdString());
    reads_.reset();
    setLanes(usualLanes(document_, catalogue_));
    adoptLanes();
    if (std::erase_if(probes_, [&](const bench::PinRef& pin) { return document_.part(pin.part) == nullptr; }) > 0)
        sendProbes();
    watchFirmware();
    emit documentChanged();
    emit selectionChanged();
    emit fileChanged();
    emit sessionRestarted();
}

void Editor::newBench() { adopt(bench::Document{}, {}); }

// The same recording unpacks into the same place.
bool Editor::openRecording(const QString& file)
{
    kernel::Result<session::Recording> recording = kernel::fail("", "");
    waitFor(tr("Opening %1").arg(QFileInfo(file).fileName()), [&](kernel::Progress& progress) { recording = session::readRecording(file.toStdString(), &progress); });
    if (!recording) {
        emit message(QString::fromStdString(recording.error().text()), true);
        return false;
    }
    const QByteArray mark = QCryptographicHash::hash(QByteArray::fromStdString(recording->bench) + QFileInfo(file).fileName().toUtf8(), QCryptographicHash::Sha1).toHex().left(12);
    const QString folder = QStandardPaths::writableLocation(QStandardPaths::CacheLocation) + "/recordings/" + QFileInfo(file).completeBaseName() + "-" + mark;
    const auto bench = session::unpackBench(*recording, folder.toStdString());
    if (!bench) {
        emit message(QString::fromStdString(bench.error().text()), true);
        return false;
    }
    if (!openFile(QString::fromStdString(*bench)))
        return false;
    const kernel::Time latest = recording->latest;
    session_.adopt(std::make_shared<session::Recording>(std::move(*recording)));
    emit recordingOpened(latest);
    emit message(tr("A recording: what was recorded lies ahead of the present. Drag the present to any instant of it, or run on from there."), false);
    return true;
}

bool Editor::openFile(const QString& file)
{
    if (file.endsWith(".bramix-run"))
        return openRecording(file);
    std::vector<std::string> warnings;
    const std::string path = QFileInfo(file).absoluteFilePath().toStdString();
    auto document = bench::loadDocument(path, &warnings);
    if (!document) {
        emit message(QString::fromStdString(document.error().text()), true);
        return false;
    }
    if (const auto ok = bench::checkDocument(*document, catalogue_, path); !ok) {
        emit message(QString::fromStdString(ok.error().text()), true);
        return false;
    }
    adopt(std::move(*document), QString::fromStdString(path));
    rememberRecent(file_);
    for (const std::string& w : warnings)
        emit message(QString::fromStdString(w), false);
    return true;
}

QString Editor::changedOnDisk() const
{
    if (file_.isEmpty() || known_.empty())
        return {};
    const auto now = kernel::readFile(file_.toStdString(), kLargestBench);
    if (!now || *now == known_)
        return {};
    const QStringList before = QString::fromStdString(known_).split('\n'), after = QString::fromStdString(*now).split('\n');
    QStringList gone = before, come = after;
    for (const QString& line : after)
        gone.removeOne(line);
    for (const QString& line : before)
        come.removeOne(line);
    constexpr qsizetype kShown = 6;
    QStringList out;
    const auto show = [&](const QStringList& lines, const QString& sign) {
        for (qsizetype i = 0; i < std::min(lines.size(), kShown); ++i)
            out << sign + lines[i].left(80);
        if (lines.size() > kShown)
            out << tr("%1 and %2 more").arg(sign).arg(lines.size() - kShown);
    };
    show(gone, "- ");
    show(come, "+ ");
    return out.isEmpty() ? tr("its lines stand in another order") : out.join('\n');
}

bool Editor::reload()
{
    const QString file = file_;
    discardRecovery();
    return !file.isEmpty() && openFile(file);
}

void Editor::allowFiles()
{
    QSettings settings;
    const QString key = "allowed/" + QCryptographicHash::hash(file_.toUtf8(), QCryptographicHash::Sha1).toHex();
    const QStringList before = file_.isEmpty() ? QStringList() : settings.value(key).toStringList();
    QStringList allowed = before;
    for (const std::string& name : bench::filesNamed(document_))
        if (!strangers_.contains(name) || file_.isEmpty())
            if (const QString path = QDir(folder()).absoluteFilePath(QString::fromStdString(name)); !allowed.contains(path) && QFileInfo::exists(path))
                allowed << path;
    if (!file_.isEmpty() && allowed != before)
        settings.setValue(key, allowed);
    allowed_.clear();
    for (const QString& path : allowed)
        allowed_.push_back(path.toStdString());
    session_.allow(allowed_);
}

bool Editor::save(bool overwrite)
{
    if (file_.isEmpty())
        return false;
    if (!overwrite && !changedOnDisk().isEmpty()) {
        emit message(tr("%1 has been changed by another program since it was opened; save it (Ctrl+S) to see what differs").arg(QFileInfo(file_).fileName()), true);
        return false;
    }
    const std::string text = bench::writeDocument(document_);
    if (const auto ok = bench::saveText(file_.toStdString(), text); !ok) {
        emit message(QString::fromStdString(ok.error().text()), true);
        return false;
    }
    known_ = text;
    discardRecovery();
    saved_ = autosaved_ = document_;
    emit fileChanged();
    return true;
}

bool Editor::saveAs(const QString& file)
{
    const QString before = file_;
    const QString folderBefore = folder();
    const QString recoveryBefore = recoveryFile();
    file_ = QFileInfo(file).absoluteFilePath();
    // Firmware paths are relative to the bench file; they move with it.
    const bench::Document documentBefore = document_;
    for (bench::PartItem& part : document_.parts)
        if (!part.firmware.empty() && part.firmware.front() != '/')
            part.firmware = QDir(folder()).relativeFilePath(QDir(folderBefore).absoluteFilePath(QString::fromStdString(part.firmware))).toStdString();
    // A title that nobody gave is the file's name, or its folder's.
    if (document_.title == bench::Document{}.title)
        document_.title = (QFileInfo(file).fileName() == "bench.toml" ? QFileInfo(file).dir().dirName() : QFileInfo(file).completeBaseName()).toStdString();
    const std::string knownBefore = std::exchange(known_, std::string());
    if (!save(true)) {
        file_ = before;
        document_ = documentBefore;
        known_ = knownBefore;
        return false;
    }
    takeSlot();
    QFile::remove(recoveryBefore);
    rememberRecent(file_);
    allowFiles();
    session_.edit(document_, folder().toStdString());
    emit documentChanged();
    return true;
}

QStringList Editor::recentFiles() const
{
    QStringList out;
    for (const QString& file : QSettings().value("recent").toStringList())
        if (QFileInfo::exists(file))
            out << file;
    return out;
}

void Editor::rememberRecent(const QString& file)
{
    QStringList files = recentFiles();
    files.removeAll(file);
    files.prepend(file);
    while (files.size() > kRecent)
        files.removeLast();
    QSettings().setValue("recent", files);
}

QString Editor::recoveryFile(int slot) const
{
    const QString folder = QStandardPaths::writableLocation(QStandardPaths::AppLocalDataLocation) + "/recovery";
    const QByteArray name = file_.isEmpty() ? QByteArray("new-bench") : QCryptographicHash::hash(file_.toUtf8(), QCryptographicHash::Sha1).toHex().left(16);
    return folder + "/" + QString::fromLatin1(name) + (slot == 0 ? QString() : QString("-%1").arg(slot)) + ".toml";
}

QString Editor::recoveryFile() const { return recoveryFile(slotNumber_); }

// The first that no living window has. One that a window left behind when it died is free again, with the work in it.
void Editor::takeSlot()
{
    constexpr int kSlots = 16;
    slot_.reset();
    QDir().mkpath(QFileInfo(recoveryFile(0)).absolutePath());
    std::unique_ptr<QLockFile> first;
    int firstNumber = 0;
    for (int i = 0; i < kSlots; ++i) {
        auto lock = std::make_unique<QLockFile>(recoveryFile(i) + ".lock");
        lock->setStaleLockTime(0);
        if (!lock->tryLock(0))
            continue;
        const bool left = QFileInfo::exists(recoveryFile(i));
        if (first == nullptr || left) {
            first = std::move(lock);
            firstNumber = i;
        }
        if (left)
            break;
    }
    slot_ = std::move(first);
    slotNumber_ = firstNumber;
    if (slotNumber_ != 0 && !file_.isEmpty())
        emit message(tr("This bench is open in another window too; whoever saves second is asked"), false);
}

bool Editor::hasRecovery() const
{
    const QFileInfo recovery(recoveryFile());
    if (!recovery.exists())
        return false;
    const auto document = bench::loadDocument(recovery.filePath().toStdString());
    return document && !(*document == document_);
}

void Editor::restoreRecovery()
{
    auto document = bench::loadDocument(recoveryFile().toStdString());
    if (!document || !bench::checkDocument(*document, catalogue_, recoveryFile().toStdString())) {
        emit message(tr("The unsaved work could not be read; it stays at %1").arg(recoveryFile()), true);
        return;
    }
    change(tr("restore unsaved work"), [&](bench::Document& d) { d = std::move(*document); });
}

void Editor::discardRecovery() { QFile::remove(recoveryFile()); }

void Editor::autosave()
{
    if (document_ == autosaved_ || isSaved())
        return;
    QDir().mkpath(QFileInfo(recoveryFile()).absolutePath());
    if (const auto kept = bench::saveText(recoveryFile().toStdString(), bench::writeDocument(document_))) {
        autosaved_ = document_;
        toldNotKept_ = false;
    } else if (!std::exchange(toldNotKept_, true)) {
        emit message(tr("Unsaved work cannot be kept aside, and would be lost if the program ended: %1").arg(QString::fromStdString(kept.error().text())), true);
    }
}

void Editor::change(const QString& name, const std::function<void(bench::Document&)>& edit, const QString& mergeKey)
{
    bench::Document next = document_;
    edit(next);
    if (next == document_)
        return;
    history_.record(document_, name.toStdString(), mergeKey.toStdString());
    document_ = std::move(next);
    afterEdit();
}

void Editor::undo()
{
    if (!history_.canUndo())
        return emit message(tr("Nothing to undo"), false);
    const QString name = QString::fromStdString(history_.undoName());
    history_.undo(document_);
    afterEdit();
    emit message(tr("Undone: %1").arg(name), false);
}

void Editor::redo()
{
    if (!history_.canRedo())
        return emit message(tr("Nothing to redo"), false);
    const QString name = QString::fromStdString(history_.redoName());
    history_.redo(document_);
    afterEdit();
    emit message(tr("Done again: %1").arg(name), false);
}

void Editor::keepAsideEvery(int seconds) { autosave_.start(seconds * 1000); }

void Editor::afterEdit()
{
    if (document_.stops != sentStops_)
        session_.setStops(sentStops_ = document_.stops);
    allowFiles();
    session_.edit(document_, folder().toStdString());
    pruneSelection();
    std::vector<bench::PinRef> lanes = lanes_;
    std::erase_if(lanes, [&](const bench::PinRef& pin) { return document_.part(pin.part) == nullptr; });
    if (document_.lanes.empty())  // nobody has chosen: what is wired now comes beside what was
        for (const bench::PinRef& pin : usualLanes(document_, catalogue_))
            if (lanes.size() < kFirstLanes && std::find(lanes.begin(), lanes.end(), pin) == lanes.end())
                lanes.push_back(pin);
    if (lanes != lanes_)
        setLanes(std::move(lanes));
    adoptLanes();
    watchFirmware();
    emit documentChanged();
    emit fileChanged();
}

void Editor::pruneSelection()
{
    bench::Selection kept;
    for (const std::string& id : selection_.parts)
        if (document_.part(id) != nullptr)
            kept.parts.insert(id);
    for (const std::size_t wire : selection_.wires)
        if (wire < document_.wires.size())
            kept.wires.insert(wire);
    select(kept);
}

void Editor::select(const bench::Selection& selection)
{
    if (selection == selection_)
        return;
    selection_ = selection;
    session_.watchPart(selection_.parts.size() == 1 ? *selection_.parts.begin() : std::string());
    history_.endMerge();
    emit selectionChanged();
}

void Editor::setLanes(std::vector<bench::PinRef> lanes)
{
    lanes_ = std::move(lanes);
    emit lanesChanged();
}

// As the bench has them, where somebody has chosen any.
void Editor::adoptLanes()
{
    if (document_.lanes.empty()) {
        if (reads_) {  // taken back
            reads_.reset();
            setLanes(usualLanes(document_, catalogue_));
        }
        return;
    }
    std::vector<bench::PinRef> pins;
    std::vector<std::string> reads;
    for (const std::string& text : document_.lanes) {
        const auto lane = session::parseLane(text);
        if (lane && lane->kind == session::LaneSpec::Kind::pin) {
            if (document_.part(lane->pins[0].part) != nullptr)
                pins.push_back(lane->pins[0]);
        } else if (!lane || lane->kind != session::LaneSpec::Kind::group) {
            reads.push_back(text);
        }
    }
    if (pins == lanes_ && reads_ && *reads_ == reads)
        return;
    reads_ = std::move(reads);
    setLanes(std::move(pins));
}

// With the usual ones by their names, or by the one word that stands for them, whatever they will be.
std::vector<std::string> Editor::shownReads(bool byName) const
{
    const std::vector<std::string> chosen = reads_.value_or(std::vector<std::string>{std::string(session::kUsualLanes)});
    if (!byName)
        return chosen;
    std::vector<std::string> out;
    for (const session::ReadLane& lane : picture_->reads)
        out.push_back(lane.text);
    for (const std::string& lane : chosen)
        if (lane != session::kUsualLanes && std::find(out.begin(), out.end(), lane) == out.end())
            out.push_back(lane);
    return out;
}

// What is shown becomes what the bench says; each stays in its place, what is new comes last.
void Editor::keepLanes()
{
    std::vector<std::string> wanted;
    for (const bench::PinRef& pin : lanes_)
        wanted.push_back(pin.text());
    const std::vector<std::string> reads = shownReads(false);
    wanted.insert(wanted.end(), reads.begin(), reads.end());
    std::vector<std::string> all;
    for (const std::string& lane : document_.lanes) {
        const auto spec = session::parseLane(lane);
        if ((spec && spec->kind == session::LaneSpec::Kind::group) || std::find(wanted.begin(), wanted.end(), lane) != wanted.end())
            all.push_back(lane);
    }
    std::copy_if(wanted.begin(), wanted.end(), std::back_inserter(all), [&](const std::string& lane) { return std::find(all.begin(), all.end(), lane) == all.end(); });
    change(tr("lanes"), [&](bench::Document& d) { d.lanes = all; });
}

// Every lane by its name, in the order in which the tape shows them, headings among them.
std::vector<std::string> Editor::shownLanes() const
{
    const std::vector<std::string> reads = shownReads(true);
    std::vector<std::string> out;
    const auto put = [&](const std::string& lane) {
        if (std::find(out.begin(), out.end(), lane) == out.end())
            out.push_back(lane);
    };
    const auto putUsual = [&] {
        for (const std::string& lane : reads)
            if (std::find(document_.lanes.begin(), document_.lanes.end(), lane) == document_.lanes.end())
                put(lane);
    };
    for (const std::string& lane : document_.lanes)
        lane == session::kUsualLanes ? putUsual() : put(lane);
    for (const bench::PinRef& pin : lanes_)
        put(pin.text());
    putUsual();
    return out;
}

// Takes such a list for what the bench says.
void Editor::setOrder(const std::vector<std::string>& lanes)
{
    change(tr("lanes"), [&](bench::Document& d) { d.lanes = lanes; });
    adoptLanes();
    emit lanesChanged();
}

void Editor::toggleLane(const bench::PinRef& pin)
{
    std::vector<bench::PinRef> lanes = lanes_;
    if (std::erase(lanes, pin) == 0)
        lanes.push_back(pin);
    setLanes(std::move(lanes));
    keepLanes();
}

void Editor::toggleRead(const std::string& lane)
{
    std::vector<std::string> reads = shownReads(false);
    const bool shown = std::any_of(picture_->reads.begin(), picture_->reads.end(), [&](const session::ReadLane& l) { return l.text == lane; });
    if (std::erase(reads, lane) == 0) {
        if (shown) {  // one of the usual: the others stay
            reads = shownReads(true);
            std::erase(reads, lane);
        } else {
            reads.push_back(lane);
        }
    }
    reads_ = std::move(reads);
    emit lanesChanged();
    keepLanes();
}

void Editor::addLanes(const std::vector<bench::PinRef>& pins, const std::vector<std::string>& added)
{
    std::vector<std::string> reads = shownReads(false);
    reads.insert(reads.end(), added.begin(), added.end());
    reads_ = std::move(reads);
    setLanes(pins);
    keepLanes();
}

void Editor::moveLane(const std::string& lane, int by)
{
    std::vector<std::string> lanes = shownLanes();
    const auto found = std::find(lanes.begin(), lanes.end(), lane);
    if (found == lanes.end())
        return;
    const auto at = found - lanes.begin();
    std::swap(*found, lanes[static_cast<std::size_t>(std::clamp<std::ptrdiff_t>(at + by, 0, static_cast<std::ptrdiff_t>(lanes.size()) - 1))]);
    setOrder(lanes);
}

void Editor::groupFrom(const std::string& lane, const std::string& name)
{
    std::vector<std::string> lanes = shownLanes();
    const std::string heading = "group " + name;
    if (std::any_of(lanes.begin(), lanes.end(), [&](const std::string& l) { return l == heading || l == "folded " + name; })) {
        emit message(tr("there is a group of that name already"), true);
        return;
    }
    lanes.insert(std::find(lanes.begin(), lanes.end(), lane), heading);
    setOrder(lanes);
}

void Editor::changeGroup(const std::string& heading, const std::string& to)
{
    std::vector<std::string> lanes = shownLanes();
    const auto found = std::find(lanes.begin(), lanes.end(), heading);
    if (found == lanes.end())
        return;
    if (to.empty())
        lanes.erase(found);
    else
        *found = to;
    setOrder(lanes);
}

void Editor::toggleProbe(const bench::PinRef& pin)
{
    if (std::erase(probes_, pin) == 0)
        probes_.push_back(pin);
    sendProbes();
}

void Editor::hoverProbe(const std::optional<bench::PinRef>& pin)
{
    if (pin == hovered_)
        return;
    hovered_ = pin;
    sendProbes();
}

void Editor::nextProbeSpan()
{
    using namespace std::chrono_literals;
    constexpr std::array<kernel::Duration, 5> kSpans{100us, 1ms, 10ms, 100ms, 1s};
    const auto* const next = std::upper_bound(kSpans.begin(), kSpans.end(), probeSpan_);
    probeSpan_ = next == kSpans.end() ? kSpans.front() : *next;
    sendProbes();
}

void Editor::sendProbes()
{
    std::vector<bench::PinRef> all = probes_;
    if (hovered_ && std::find(all.begin(), all.end(), *hovered_) == all.end())
        all.push_back(*hovered_);
    session_.watchProbes(all, probeSpan_);
    emit probesChanged();
}

void Editor::run() { session_.run(); }
void Editor::pause() { session_.pause(); }
void Editor::toggleRun() { picture_->running ? pause() : run(); }
void Editor::step() { session_.step(session::Step::instruction); }

void Editor::restart()
{
    session_.restart();
    emit sessionRestarted();
}

void Editor::firmwareBuilt()
{
    built_ = QDateTime::currentDateTime();
    watchFirmware();
    restart();
}

void Editor::replacePart(const std::string& part) { session_.replacePart(part); }

// What stays where a hand puts it is part of the bench, though not of its history.
double Editor::turnDial(const bench::PartItem& part, const bench::ControlKind& dial, double steps)
{
    // Where a hand has left it, as the picture may be a frame behind; but where it moves by itself, where it is.
    const auto left = part.controls.find(dial.name);
    const auto now = picture().controls.find(part.id + "." + dial.name);
    const double at = part.follow.contains(dial.name) && now != picture().controls.end() ? now->second : left != part.controls.end() ? left->second : dial.standard;
    const bench::PartKind* kind = catalogue_.find(part.kind);
    const double step = dial.type == "choice" || (kind != nullptr && kind->behaviour == "encoder") ? 1 : (dial.most - dial.least) / 100;
    // A dial over decades turns by its logarithm.
    const double turned = dial.logarithmic ? at * std::pow(dial.most / dial.least, steps / 100) : at + steps * step;
    const double value = std::clamp(turned, dial.least, dial.most);
    setControl(part.id, dial.name, value);
    return value;
}

void Editor::setControl(const std::string& part, const std::string& control, double value)
{
    session_.setControl(part, control, value);
    bench::PartItem* item = document_.part(part);
    const bench::PartKind* kind = item == nullptr ? nullptr : catalogue_.find(item->kind);
    const bench::ControlKind* known = kind == nullptr ? nullptr : kind->control(control);
    if (known == nullptr || known->type == "hold" || kind->chip != nullptr || !(value >= known->least && value <= known->most))
        return;
    const bool wasSaved = isSaved();
    if (value == known->standard)
        item->controls.erase(control);
    else
        item->controls[control] = value;
    if (wasSaved != isSaved())
        emit fileChanged();
}

void Editor::loadFirmware(const std::string& part, const QString& file)
{
    const QString absolute = QFileInfo(file).absoluteFilePath();
    const bench::PartItem* item = document_.part(part);
    const bench::PartKind* kind = item == nullptr ? nullptr : catalogue_.find(item->kind);
    if (kind == nullptr || kind->chip == nullptr) {
        emit message(tr("%1 runs no firmware; choose a board").arg(QString::fromStdString(part)), true);
        return;
    }
    // Looked at before anything changes: the earlier firmware stays where this one is unusable.
    if (const auto firmware = chip::loadFirmware(absolute.toStdString(), *kind->chip); !firmware) {
        emit message(QString::fromStdString(firmware.error().text()), true);
        return;
    }
    const QString relative = QDir(folder()).relativeFilePath(absolute);
    const std::string path = (file_.isEmpty() || relative.startsWith("../../..") ? absolute : relative).toStdString();
    if (item->firmware == path) {
        session_.loadFirmware(part, absolute.toStdString());
        return;
    }
    change(tr("load firmware"), [&](bench::Document& d) { d.part(part)->firmware = path; });
}

void Editor::describeRegisters(const std::string& part, const QString& file)
{
    const bench::PartItem* item = document_.part(part);
    const bench::PartKind* kind = item == nullptr ? nullptr : catalogue_.find(item->kind);
    if (kind == nullptr || kind->chip == nullptr) {
        emit message(tr("%1 has no registers; choose a board or a chip").arg(QString::fromStdString(part)), true);
        return;
    }
    std::string path;
    if (!file.isEmpty()) {
        const QString absolute = QFileInfo(file).absoluteFilePath();
        const auto text = kernel::readFile(absolute.toStdString(), chip::kLargestSvd);
        const auto map = text ? chip::readSvd(absolute.toStdString(), *text) : kernel::Result<chip::RegisterMap>(tl::unexpected(text.error()));
        if (!map) {
            emit message(QString::fromStdString(map.error().text()), true);
            return;
        }
        std::size_t count = 0;
        for (const chip::PeripheralGroup& group : map->peripherals)
            count += group.registers.size();
        emit message(tr("%1 describes %2 registers of %3 peripherals").arg(QFileInfo(file).fileName()).arg(count).arg(map->peripherals.size()), false);
        const QString relative = QDir(folder()).relativeFilePath(absolute);
        path = (file_.isEmpty() || relative.startsWith("../../..") ? absolute : relative).toStdString();
    }
    change(path.empty() ? tr("take the register description away") : tr("describe registers"), [&](bench::Document& d) { d.part(part)->registers = path; });
}

void Editor::watchFirmware()
{
    QStringList wanted;
    for (const bench::PartItem& part : document_.parts)
        if (!part.firmware.empty()) {
            const QString path = QDir(folder()).absoluteFilePath(QString::fromStdString(part.firmware));
            // The folder too: a linker may replace the file, and the watch goes with the old one.
            wanted << path;
        }
    const QStringList watched = watcher_.files();
    for (const QString& path : watched)
        if (!wanted.contains(path))
            watcher_.removePath(path);
    for (const QString& path : wanted)
        if (!watched.contains(path) && QFileInfo::exists(path))
            watcher_.addPath(path);
}

void Editor::firmwareFileChanged(const QString& path)
{
    // Wait until the file is there again and has been quiet, then load it.
    const QDateTime stamp = QFileInfo(path).lastModified();
    QTimer::singleShot(kFileQuietMs, this, [this, path, stamp] {
        const QFileInfo info(path);
        if (!info.exists() || info.size() == 0 || info.lastModified() != stamp) {
            static constexpr int kGiveUpSeconds = 30;
            if (stamp.isValid() && stamp.secsTo(QDateTime::currentDateTime()) > kGiveUpSeconds && !info.exists())
                return;
            firmwareFileChanged(path);
            return;
        }
        watchFirmware();
        if (built_.isValid() && info.lastModified() <= built_)
            return;
        for (const bench::PartItem& part : document_.parts)
            if (!part.firmware.empty() && QDir(folder()).absoluteFilePath(QString::fromStdString(part.firmware)) == path)
                session_.loadFirmware(part.id, path.toStdString());
    });
}

void Editor::poll()
{
    for (const session::Message& m : session_.takeMessages())
        emit message(QString::fromStdString(m.text), m.error);
    const auto bytes = session_.takeSerial();
    auto latest = session_.picture();
    const bool fresh = latest->number != picture_->number;
    if (fresh)
        picture_ = std::move(latest);
    if (!bytes.empty())
        emit serialReceived(bytes);
    if (fresh)
        emit pictureChanged();
}

}  // namespace bramix::app
