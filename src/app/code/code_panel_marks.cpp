// What the code panel shows: instructions, the place where the program stands, and the marks beside the lines.
#include <utility>
#include <algorithm>

#include <QFileInfo>

#include "app/code/code_panel.h"
#include "app/shell/theme.h"
#include "debug/disassembler.h"

namespace bramix::app {

namespace {

constexpr int kMostUnfolded = 80;    // instructions under one line
constexpr int kUnfoldedWidth = 64;    // letters, so that the ground is one block

}  // namespace

// Instructions.

QString CodePanel::instructionRow(std::uint32_t address, bool next, unsigned* size) const
{
    const debug::InstructionText i = debug::disassemble(*device_, {*flash_, device_->codeBegin, device_->codeUnitBytes}, address, &symbols_);
    if (size != nullptr)
        *size = i.size;
    QString row = QString("%1 %2  %3 %4").arg(next ? QChar(0x25B8) : QChar(' ')).arg(address, 4, 16, QChar('0')).arg(QString::fromStdString(i.mnemonic), -6).arg(QString::fromStdString(i.operands), -16);
    row += QString("%1").arg(QString::fromStdString(i.cycles), 5);
    if (!i.note.empty())
        row += "   " + QString::fromStdString(i.note);
    return row;
}

void CodePanel::fillInstructions()
{
    lineOfAddress_.clear();
    addressOfLine_.clear();
    if (device_ == nullptr || flash_ == nullptr || files_.empty() || files_.back().view == nullptr)
        return;
    std::size_t end = flash_->size();
    while (end > 0 && (*flash_)[end - 1] == 0xFF)
        --end;
    const std::uint32_t step = device_->codeStep, units = static_cast<std::uint32_t>((end + device_->codeUnitBytes - 1) / device_->codeUnitBytes), last = device_->codeBegin + (units + step - 1) / step * step;
    std::map<std::uint32_t, QString> labels;
    for (const debug::Function& f : symbols_.functions())
        if (f.caller < 0)
            labels.emplace(f.begin(), QString::fromStdString(f.name));
    for (const chip::Exception& e : device_->exceptions)
        labels.emplace(e.entry, tr("vector %1: %2").arg(e.number).arg(QString::fromStdString(e.name)));
    QStringList rows;
    for (std::uint32_t address = device_->codeBegin; address < last;) {
        if (const auto label = labels.find(address); label != labels.end()) {
            if ((device_->exceptions.empty() || address > device_->exceptions.back().entry) && !rows.isEmpty())
                rows << QString();
            rows << label->second + ":";
        }
        unsigned size = step;
        rows << instructionRow(address, false, &size);
        lineOfAddress_[address] = static_cast<int>(rows.size());
        addressOfLine_[static_cast<int>(rows.size())] = address;
        address += size;
    }
    files_.back().view->setSource(rows.join('\n'), "asm");
}

QString CodePanel::instructionsOf(const QString& name, int line, std::uint32_t pc) const
{
    const auto file = static_cast<std::uint32_t>(std::find(symbols_.files().begin(), symbols_.files().end(), name.toStdString()) - symbols_.files().begin());
    if (device_ == nullptr || flash_ == nullptr || file >= symbols_.files().size())
        return {};
    QStringList out;
    const auto& rows = symbols_.rows();
    std::uint32_t before = UINT32_MAX;
    for (std::size_t i = 0; i + 1 < rows.size() && out.size() < kMostUnfolded; ++i) {
        if (rows[i].file != file || rows[i].line != line || rows[i + 1].address == rows[i].address)
            continue;
        if (before != UINT32_MAX && rows[i].address != before)
            out << "  …";
        for (std::uint32_t a = rows[i].address; a < rows[i + 1].address && out.size() < kMostUnfolded;) {
            unsigned size = 1;
            out << instructionRow(a, a == pc, &size).leftJustified(kUnfoldedWidth);
            a += size;
        }
        before = rows[i + 1].address;
    }
    return out.join('\n');
}

// Where the program stands.

int CodePanel::tabOf(const QString& file)
{
    const QString canonical = QFileInfo(file).canonicalFilePath();
    for (std::size_t i = 0; i < files_.size(); ++i)
        if (files_[i].name == file || (!files_[i].file.isEmpty() && (files_[i].file == file || files_[i].file == canonical)))
            return static_cast<int>(i);
    for (std::size_t i = 0; i < files_.size(); ++i)
        if (!files_[i].name.isEmpty() && !file.contains('/') && QFileInfo(files_[i].name).fileName() == file)
            return static_cast<int>(i);
    return -1;
}

bool CodePanel::openPlace(const QString& file, int line)
{
    int index = tabOf(file);
    if (index < 0 && QFileInfo(file).isFile()) {
        // A header without code, named by the compiler.
        Tab tab;
        tab.name = tab.file = QFileInfo(file).canonicalFilePath();
        files_.insert(files_.end() - (files_.empty() ? 0 : 1), tab);
        index = static_cast<int>(files_.size()) - (files_.size() > 1 ? 2 : 1);
        const QSignalBlocker quiet(tabs_);
        tabs_->insertTab(index, QFileInfo(file).fileName());
        tabs_->setTabToolTip(index, tab.file);
    }
    if (index < 0)
        return false;
    tabs_->setCurrentIndex(index);
    CodeView* view = load(files_[static_cast<std::size_t>(index)]);
    views_->setCurrentWidget(view);
    view->reveal(line);
    mark(editor_.picture().debug);
    return true;
}

bool CodePanel::openPlace(const QString& place)
{
    const qsizetype colon = place.lastIndexOf(':');
    return colon > 0 && openPlace(place.left(colon), place.mid(colon + 1).toInt());
}

void CodePanel::openAddress(std::uint32_t address)
{
    if (files_.empty())
        return;
    tabs_->setCurrentIndex(static_cast<int>(files_.size()) - 1);
    CodeView* view = load(files_.back());
    views_->setCurrentWidget(view);
    const auto line = lineOfAddress_.upper_bound(address);
    if (line != lineOfAddress_.begin())
        view->reveal(std::prev(line)->second);
}

void CodePanel::showPlace(const session::DebugPicture& debug)
{
    if (debug.frame >= debug.frames.size())
        return;
    const session::FramePicture& frame = debug.frames[debug.frame];
    const bool inInstructions = !files_.empty() && tabs_->currentIndex() == static_cast<int>(files_.size()) - 1 && tabs_->count() > 1;
    const int index = frame.line > 0 ? tabOf(QString::fromStdString(frame.file)) : -1;
    const bool sourceless = index < 0 || files_[static_cast<std::size_t>(index)].file.isEmpty();
    // Looked at for the first time while it stands in code that nobody has written, as just after power-up: what is looked for then is main().
    if (sourceless && std::exchange(freshProgram_, false))
        if (const debug::Function* first = entry(); first != nullptr && openCode(first->begin()))
            return;
    if (sourceless)
        openAddress(frame.pc);
    else if (inInstructions && debug.standing && wasStanding_ && view() != nullptr && view()->hasFocus())
        openAddress(frame.pc);  // whoever reads instructions goes on reading them
    else
        openPlace(QString::fromStdString(frame.file), frame.line);
}

void CodePanel::showCrumbs(const session::DebugPicture& debug)
{
    QString text;
    if (nothingShown_) {
        text = tr("no firmware");
    } else if (!debug.standing) {
        text = debug.frames.empty() ? tr("running") : tr("running, just now in <b>%1</b>").arg(QString::fromStdString(debug.frames.front().function).toHtmlEscaped());
    } else {
        for (std::size_t i = 0; i < debug.frames.size() && i < 12; ++i) {
            const session::FramePicture& f = debug.frames[i];
            const QString name = QString::fromStdString(!f.interrupt.empty() ? (f.interrupt == "interrupt" ? f.interrupt : f.interrupt + " interrupt") : f.function.empty() ? "?" : f.function).toHtmlEscaped();
            text += (i == 0 ? tr("in ") : QString(" ‹ ")) + QString("<a href='%1' style='color:%2; text-decoration:none'>%3</a>").arg(i).arg(i == debug.frame ? "@bramble" : "@muted", i == debug.frame ? "<b>" + name + "</b>" : name);
        }
        if (!debug.reason.empty())
            text = QString("<span style='color:@rust'>%1</span> &nbsp; ").arg(QString::fromStdString(debug.reason).toHtmlEscaped()) + text;
        if (debug.inPast)
            text = tr("<span style='color:@sky'>in the past</span> &nbsp; ") + text;
    }
    theme::write(crumbs_, text);
}

// Marks in the view that is shown.
void CodePanel::mark(const session::DebugPicture& debug)
{
    const int index = tabs_->currentIndex();
    if (index < 0 || static_cast<std::size_t>(index) >= files_.size() || files_[static_cast<std::size_t>(index)].view == nullptr)
        return;
    const Tab& tab = files_[static_cast<std::size_t>(index)];
    std::map<int, bool> stops;
    for (const session::StopPicture& s : debug.stops) {
        const bool works = !s.item.off && s.problem.empty();
        if (tab.name.isEmpty()) {
            for (const std::uint32_t a : s.addresses)
                if (const auto line = lineOfAddress_.find(a); line != lineOfAddress_.end())
                    stops[line->second] = works;
        } else if (s.line > 0) {
            const QString file = QString::fromStdString(s.file);
            if (tab.name == file || QFileInfo(tab.name).fileName() == file || tab.name.endsWith("/" + file))
                stops[s.line] = works;
        }
    }
    tab.view->setStops(stops);
    std::map<int, QString> unfolded;
    const bool here = debug.standing && debug.frame < debug.frames.size();
    if (tab.name.isEmpty()) {
        const auto line = here ? lineOfAddress_.find(debug.frames[debug.frame].pc) : lineOfAddress_.end();
        tab.view->setPlace(line == lineOfAddress_.end() ? 0 : line->second, debug.frame == 0);
    } else {
        const bool inFile = here && tabOf(QString::fromStdString(debug.frames[debug.frame].file)) == index;
        const int line = inFile ? debug.frames[debug.frame].line : 0;
        for (const auto& [name, at] : unfolded_)
            if (name == tab.name)
                unfolded[at] = instructionsOf(name, at, debug.standing ? debug.registers.pc : UINT32_MAX);
        if (line > 0 && instructions_)
            unfolded[line] = instructionsOf(tab.name, line, debug.frame == 0 ? debug.registers.pc : UINT32_MAX);
        std::erase_if(unfolded, [](const auto& u) { return u.second.isEmpty(); });
        tab.view->setUnfolded(unfolded);
        tab.view->setPlace(line, debug.frame == 0);
        std::map<int, qint64> counts;
        for (const auto& [file, at, times] : debug.counts.lines)
            if (QString::fromStdString(file) == tab.name)
                counts[at] = times;
        tab.view->setCounts(counts);
    }
}

}  // namespace bramix::app
