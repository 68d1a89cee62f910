// What the tape's menus offer: lanes, captures, bookmarks, files.
#include "app/tape/tape_view.h"

#include <cmath>

#include <QDir>
#include <QFileDialog>
#include <QMenu>

#include <fmt/format.h>

#include "app/shell/progress_card.h"
#include "app/tape/tape_layout.h"

namespace bramix::app {

using namespace tape_layout;
using kernel::Duration;
using kernel::Time;

// The lane under the pointer, and what can be added.
void TapeView::openLaneMenu(const Row& row, QPoint at)
{
    auto* menu = new QMenu(this);
    menu->setObjectName("laneMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    menu->addAction(tr("Add a lane…"), this, [this, at] { emit lanesWanted(mapFromGlobal(at)); });
    menu->addAction(tr("Decoded data as a table") + "\tCtrl+T", this, [this] { emit tableWanted(); });
    if (row.kind == Row::Kind::group) {
        menu->addSeparator();
        menu->addAction(tr("Up") + "\tAlt+Up", this, [this, row] { editor_.moveLane(row.text, -1); });
        menu->addAction(tr("Down") + "\tAlt+Down", this, [this, row] { editor_.moveLane(row.text, 1); });
        menu->addAction(row.text.starts_with("folded ") ? tr("Unfold") : tr("Fold"), this, [this, row] { foldGroup(row.text); });
        menu->addAction(tr("Remove the heading") + "\tDel", this, [this, row] { takeOff(row); });
    } else if (row.kind != Row::Kind::serial) {
        menu->addSeparator();
        menu->addAction(tr("Begin a group here…") + "\tG", this, [this, row] { askName(row.text); });
        menu->addAction(tr("Up") + "\tAlt+Up", this, [this, row] { editor_.moveLane(row.text, -1); });
        menu->addAction(tr("Down") + "\tAlt+Down", this, [this, row] { editor_.moveLane(row.text, 1); });
        if (row.kind == Row::Kind::pin)
            menu->addAction(tr("Its voltage as a lane"), this, [this, row] { editor_.toggleRead("volts " + row.text); });
        menu->addAction(tr("Take %1 off").arg(text(row.text)) + "\tDel", this, [this, row] { takeOff(row); });
    }
    menu->popup(at);
}

// Asks for the name of a bookmark, or of the group that begins at a lane.
void TapeView::askName(const std::string& groupFrom)
{
    groupFrom_ = groupFrom;
    naming_->setPlaceholderText(groupFrom.empty() ? tr("name of the bookmark, and Enter") : tr("name of the group, and Enter"));
    naming_->setGeometry(static_cast<int>(kLabels) + 8, static_cast<int>(kRuler) + 6, 220, 24);
    naming_->clear();
    naming_->show();
    naming_->setFocus();
}

void TapeView::foldGroup(const std::string& heading)
{
    const auto spec = session::parseLane(heading);
    if (spec && spec->kind == session::LaneSpec::Kind::group)
        editor_.changeGroup(heading, (spec->folded ? "group " : "folded ") + spec->chip);
}

void TapeView::openPlotMenu(QPoint at)
{
    const auto name = [this] { askName({}); };
    if (at.isNull())
        return name();
    auto* menu = new QMenu(this);
    menu->setObjectName("tapeMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    menu->addAction((markA_ ? tr("Bookmark at the mark…") : tr("Bookmark at the present…")) + "\tM", this, name);
    if (const bench::BookmarkItem* b = bookmarkAt(pressAt_.x()); b != nullptr && pressAt_.y() < kRuler)
        menu->addAction(tr("Remove the bookmark %1").arg(text(b->name)), this, [this, gone = *b] { editor_.change(tr("remove bookmark"), [&](bench::Document& d) { std::erase(d.bookmarks, gone); }); });
    menu->addAction(tr("No marks"), this, [this] { setMarks(std::nullopt, std::nullopt); })->setEnabled(markA_.has_value());
    menu->addAction(tr("The whole run"), this, [this] {
        showSpan(std::max(editor_.picture().tapeKnownFrom, Time{}), editor_.picture().latest);
    });
    menu->addSeparator();
    menu->addAction(tr("Save this part as a picture…"), this, [this] {
        if (const QString file = QFileDialog::getSaveFileName(this, tr("Save the tape as a picture"), editor_.folder() + "/tape.png", tr("Pictures (*.png *.svg)")); !file.isEmpty())
            emit editor_.message(savePicture(file) ? tr("Saved to %1").arg(file) : tr("%1 could not be written").arg(file), false);
    });
    menu->addAction(tr("Read in a capture of a real board…"), this, [this] {
        if (const QString file = QFileDialog::getOpenFileName(this, tr("Read in a capture"), editor_.folder(), tr("Value change dumps (*.vcd);;All files (*)")); !file.isEmpty())
            readCapture(file);
    });
    if (std::any_of(editor_.picture().reads.begin(), editor_.picture().reads.end(), [](const session::ReadLane& l) { return l.text.starts_with("capture "); }))
        menu->addAction(tr("Move the capture from the first mark to the second"), this, &TapeView::alignCapture)->setEnabled(markA_ && markB_);
    menu->addAction(tr("Save these edges as CSV or VCD…"), this, [this] {
        const QString file = QFileDialog::getSaveFileName(this, tr("Save the edges"), editor_.folder() + "/edges.csv", tr("Edges (*.csv *.vcd)"));
        if (file.isEmpty())
            return;
        const session::Picture& p = editor_.picture();
        editor_.session().writeEdges(file.toStdString(), editor_.lanes(), p.tapeFrom, p.tapeTo, [this, file](const std::string& trouble) {
            QMetaObject::invokeMethod(this, [this, file, trouble] { emit editor_.message(trouble.empty() ? tr("Saved to %1").arg(file) : text(trouble), !trouble.empty()); });
        });
    });
    menu->addAction(tr("Save the whole recording…"), this, &TapeView::askSaveRecording);
    menu->popup(at);
}

void TapeView::askSaveRecording()
{
    QString file = QFileDialog::getSaveFileName(this, tr("Save the recording"), editor_.folder() + "/run.bramix-run", tr("Recordings (*.bramix-run)"));
    if (file.isEmpty())
        return;
    if (!file.endsWith(".bramix-run"))
        file += ".bramix-run";
    editor_.session().saveRecording(file.toStdString(), [this, file](const std::string& trouble) {
        QMetaObject::invokeMethod(this, [this, file, trouble] { emit editor_.message(trouble.empty() ? tr("Saved to %1").arg(file) : text(trouble), !trouble.empty()); });
    });
}

bool TapeView::readCapture(const QString& file)
{
    kernel::Result<std::shared_ptr<const tape::Capture>> capture = kernel::fail("", "");
    waitFor(tr("Reading %1").arg(QFileInfo(file).fileName()), [&](kernel::Progress& progress) { capture = tape::readVcd(file.toStdString(), &progress); });
    if (!capture) {
        emit editor_.message(text(capture.error().text()), true);
        return false;
    }
    const QString beside = QDir(editor_.folder()).relativeFilePath(file);
    editor_.change(tr("capture"), [&](bench::Document& d) {
        d.capture = (beside.startsWith("..") ? file : beside).toStdString();
        d.captureAt.clear();
    });
    capture_ = *capture;
    captureIs_ = {editor_.document().capture, {}};
    editor_.session().setCapture(*capture, {});
    // The first few are shown at once; the others can be added.
    constexpr std::size_t kFirst = 8;
    for (std::size_t i = 0; i < std::min(kFirst, (*capture)->names.size()); ++i)
        if (const std::string lane = "capture " + (*capture)->names[i]; !editor_.reads() || std::find(editor_.reads()->begin(), editor_.reads()->end(), lane) == editor_.reads()->end())
            editor_.toggleRead(lane);
    emit editor_.message(tr("%1 signals, %2 long; mark an edge of them and the same edge of the run, and move one to the other by the other mouse button").arg((*capture)->names.size()).arg(seconds(kernel::seconds((*capture)->end - Time{}))), false);
    return true;
}

void TapeView::alignCapture()
{
    if (!markA_ || !markB_)
        return;
    const double by = kernel::parseQuantity(editor_.document().captureAt, kernel::Unit::second).value_or(0) + kernel::seconds(*markB_ - *markA_);
    editor_.change(tr("align the capture"), [&](bench::Document& d) { d.captureAt = fmt::format("{:.12f}s", by); });
    setMarks(*markB_, std::nullopt);
}

// What the bench names is read in, and lies where the bench says.
void TapeView::adoptCapture()
{
    const bench::Document& d = editor_.document();
    if (captureIs_ == std::pair(d.capture, d.captureAt))
        return;
    if (captureIs_.first != d.capture) {
        capture_.reset();
        if (!d.capture.empty()) {
            // The bench names it: only what lies in its folder, or what a person has chosen, is opened.
            kernel::Result<std::shared_ptr<const tape::Capture>> capture = kernel::fail("", "");
            if (const auto path = editor_.files().path(d.capture); !path)
                capture = tl::unexpected(path.error());
            else
                waitFor(tr("Reading %1").arg(text(d.capture)), [&](kernel::Progress& progress) { capture = tape::readVcd(*path, &progress); });
            if (capture)
                capture_ = *capture;
            else
                emit editor_.message(text(capture.error().text()), true);
        }
    }
    captureIs_ = {d.capture, d.captureAt};
    editor_.session().setCapture(capture_, Duration(static_cast<std::int64_t>(std::llround(kernel::parseQuantity(d.captureAt, kernel::Unit::second).value_or(0) * 1e12))));
}

// Pins, what decoders may read, voltages, interrupts. What is typed may be a lane itself.
std::vector<PickList::Entry> TapeView::offers(const QString& typed)
{
    std::vector<PickList::Entry> out;
    const auto matches = [&](const QString& words) {
        for (const QString& word : typed.split(' ', Qt::SkipEmptyParts))
            if (!words.contains(word, Qt::CaseInsensitive))
                return false;
        return true;
    };
    const auto offer = [&](const std::string& lane, const QString& about) {
        constexpr std::size_t kMost = 80;
        if (out.size() < kMost && matches(text(lane) + " " + about))
            out.push_back({text(lane), about, {}, [this, lane] {
                               const auto spec = session::parseLane(lane);
                               if (spec && spec->kind == session::LaneSpec::Kind::pin)
                                   editor_.toggleLane(spec->pins[0]);
                               else
                                   editor_.toggleRead(lane);
                           }});
    };
    if (const std::string lane = typed.trimmed().toStdString(); !lane.empty() && session::parseLane(lane))
        out.push_back({typed.trimmed(), tr("as typed"), {}, [this, lane] {
                           const auto spec = session::parseLane(lane);
                           spec->kind == session::LaneSpec::Kind::pin ? editor_.toggleLane(spec->pins[0]) : editor_.toggleRead(lane);
                       }});
    for (const bench::PartItem& part : editor_.document().parts) {
        const bench::PartKind* kind = editor_.catalogue().find(part.kind);
        if (kind == nullptr)
            continue;
        if (kind->chip != nullptr) {
            offer("interrupts " + part.id, tr("which interrupt runs"));
            offer("functions " + part.id, tr("which function runs, and who called it"));
        }
        // What lines are by their names: of a display, a bus, a strip of pixels, a servo.
        for (const tape::DecoderKind& decoder : tape::decoderKinds()) {
            std::string lines;
            bool whole = true;
            for (const std::string& role : decoder.roles) {
                const bool optional = role.ends_with('?');
                const std::string bare = optional ? role.substr(0, role.size() - 1) : role;
                const bench::PinKind* pin = kind->pin(bare);
                for (const bench::PinKind& p : kind->pins)
                    if (pin == nullptr && kind->chip != nullptr && (" " + p.about + " ").find(" " + bare + " ") != std::string::npos)
                        pin = &p;
                if (pin != nullptr)
                    lines += (lines.empty() ? "" : ",") + bare + "=" + part.id + "." + pin->name;
                whole = whole && (pin != nullptr || optional);
            }
            if (whole && (decoder.roles.size() > 1 || kind->chip == nullptr))
                offer(decoder.name + ":" + lines, tr("what %1 says").arg(text(part.label.empty() ? part.id : part.label)));
        }
    }
    for (const session::UartPicture& u : editor_.picture().uarts) {
        const std::string chip = u.name.substr(0, u.name.rfind('.'));
        const bench::PartItem* part = editor_.document().part(chip);
        const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
        for (std::size_t i = 0; kind != nullptr && i < kind->pins.size(); ++i)
            for (const char* line : {"TXD", "RXD"})
                if ((" " + kind->pins[i].about).find(std::string(" ") + line) != std::string::npos)
                    offer("uart:" + chip + "." + kind->pins[i].name, tr("serial line, baud found by itself"));
    }
    if (capture_ != nullptr)
        for (const std::string& name : capture_->names)
            offer("capture " + name, tr("of the capture"));
    for (const bench::PinRef& pin : editor_.lanes()) {
        offer("volts " + pin.text(), tr("its voltage"));
        if (!typed.isEmpty())
            for (const char* decoder : {"uart", "pwm", "servo", "ws2812", "1-wire", "dht"})
                offer(std::string(decoder) + ":" + pin.text(), tr("what this line says"));
    }
    if (editor_.lanes().size() > 1) {
        std::string value = "value";
        for (const bench::PinRef& pin : editor_.lanes())
            value += " " + pin.text();
        offer(value, tr("all lanes as one number, the top one lowest"));
    }
    for (const bench::PartItem& part : editor_.document().parts)
        if (const bench::PartKind* kind = editor_.catalogue().find(part.kind); kind != nullptr && !kind->plugs)
            for (const bench::PinKind& pin : kind->pins)
                if (!pin.ground && !pin.supplyVolts)
                    offer(part.id + "." + pin.name, text(pin.about));
    return out;
}

}  // namespace bramix::app
