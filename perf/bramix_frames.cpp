// How long a frame takes on a bench of 300 parts and 600 wires, while a person pans, drags a part, draws a wire and edits, and the bench runs.
// Prints the median, the 99th percentile and the longest, in milliseconds. To be run under Xvfb (or offscreen, which paints the same).
#include <algorithm>
#include <chrono>

#include <QApplication>
#include <QMouseEvent>
#include <fmt/format.h>

#include "app/shell/main_window.h"
#include "app/shell/theme.h"

using namespace bramix;

namespace {

// Rows of LEDs with resistors around a board, and wires between neighbours.
bench::Document crowd(const bench::Catalogue& catalogue)
{
    bench::Document d;
    bench::addPart(d, *catalogue.find("briar-328"), {2, 2});
    while (d.parts.size() < 300) {
        const auto n = static_cast<int>(d.parts.size());
        bench::addPart(d, *catalogue.find(n % 3 == 0 ? "led" : n % 3 == 1 ? "resistor" : "capacitor"), {34 + n % 20 * 7, 2 + n / 20 * 8});
    }
    for (std::size_t i = 1; d.wires.size() < 600; ++i) {
        const bench::PartItem& a = d.parts[1 + i % 299];
        const bench::PartItem& b = d.parts[1 + (i * 7 + 3) % 299];
        const auto& pa = catalogue.find(a.kind)->pins;
        const auto& pb = catalogue.find(b.kind)->pins;
        bench::addWire(d, catalogue, {a.id, pa[i % pa.size()].name}, {b.id, pb[(i / 3) % pb.size()].name}, {});
    }
    return d;
}

}  // namespace

int main(int argc, char** argv)
{
    QApplication application(argc, argv);
    QApplication::setStyle("Fusion");
    application.setStyleSheet(app::theme::styleSheet());
    const auto catalogue = bench::Catalogue::loadInstalled();
    if (!catalogue) {
        fmt::print(stderr, "{}\n", catalogue.error().text());
        return 2;
    }
    app::MainWindow window(*catalogue);
    window.neverAsk();
    window.show();
    const bench::Document document = crowd(*catalogue);
    window.editor().change("crowd", [&](bench::Document& d) { d = document; });
    QApplication::processEvents();
    window.benchView().fitAll();
    window.editor().session().settle();
    window.editor().run();
    app::BenchView& view = window.benchView();
    std::vector<double> frames;
    std::vector<std::pair<double, const char*>> named;
    const char* doing = "";
    // One frame: what the event changes, and the painting of it.
    const auto frame = [&](const auto& act) {
        const auto began = std::chrono::steady_clock::now();
        act();
        view.repaint();
        frames.push_back(std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - began).count());
        named.emplace_back(frames.back(), doing);
        QApplication::processEvents();
    };
    const auto mouse = [&](QEvent::Type type, QPointF at, Qt::MouseButton button, Qt::MouseButtons held) {
        QMouseEvent event(type, at, view.mapToGlobal(at), button, held, Qt::NoModifier);
        QApplication::sendEvent(&view, &event);
    };
    doing = "hover";
    for (int i = 0; i < 200; ++i)
        frame([&] { mouse(QEvent::MouseMove, {100.0 + i * 3, 100.0 + i}, Qt::NoButton, Qt::NoButton); });
    doing = "pan";
    frame([&] { mouse(QEvent::MouseButtonPress, {300, 300}, Qt::MiddleButton, Qt::MiddleButton); });
    for (int i = 0; i < 100; ++i)
        frame([&] { mouse(QEvent::MouseMove, {300.0 + i, 300.0 + i / 2.0}, Qt::NoButton, Qt::MiddleButton); });
    frame([&] { mouse(QEvent::MouseButtonRelease, {400, 350}, Qt::MiddleButton, Qt::NoButton); });
    doing = "drag a part";
    const QPointF part = *view.pinInWidget({document.parts[150].id, catalogue->find(document.parts[150].kind)->pins[0].name}) + QPointF(14, -1) * view.zoom();
    frame([&] { mouse(QEvent::MouseButtonPress, part, Qt::LeftButton, Qt::LeftButton); });
    for (int i = 0; i < 100; ++i)
        frame([&] { mouse(QEvent::MouseMove, part + QPointF(i * 1.5, i * 0.7), Qt::NoButton, Qt::LeftButton); });
    frame([&] { mouse(QEvent::MouseButtonRelease, part + QPointF(150, 70), Qt::LeftButton, Qt::NoButton); });
    doing = "zoom";
    for (int i = 0; i < 40; ++i)
        frame([&] { view.zoomBy(i < 20 ? 1.05 : 1 / 1.05, {400, 250}); });
    doing = "add a wire";
    for (int i = 0; i < 20; ++i)
        frame([&] {
            window.editor().change("wire", [&](bench::Document& d) { 
                const bench::PartItem& a = d.parts[5U + static_cast<std::size_t>(i)];
                const bench::PartItem& b = d.parts[200U + static_cast<std::size_t>(i)];
                bench::addWire(d, *catalogue, {a.id, catalogue->find(a.kind)->pins[0].name}, {b.id, catalogue->find(b.kind)->pins[1].name}, {});
            });
        });
    for (const char* what : {"hover", "pan", "drag a part", "zoom", "add a wire"}) {
        std::vector<double> of;
        for (const auto& [ms, name] : named)
            if (std::string_view(name) == what)
                of.push_back(ms);
        std::sort(of.begin(), of.end());
        fmt::print("  {:<12} median {:.1f} ms, longest {:.1f} ms\n", what, of[of.size() / 2], of.back());
    }
    std::sort(frames.begin(), frames.end());
    std::sort(named.begin(), named.end());
    fmt::print("{} parts, {} wires, {} frames: median {:.1f} ms, 99 % within {:.1f} ms, longest {:.1f} ms ({})\n", window.editor().document().parts.size(), window.editor().document().wires.size(), frames.size(),
               frames[frames.size() / 2], frames[frames.size() * 99 / 100], frames.back(), named.back().second);
    return 0;
}
