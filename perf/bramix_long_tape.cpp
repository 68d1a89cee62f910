// How the window's tape scrolls, zooms and is searched when it holds 200 million edges: ten minutes of a firmware that counts on four pins, or of one that draws on a display on a
// serial bus without pause, run in the window itself. Prints for each span how long a step of the hand takes until the lanes as they are there have been painted: median, 99th percentile
// and the longest, in milliseconds, of which a session is asked and answers once every sixtieth of a second; how much of it the window was busy; how many frames a second are painted
// while the hand moves on evenly; and what searches take. To be run under Xvfb (or offscreen, which paints the same).
//
//   bramix_long_tape [MINUTES] [bus]
#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <cstdlib>
#include <span>

#include <QApplication>
#include <QFile>
#include <QMouseEvent>
#include <QTemporaryDir>
#include <QWheelEvent>
#include <fmt/format.h>

#include "app/shell/main_window.h"
#include "app/shell/theme.h"

using namespace bramix;
using Clock = std::chrono::steady_clock;

namespace {

double since(Clock::time_point t) { return std::chrono::duration<double, std::milli>(Clock::now() - t).count(); }

// One edge in 90 cycles on PB0, half as many on PB1 and so on: 333 000 a second at 16 MHz.
constexpr std::array<std::uint16_t, 10> kCounts{
    0xE00F,  // ldi r16, 0x0F
    0xB904,  // out DDRB, r16
    0x9523,  // inc r18
    0x2F12,  // mov r17, r18
    0x701F,  // andi r17, 0x0F
    0xB915,  // out PORTB, r17
    0xE13C,  // ldi r19, 28
    0x953A,  // dec r19
    0xF7F1,  // brne .-4
    0xCFF8,  // rjmp .-16
};

// A byte in 1000 cycles on a serial bus, 21 edges on two lines.
constexpr std::array<std::uint16_t, 16> kDraws{
    0xE20C,  // ldi r16, 0x2C
    0xB904,  // out DDRB, r16
    0x9A2A,  // sbi PORTB, 2
    0x982A,  // cbi PORTB, 2
    0xE500,  // ldi r16, 0x50
    0xBD0C,  // out SPCR, r16
    0xE023,  // ldi r18, 3
    0xBD2E,  // out SPDR, r18
    0x9523,  // inc r18
    0xE030,  // ldi r19, 0
    0x953A,  // dec r19
    0xF7F1,  // brne .-4
    0xE43A,  // ldi r19, 74
    0x953A,  // dec r19
    0xF7F1,  // brne .-4
    0xCFF7,  // rjmp .-18
};

bool writeFirmware(const QString& file, std::span<const std::uint16_t> words)
{
    QByteArray line;
    line.append(static_cast<char>(words.size() * 2)).append(3, '\0');
    for (const std::uint16_t w : words)
        line.append(static_cast<char>(w & 0xFF)).append(static_cast<char>(w >> 8));
    std::uint8_t sum = 0;
    for (const char c : line)
        sum = static_cast<std::uint8_t>(sum - static_cast<std::uint8_t>(c));
    QFile out(file);
    return out.open(QIODevice::WriteOnly) && out.write(":" + line.append(static_cast<char>(sum)).toHex().toUpper() + "\n:00000001FF\n") > 0;
}

// Counts how often the tape is painted, and how often with the lanes of where it stands.
class PaintCount : public QObject {
public:
    PaintCount(app::TapeView& tape, app::Editor& editor) : tape_(tape), editor_(editor) { tape.installEventFilter(this); }
    bool eventFilter(QObject*, QEvent* event) override
    {
        if (event->type() == QEvent::Paint) {
            ++frames;
            const auto asked = tape_.shownSpan();
            fresh += editor_.picture().tapeFrom == asked.first && editor_.picture().tapeTo == asked.second ? 1 : 0;
        }
        return false;
    }
    int frames = 0, fresh = 0;

private:
    app::TapeView& tape_;
    app::Editor& editor_;
};

void tell(const char* what, std::vector<double> ms, double busy)
{
    std::sort(ms.begin(), ms.end());
    fmt::print("{:<34} median {:5.1f} ms   99 % within {:5.1f} ms   longest {:5.1f} ms   window busy {:4.1f} ms a step   of {}\n", what, ms[ms.size() / 2], ms[ms.size() * 99 / 100], ms.back(), busy / static_cast<double>(ms.size()), ms.size());
}

}  // namespace

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    QApplication::setStyle("Fusion");
    application.setStyleSheet(app::theme::styleSheet());
    const double minutes = argc > 1 ? std::atof(argv[1]) : 10;
    const bool bus = argc > 2 && std::string_view(argv[2]) == "bus";
    const auto catalogue = bench::Catalogue::loadInstalled();
    if (!catalogue) {
        fmt::print(stderr, "{}\n", catalogue.error().text());
        return 2;
    }
    QTemporaryDir folder;
    if (!writeFirmware(folder.filePath("count.hex"), bus ? std::span<const std::uint16_t>(kDraws) : kCounts))
        return 2;
    app::MainWindow window(*catalogue);
    window.neverAsk();
    window.resize(1280, 800);
    window.show();
    app::Editor& editor = window.editor();
    editor.session().setTapeBytes(std::size_t{512} << 20U);
    editor.change("bench", [&](bench::Document& d) {
        bench::addPart(d, *catalogue->find("briar-328"), {4, 4});
        d.parts.back().firmware = folder.filePath("count.hex").toStdString();
    });
    const std::string chip = editor.document().parts.front().id;
    app::TapeView& tape = window.tapeView();
    std::vector<bench::PinRef> lanes;
    for (const char* pin : bus ? std::vector<const char*>{"PB5", "PB3"} : std::vector<const char*>{"PB0", "PB1", "PB2", "PB3"})
        lanes.push_back({chip, pin});
    if (bus)
        editor.change("display", [&](bench::Document& d) {
            bench::addPart(d, *catalogue->find("ssd1306-spi"), {60, 4});
            const std::string oled = d.parts.back().id;
            for (const auto& [from, to] : {std::pair("PB5", "D0"), {"PB3", "D1"}, {"PB2", "CS"}, {"5V", "VCC"}, {"5V", "RES"}, {"5V", "DC"}, {"GND", "GND"}})
                bench::addWire(d, *catalogue, {chip, from}, {oled, to}, {});
        });
    editor.addLanes(lanes, {});
    editor.session().setFullSpeed(true);
    const kernel::Time goal(kernel::Duration(static_cast<std::int64_t>(minutes * 60e12)));
    const auto began = Clock::now();
    editor.run();
    while (editor.picture().now < goal)
        QApplication::processEvents(QEventLoop::WaitForMoreEvents, 50);
    editor.pause();
    while (editor.picture().running)
        QApplication::processEvents(QEventLoop::WaitForMoreEvents, 50);
    // Each loop is 90 cycles, and 30 edges on the four pins in 16 of them; or 1000, 16 edges of the clock and some five of the data.
    const double loops = kernel::seconds(editor.picture().now - kernel::Time{}) * 16e6 / (bus ? 1000 : 90);
    const double edges = loops * (bus ? 21 : 30.0 / 16);
    const double took = since(began) / 1000;
    fmt::print("{:.0f} s of board time in {:.1f} s, {:.1f} million edges on {} lanes\n", kernel::seconds(editor.picture().now - kernel::Time{}), took, edges / 1e6, editor.picture().lanes.size());
    for (const session::ReadLane& lane : editor.picture().reads)
        fmt::print("read: {}\n", lane.text);

    // A step: what the hand does, and then until the window has been painted with the lanes of where it then stands.
    const auto step = [&](std::vector<double>& times, double& busy, const auto& act) {
        const auto start = Clock::now();
        act();
        const auto asked = tape.shownSpan();
        double worked = since(start);
        while (editor.picture().tapeFrom != asked.first || editor.picture().tapeTo != asked.second) {
            QApplication::processEvents(QEventLoop::WaitForMoreEvents | QEventLoop::ExcludeUserInputEvents, 20);
            if (since(start) > 2000)
                break;
        }
        const auto paint = Clock::now();
        tape.repaint();
        busy += worked + since(paint);
        times.push_back(since(start));
    };
    const auto mouse = [&](QEvent::Type type, QPointF at, Qt::MouseButton button, Qt::MouseButtons held) {
        QMouseEvent event(type, at, tape.mapToGlobal(at), button, held, Qt::NoModifier);
        QApplication::sendEvent(&tape, &event);
    };
    const double middle = tape.height() / 2.0;
    for (const auto& [name, span] : {std::pair("scrolling, half of the run", (goal - kernel::Time{}) / 2), {"scrolling, a minute", kernel::Duration(std::chrono::seconds(60))}, {"scrolling, a second", kernel::Duration(std::chrono::seconds(1))},
                                     {"scrolling, ten milliseconds", kernel::Duration(std::chrono::milliseconds(10))}, {"scrolling, ten microseconds", kernel::Duration(std::chrono::microseconds(10))}}) {
        tape.showSpan(goal - std::min(span * 3 / 2, goal - kernel::Time{}), goal - std::min(span * 3 / 2, goal - kernel::Time{}) + span);
        editor.session().settle();
        QApplication::processEvents();
        std::vector<double> times;
        double busy = 0;
        mouse(QEvent::MouseButtonPress, {900, middle}, Qt::LeftButton, Qt::LeftButton);
        for (int i = 1; i <= 120; ++i)
            step(times, busy, [&] { mouse(QEvent::MouseMove, {900.0 - i * 5, middle}, Qt::NoButton, Qt::LeftButton); });
        mouse(QEvent::MouseButtonRelease, {300, middle}, Qt::LeftButton, Qt::NoButton);
        tell(name, times, busy);
    }
    {
        tape.showSpan(kernel::Time{}, goal);
        std::vector<double> times;
        double busy = 0;
        for (int i = 0; i < 160; ++i)
            step(times, busy, [&] {
                QWheelEvent wheel({700, middle}, tape.mapToGlobal(QPointF(700, middle)), {}, {0, i < 80 ? 120 : -120}, Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase, false);
                QApplication::sendEvent(&tape, &wheel);
            });
        tell("zooming, the whole run to cycles", times, busy);
    }
    // The hand moves on evenly, a step each sixtieth of a second, for four seconds.
    for (const auto& [name, span] : {std::pair("dragging, a minute", kernel::Duration(std::chrono::seconds(60))), {"dragging, a second", kernel::Duration(std::chrono::seconds(1))}, {"dragging, ten milliseconds", kernel::Duration(std::chrono::milliseconds(10))}}) {
        tape.showSpan(goal - std::min(span * 3 / 2, goal - kernel::Time{}), goal - std::min(span * 3 / 2, goal - kernel::Time{}) + span);
        editor.session().settle();
        QApplication::processEvents();
        mouse(QEvent::MouseButtonPress, {1000, middle}, Qt::LeftButton, Qt::LeftButton);
        PaintCount count(tape, editor);
        const auto start = Clock::now();
        int i = 0;
        for (; since(start) < 4000; ++i) {
            mouse(QEvent::MouseMove, {1000.0 - (i % 400) * 2, middle}, Qt::NoButton, Qt::LeftButton);
            while (since(start) < (i + 1) * 1000.0 / 60)
                QApplication::processEvents(QEventLoop::AllEvents, 1);
        }
        const double seconds = since(start) / 1000;
        mouse(QEvent::MouseButtonRelease, {300, middle}, Qt::LeftButton, Qt::NoButton);
        fmt::print("{:<34} {:.1f} frames a second for {:.1f} steps, {:.0f} % of them with the lanes of where the hand is\n", name, count.frames / seconds, i / seconds, 100.0 * count.fresh / std::max(count.frames, 1));
    }
    std::vector<std::string> reads;
    for (const session::ReadLane& lane : editor.picture().reads)
        reads.push_back(lane.text);
    const auto search = [&](const char* words, bool forward) {
        const auto start = Clock::now();
        session::TapeQuery query{words, lanes[0].text(), reads, forward ? kernel::Time(kernel::Duration(1)) : goal, forward};
        std::string found = "?";
        int times = 0;
        for (bool more = true; more; ++times) {
            std::atomic<bool> done = false;
            more = false;
            editor.session().search(query, [&](const auto& hit) {
                found = !hit ? hit.error().text() : !*hit ? "nothing" : (*hit)->what;
                if (hit && *hit && (*hit)->more) {
                    query.from = (*hit)->at;
                    more = true;
                }
                done = true;
            });
            while (!done)
                QApplication::processEvents(QEventLoop::WaitForMoreEvents, 5);
        }
        fmt::print("search {:<4} \"{}\"{:<{}} {:.1f} ms in {}: {}\n", forward ? "on" : "back", words, "", 20 - static_cast<int>(std::string_view(words).size()), since(start), times == 1 ? "one go" : fmt::format("{} goes", times), found);
    };
    for (const bool forward : {true, false})
        for (const char* words : bus ? std::vector<const char*>{"edge", "< 10ns", "> 1s", "fe ff 00", "fe ff 01", "0x7f out", "frost"} : std::vector<const char*>{"edge", "< 1us", "> 1s"})
            search(words, forward);
    return 0;
}
