// The sweep: curves of voltages, currents and powers over one figure of the bench, worked out anew whenever the bench or the question changes.
//
// It works on a copy of the bench in a thread of its own: neither the running bench nor the window waits for it. Pins of chips hold what they drive at the moment of asking,
// and live controls stand where they stand.
// Tested by tests/app/sweep_test.cpp.
#pragma once

#include <thread>

#include <QTimer>
#include <QWidget>

#include "app/shell/editor.h"
#include "bench/sweep.h"

class QCPItemLine;
class QCPItemText;
class QCustomPlot;
class QLabel;
class QLineEdit;
class QPushButton;
class QVBoxLayout;

namespace bramix::app {

class SweepView : public QWidget {
    Q_OBJECT

public:
    explicit SweepView(Editor& editor, QWidget* parent = nullptr);
    ~SweepView() override;

    void setAxis(const std::string& figure);
    void setRange(const QString& from, const QString& to, const QString& points, bool logarithmic);
    void setCurves(const std::string& figure, const QString& values);
    void toggleTrace(const bench::SweepTrace& trace);
    // The first figure of a part, and its current.
    void ask(const std::string& part);
    // The part alone at a voltage source of its own, from below zero to above: its current. False where it has no two leads that conduct.
    bool askAlone(const std::string& part);
    [[nodiscard]] const std::string& alone() const { return alone_; }

    [[nodiscard]] const bench::SweepTable& table() const { return table_; }
    [[nodiscard]] bool working() const { return worker_.joinable() || again_.isActive(); }
    [[nodiscard]] QCustomPlot& plot() { return *plot_; }
    // What went wrong with the present question, or empty.
    [[nodiscard]] QString trouble() const;
    bool saveCsv(const QString& file);
    bool savePicture(const QString& file);

protected:
    void showEvent(QShowEvent*) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    void choose(QPushButton* button, bool mayBeNone, const std::function<void(const std::string&)>& chosen);
    void offerTraces();
    void showTraces();
    void restart();
    void stop();
    void take(std::uint64_t number, bench::SweepTable table, const QString& trouble, bool finished);
    void draw();
    void readOut(std::optional<double> x);
    [[nodiscard]] kernel::Result<bench::SweepRequest> request() const;
    void askFile(const QString& title, const QString& name, const QString& filter, const std::function<bool(const QString&)>& save);

    // The bench, or the part alone with its source.
    [[nodiscard]] const bench::Document& subject() const { return alone_.empty() ? editor_.document() : aloneDocument_; }

    Editor& editor_;
    std::string alone_;
    bench::Document aloneDocument_;
    std::string axis_, also_;
    bool logarithmic_ = false;
    bool decades_ = false;  // of the y axis
    std::vector<bench::SweepTrace> traces_;
    bench::SweepTable table_;
    std::uint64_t number_ = 0;
    QTimer again_;
    std::jthread worker_;

    QStackedWidget* shown_;  // the plot, or what to do
    QLabel* hint_;
    QPushButton* axisButton_;
    QLineEdit* from_;
    QLineEdit* to_;
    QLineEdit* points_;
    QPushButton* ratio_;
    QPushButton* alsoButton_;
    QLineEdit* alsoValues_;
    QVBoxLayout* traceList_;
    QPushButton* decadesButton_;
    QPushButton* stopButton_ = nullptr;
    QLabel* state_;
    QCustomPlot* plot_;
    QCPItemLine* cursor_;
    QCPItemText* cursorText_;
};

}  // namespace bramix::app
