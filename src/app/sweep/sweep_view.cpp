#include "app/sweep/sweep_view.h"

#include <algorithm>
#include <cmath>

#include <QFileDialog>
#include <QGridLayout>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QMouseEvent>
#include <QPushButton>
#include <fmt/format.h>
#include <qcustomplot.h>

#include "app/shell/theme.h"

namespace bramix::app {

using bench::SweepTrace;
using kernel::Unit;

namespace {

constexpr int kSideWidth = 292;
constexpr int kWaitMs = 150;  // after the last change, before all is worked out anew
constexpr auto kShowEvery = std::chrono::milliseconds(60);
constexpr std::array<QRgb, 8> kColors{0xFFF0B45A, 0xFF7FB8D8, 0xFFA9CF8E, 0xFFD98FB6, 0xFFC9A6F0, 0xFFE88A6A, 0xFF8FD0C4, 0xFFD9CFC2};

QString text(const std::string& s) { return QString::fromStdString(s); }
QString quantity(double value, Unit unit, int digits = 4) { return text(kernel::formatQuantity(value, unit, digits)); }

// Ticks as engineers write them: "200 mA".
class UnitTicker final : public QCPAxisTicker {
public:
    explicit UnitTicker(Unit unit) : unit_(unit) {}

protected:
    QString getTickLabel(double tick, const QLocale&, QChar, int) override { return std::fabs(tick) < 1e-15 ? "0" : quantity(tick, unit_, 3); }

private:
    Unit unit_;
};

class DecadeTicker final : public QCPAxisTickerLog {
public:
    explicit DecadeTicker(Unit unit) : unit_(unit) {}

protected:
    QString getTickLabel(double tick, const QLocale&, QChar, int) override { return quantity(tick, unit_, 3); }

private:
    Unit unit_;
};

void dress(QCPAxis& axis, const QColor& color)
{
    axis.setBasePen(QPen(color, 1));
    axis.setTickPen(QPen(color, 1));
    axis.setSubTickPen(QPen(theme::kTapeGrid, 1));
    axis.setTickLabelColor(theme::kTapeText);
    axis.setLabelColor(theme::kTapeText);
    axis.setTickLabelFont(theme::figures(7.6));
    axis.setLabelFont(theme::words(8.4));
    axis.grid()->setPen(QPen(QColor(0x33, 0x2A, 0x38), 1));
    axis.grid()->setZeroLinePen(QPen(QColor(0x5A, 0x4C, 0x62), 1));
}

}  // namespace

SweepView::SweepView(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    setObjectName("sweep");
    setMinimumHeight(110);
    setAttribute(Qt::WA_StyledBackground);
    setStyleSheet("QWidget#sweep { background: #221A26; } QLabel { color: #9A8EA0; background: transparent; }"
                  "QLineEdit { background: #1B141F; color: #EADFD2; border: 1px solid #3A3040; border-radius: 4px; padding: 2px 6px; selection-background-color: #8A2B57; }"
                  "QPushButton { background: #3A3040; color: #EADFD2; border: none; border-radius: 4px; padding: 3px 9px; text-align: left; } QPushButton:hover { background: #4A3E52; }"
                  "QPushButton:checked { background: #8A2B57; }");
    auto* columns = new QHBoxLayout(this);
    columns->setContentsMargins(12, 6, 12, 8);
    columns->setSpacing(12);
    auto* side = new QWidget;
    side->setFixedWidth(kSideWidth);
    auto* grid = new QGridLayout(side);
    grid->setContentsMargins(0, 0, 0, 0);
    grid->setHorizontalSpacing(6);
    grid->setVerticalSpacing(5);
    const auto label = [](const QString& words) {
        auto* l = new QLabel(words);
        l->setFont(theme::words(8.8));
        return l;
    };
    const auto button = [](const char* name, const QString& words, const QString& tip) {
        auto* b = new QPushButton(words);
        b->setObjectName(name);
        b->setToolTip(tip);
        b->setFocusPolicy(Qt::NoFocus);
        b->setFont(theme::words(9));
        return b;
    };
    const auto edit = [this](const char* name, const QString& value, const QString& tip) {
        auto* e = new QLineEdit(value);
        e->setObjectName(name);
        e->setAccessibleName(tip);
        e->setToolTip(tip);
        e->setFont(theme::figures(9));
        connect(e, &QLineEdit::editingFinished, this, [this] { again_.start(); });
        return e;
    };
    axisButton_ = button("sweepAxis", {}, tr("The setting or live control that goes through a range"));
    from_ = edit("sweepFrom", "0", tr("Where the range begins, such as 0 V or 100m"));
    to_ = edit("sweepTo", "5", tr("Where the range ends"));
    points_ = edit("sweepPoints", "101", tr("How many points"));
    ratio_ = button("sweepRatio", tr("Linear"), tr("Linear or logarithmic steps"));
    alsoButton_ = button("sweepAlso", {}, tr("A second figure, and a curve for each of its values"));
    alsoValues_ = edit("sweepValues", {}, tr("Values of the second figure, with commas between: 100, 220, 4k7"));
    alsoValues_->setPlaceholderText(tr("100, 220, 4k7"));
    grid->addWidget(label(tr("Vary")), 0, 0);
    grid->addWidget(axisButton_, 0, 1, 1, 3);
    grid->addWidget(label(tr("from")), 1, 0);
    grid->addWidget(from_, 1, 1);
    grid->addWidget(label(tr("to")), 1, 2);
    grid->addWidget(to_, 1, 3);
    grid->addWidget(label(tr("points")), 2, 0);
    grid->addWidget(points_, 2, 1);
    grid->addWidget(ratio_, 2, 2, 1, 2);
    grid->addWidget(label(tr("curves")), 3, 0);
    grid->addWidget(alsoButton_, 3, 1);
    grid->addWidget(alsoValues_, 3, 2, 1, 2);
    auto* plotRow = new QHBoxLayout;
    auto* add = button("sweepTrace", tr("Plot…"), tr("What is plotted: voltages, currents, powers"));
    decadesButton_ = button("sweepDecades", tr("Log scale"), tr("A logarithmic scale; what is not above zero is left out"));
    decadesButton_->setCheckable(true);
    auto* csv = button("sweepCsv", tr("CSV…"), tr("Saves the figures"));
    auto* png = button("sweepPng", tr("PNG…"), tr("Saves the plot as a picture"));
    plotRow->setSpacing(6);
    plotRow->addWidget(add);
    plotRow->addWidget(decadesButton_);
    plotRow->addStretch(1);
    plotRow->addWidget(csv);
    plotRow->addWidget(png);
    grid->addLayout(plotRow, 4, 0, 1, 4);
    traceList_ = new QVBoxLayout;
    traceList_->setSpacing(2);
    grid->addLayout(traceList_, 5, 0, 1, 4);
    state_ = label({});
    state_->setObjectName("sweepState");
    state_->setWordWrap(true);
    auto* stateRow = new QHBoxLayout;
    stopButton_ = button("sweepStop", tr("Stop"), tr("Leaves the curves as far as they have come"));
    stopButton_->hide();
    stateRow->addWidget(state_, 1);
    stateRow->addWidget(stopButton_, 0, Qt::AlignTop);
    grid->addLayout(stateRow, 6, 0, 1, 4);
    connect(stopButton_, &QPushButton::clicked, this, [this] {
        stop();
        state_->setText(tr("stopped at %1 of %2 points").arg(table_.curves.empty() ? 0 : table_.curves.back().y.size()).arg(table_.request.axis.values.size()));
        stopButton_->hide();
    });
    grid->setRowStretch(7, 1);
    grid->setColumnStretch(1, 1);
    grid->setColumnStretch(3, 1);
    plot_ = new QCustomPlot;
    plot_->setMinimumSize(160, 96);  // below that its figures lie on each other
    plot_->setObjectName("sweepPlot");
    plot_->setBackground(theme::kTapeGround);
    plot_->axisRect()->setBackground(QColor(0x1B, 0x14, 0x1F));
    plot_->setInteractions(QCP::iRangeDrag | QCP::iRangeZoom);
    plot_->legend->setBrush(QColor(0x22, 0x1A, 0x26, 225));
    plot_->legend->setBorderPen(Qt::NoPen);
    plot_->legend->setTextColor(theme::kTapeText);
    plot_->legend->setFont(theme::figures(8.2));
    // Beside the curves, not over them.
    plot_->axisRect()->insetLayout()->take(plot_->legend);
    plot_->plotLayout()->addElement(0, 1, plot_->legend);
    plot_->plotLayout()->setColumnStretchFactor(1, 0.001);
    plot_->legend->setRowSpacing(1);
    plot_->legend->setFillOrder(QCPLayoutGrid::foRowsFirst);
    plot_->legend->setMaximumSize(300, QWIDGETSIZE_MAX);
    plot_->installEventFilter(this);
    plot_->setMouseTracking(true);
    dress(*plot_->xAxis, theme::kTapeMuted);
    cursor_ = new QCPItemLine(plot_);
    cursor_->setPen(QPen(QColor(0xD0, 0x5C, 0x8C), 1));
    cursorText_ = new QCPItemText(plot_);
    cursorText_->setColor(QColor(0xF4, 0xEC, 0xE0));
    cursorText_->setBrush(QColor(0x8A, 0x2B, 0x57));
    cursorText_->setPadding(QMargins(5, 1, 5, 1));
    cursorText_->setFont(theme::figures(8.2));
    cursorText_->setPositionAlignment(Qt::AlignHCenter | Qt::AlignTop);
    cursorText_->position->setTypeX(QCPItemPosition::ptPlotCoords);
    cursorText_->position->setTypeY(QCPItemPosition::ptAxisRectRatio);
    columns->addWidget(side);
    hint_ = new QLabel(tr("A sweep turns one value of the bench through a range and plots what follows.<br><br>"
                          "Select a part and press <b>W</b>: its value is varied, its current is plotted.<br>"
                          "Select a part with two leads and press <b>Shift+W</b>: its whole curve, alone at a source."));
    hint_->setObjectName("sweepHint");
    hint_->setAlignment(Qt::AlignCenter);
    hint_->setWordWrap(true);
    hint_->setFont(theme::words(10));
    hint_->setStyleSheet("color: #B9AEBF;");
    shown_ = new QStackedWidget;
    shown_->addWidget(hint_);
    shown_->addWidget(plot_);
    columns->addWidget(shown_, 1);

    again_.setSingleShot(true);
    again_.setInterval(kWaitMs);
    connect(&again_, &QTimer::timeout, this, &SweepView::restart);
    connect(axisButton_, &QPushButton::clicked, this, [this] { choose(axisButton_, false, [this](const std::string& f) { setAxis(f); }); });
    connect(alsoButton_, &QPushButton::clicked, this, [this] { choose(alsoButton_, true, [this](const std::string& f) { setCurves(f, alsoValues_->text()); }); });
    connect(ratio_, &QPushButton::clicked, this, [this] { setRange(from_->text(), to_->text(), points_->text(), !logarithmic_); });
    connect(add, &QPushButton::clicked, this, &SweepView::offerTraces);
    connect(decadesButton_, &QPushButton::toggled, this, [this](bool on) {
        decades_ = on;
        draw();
    });
    connect(csv, &QPushButton::clicked, this, [this] { askFile(tr("Save the figures"), "sweep.csv", tr("Figures (*.csv)"), [this](const QString& f) { return saveCsv(f); }); });
    connect(png, &QPushButton::clicked, this, [this] { askFile(tr("Save the plot"), "sweep.png", tr("Pictures (*.png)"), [this](const QString& f) { return savePicture(f); }); });
    connect(&editor_, &Editor::documentChanged, this, [this] {
        if (isVisible())
            again_.start();
    });
    showTraces();
}

SweepView::~SweepView() { stop(); }

void SweepView::stop()
{
    ++number_;
    worker_ = {};
}

void SweepView::showEvent(QShowEvent* event)
{
    QWidget::showEvent(event);
    if (axis_.empty())
        for (const std::string& part : editor_.selection().parts)
            ask(part);
    again_.start();
}

bool SweepView::askAlone(const std::string& id)
{
    const bench::PartItem* part = editor_.document().part(id);
    const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
    const bench::PartKind* source = editor_.catalogue().find("voltage-source");
    if (kind == nullptr || source == nullptr || kind->chip != nullptr || kind->pins.size() != 2)
        return false;
    bench::Document d;
    bench::PartItem copy = *part;
    copy.follow.clear();
    d.parts.push_back(copy);
    const std::string name = id == "source" ? "vsource" : "source";
    d.parts.push_back({});
    d.parts.back().id = name;
    d.parts.back().kind = source->id;
    // Forwards where it has a forward: from its anode or plus.
    const auto isPlus = [](const bench::PinKind& p) { return p.name == "A" || p.name == "+"; };
    const bool first = isPlus(kind->pins[0]) || !isPlus(kind->pins[1]);
    const auto wire = [&](const std::string& pin, const std::string& to) {
        d.wires.emplace_back();
        d.wires.back().from = {id, pin};
        d.wires.back().to = {name, to};
    };
    wire(kind->pins[first ? 0 : 1].name, "+");
    wire(kind->pins[first ? 1 : 0].name, "-");
    d.nets.emplace_back();
    d.nets.back().name = "GND";
    d.nets.back().pins = {{name, "-"}};
    stop();
    alone_ = id;
    aloneDocument_ = std::move(d);
    axis_ = name + ".volts";
    also_.clear();
    traces_ = {{SweepTrace::What::current, {}, {}, id}};
    decades_ = false;
    setRange("-6 V", "5 V", "221", false);
    return true;
}

void SweepView::setAxis(const std::string& figure)
{
    const auto figures = bench::sweepFigures(subject(), editor_.catalogue());
    const auto found = std::find_if(figures.begin(), figures.end(), [&](const bench::SweepFigure& f) { return f.text() == figure; });
    if (figure != axis_ && found != figures.end()) {
        // A dial from end to end; a resistance over two decades around what it is; anything else up to twice what it is.
        const double now = found->present;
        const bool ratio = found->unit == Unit::ohm && now > 0;
        from_->setText(quantity(found->least.value_or(ratio ? now / 10 : 0), found->unit));
        to_->setText(quantity(found->most.value_or(ratio ? now * 10 : now != 0 ? 2 * now : 5), found->unit));
        logarithmic_ = ratio;
    }
    axis_ = figure;
    showTraces();
    again_.start();
}

void SweepView::setRange(const QString& from, const QString& to, const QString& points, bool logarithmic)
{
    from_->setText(from);
    to_->setText(to);
    points_->setText(points);
    logarithmic_ = logarithmic;
    showTraces();
    again_.start();
}

void SweepView::setCurves(const std::string& figure, const QString& values)
{
    also_ = figure;
    alsoValues_->setText(values);
    showTraces();
    again_.start();
}

void SweepView::toggleTrace(const SweepTrace& trace)
{
    const auto found = std::find(traces_.begin(), traces_.end(), trace);
    if (found != traces_.end())
        traces_.erase(found);
    else
        traces_.push_back(trace);
    showTraces();
    again_.start();
}

void SweepView::ask(const std::string& part)
{
    if (!std::exchange(alone_, std::string()).empty()) {
        axis_.clear();
        traces_.clear();
    }
    const auto figures = bench::sweepFigures(subject(), editor_.catalogue());
    const auto found = std::find_if(figures.begin(), figures.end(), [&](const bench::SweepFigure& f) { return f.part == part; });
    if (found != figures.end())
        setAxis(found->text());
    const auto now = editor_.picture().parts.find(part);
    if (traces_.empty() && now != editor_.picture().parts.end() && now->second.measured)
        toggleTrace({SweepTrace::What::current, {}, {}, part});
}

void SweepView::choose(QPushButton* button, bool mayBeNone, const std::function<void(const std::string&)>& chosen)
{
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    if (!alone_.empty())
        menu->addAction(tr("a value of the bench instead"), this, [this] {
            alone_.clear();
            axis_.clear();
            traces_.clear();
            showTraces();
            again_.start();
        });
    if (mayBeNone)
        menu->addAction(tr("one curve only"), this, [chosen] { chosen({}); });
    QMenu* sub = nullptr;
    std::string part;
    for (const bench::SweepFigure& f : bench::sweepFigures(subject(), editor_.catalogue())) {
        if (f.part != part)
            sub = menu->addMenu(text(part = f.part));
        sub->addAction(f.control ? tr("%1 (live control)").arg(text(f.name)) : text(f.name), this, [chosen, name = f.text()] { chosen(name); });
    }
    menu->popup(button->mapToGlobal(QPoint(0, -menu->sizeHint().height())));
}

void SweepView::offerTraces()
{
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    for (const bench::PartItem& part : subject().parts) {
        const bench::PartKind* kind = editor_.catalogue().find(part.kind);
        if (kind == nullptr)
            continue;
        QMenu* sub = menu->addMenu(text(part.label.empty() || part.label == part.id ? part.id : part.id + "  " + part.label));
        const auto offer = [&](const QString& words, const SweepTrace& trace) {
            QAction* action = sub->addAction(words, this, [this, trace] { toggleTrace(trace); });
            action->setCheckable(true);
            action->setChecked(std::find(traces_.begin(), traces_.end(), trace) != traces_.end());
        };
        const auto now = editor_.picture().parts.find(part.id);
        if (now != editor_.picture().parts.end() && now->second.measured) {
            offer(tr("current"), {SweepTrace::What::current, {}, {}, part.id});
            offer(tr("power"), {SweepTrace::What::power, {}, {}, part.id});
            if (kind->pins.size() == 2)
                offer(tr("voltage across"), {SweepTrace::What::voltage, {part.id, kind->pins[0].name}, bench::PinRef{part.id, kind->pins[1].name}, {}});
            sub->addSeparator();
        }
        for (const bench::PinKind& pin : kind->pins)
            offer(tr("voltage of %1").arg(text(pin.name)), {SweepTrace::What::voltage, {part.id, pin.name}, {}, {}});
    }
    auto* button = qobject_cast<QPushButton*>(sender());
    menu->popup((button == nullptr ? axisButton_ : button)->mapToGlobal(QPoint(0, -menu->sizeHint().height())));
}

void SweepView::showTraces()
{
    axisButton_->setText(axis_.empty() ? tr("choose a value…") : alone_.empty() ? text(axis_) : tr("volts at %1 alone").arg(text(alone_)));
    shown_->setCurrentIndex(axis_.empty() || traces_.empty() ? 0 : 1);
    alsoButton_->setText(also_.empty() ? tr("one only") : text(also_));
    alsoValues_->setVisible(!also_.empty());
    ratio_->setText(logarithmic_ ? tr("Logarithmic") : tr("Linear"));
    while (QLayoutItem* item = traceList_->takeAt(0)) {
        item->widget()->deleteLater();
        delete item;
    }
    for (const SweepTrace& trace : traces_) {
        auto* b = new QPushButton(text(trace.text()) + "   ×");
        b->setToolTip(tr("Removes it from the plot"));
        b->setFont(theme::figures(8.8));
        b->setFocusPolicy(Qt::NoFocus);
        connect(b, &QPushButton::clicked, this, [this, trace] { toggleTrace(trace); });
        traceList_->addWidget(b, 0, Qt::AlignLeft);
    }
}

QString SweepView::trouble() const { return state_->property("error").toBool() ? state_->text() : QString(); }

kernel::Result<bench::SweepRequest> SweepView::request() const
{
    const auto figures = bench::sweepFigures(subject(), editor_.catalogue());
    const auto unitOf = [&](const std::string& name) {
        const auto found = std::find_if(figures.begin(), figures.end(), [&](const bench::SweepFigure& f) { return f.text() == name; });
        return found == figures.end() ? Unit::none : found->unit;
    };
    const auto read = [](const QString& typed, Unit unit, const char* where) {
        auto value = kernel::parseQuantity(typed.trimmed().toStdString(), unit);
        if (!value)
            value.error().where = where;
        return value;
    };
    bench::SweepRequest out;
    const auto from = read(from_->text(), unitOf(axis_), "from");
    const auto to = read(to_->text(), unitOf(axis_), "to");
    for (const auto* v : {&from, &to})
        if (!*v)
            return tl::unexpected(v->error());
    bool good = false;
    const int points = points_->text().trimmed().toInt(&good);
    auto values = bench::sweepValues(*from, *to, good && points > 0 ? static_cast<std::size_t>(points) : 0, logarithmic_);
    if (!values)
        return tl::unexpected(values.error());
    out.axis = {axis_, std::move(*values)};
    if (!also_.empty()) {
        out.also = bench::SweepAxis{also_, {}};
        for (const QString& one : alsoValues_->text().split(',', Qt::SkipEmptyParts)) {
            const auto value = read(one, unitOf(also_), "curves");
            if (!value)
                return tl::unexpected(value.error());
            out.also->values.push_back(*value);
        }
    }
    out.traces = traces_;
    for (const auto& [name, value] : editor_.picture().controls)
        if (alone_.empty() || name.starts_with(alone_ + "."))
            out.controls[name] = value;
    if (alone_.empty())
        for (const auto& [pin, now] : editor_.picture().pins)
            if (!now.supply)
                out.drives[pin] = now.drive;
    return out;
}

void SweepView::restart()
{
    stop();
    const auto fail = [&](const QString& words) {
        table_ = {};
        take(number_, {}, words, true);
    };
    if (axis_.empty())
        return take(number_, {}, tr("The bench needs no chip, and need not run."), true);
    if (traces_.empty())
        return take(number_, {}, tr("Choose what to plot."), true);
    auto wanted = request();
    if (!wanted)
        return fail(text(wanted.error().text()));
    auto sweep = bench::Sweep::begin(subject(), editor_.catalogue(), editor_.files(), std::move(*wanted));
    if (!sweep)
        return fail(text(sweep.error().text()));
    worker_ = std::jthread([this, number = number_, work = std::move(*sweep)](const std::stop_token& stopped) mutable {
        auto shown = std::chrono::steady_clock::now();
        QString trouble;
        const auto show = [&](bool finished) { QMetaObject::invokeMethod(this, [this, number, table = work.table(), trouble, finished] { take(number, table, trouble, finished); }, Qt::QueuedConnection); };
        while (!stopped.stop_requested()) {
            const auto more = work.step();
            if (!more)
                trouble = text(more.error().text());
            if (!more || !*more)
                break;
            if (std::chrono::steady_clock::now() - shown > kShowEvery) {
                shown = std::chrono::steady_clock::now();
                show(false);
            }
        }
        show(true);
    });
}

void SweepView::take(std::uint64_t number, bench::SweepTable table, const QString& trouble, bool finished)
{
    if (number != number_)
        return;
    if (finished && worker_.joinable())
        worker_ = {};
    table_ = std::move(table);
    QString words = trouble;
    const std::size_t done = table_.curves.empty() ? 0 : table_.curves.back().y.size();
    if (words.isEmpty() && !finished)
        words = tr("%1 of %2 points").arg(done).arg(table_.request.axis.values.size());
    else if (words.isEmpty() && table_.unsolved > 0)
        words = tr("%1 points have no solution and are left out").arg(table_.unsolved);
    state_->setProperty("error", !trouble.isEmpty() && !axis_.empty() && !traces_.empty());
    state_->setText(words);
    stopButton_->setVisible(!finished);
    state_->setStyleSheet(state_->property("error").toBool() ? "color: #E88A6A;" : "color: #D9CFC2;");
    draw();
}

// One axis a unit: the first at the left, others at the right.
void SweepView::draw()
{
    plot_->clearGraphs();
    QCPAxisRect* area = plot_->axisRect();
    for (const QCPAxis::AxisType side : {QCPAxis::atLeft, QCPAxis::atRight})
        while (area->axisCount(side) > 1)
            area->removeAxis(area->axis(side, 1));
    plot_->yAxis2->setVisible(false);
    std::vector<std::pair<Unit, QCPAxis*>> axes;
    const auto axisOf = [&](Unit unit) {
        for (const auto& [u, axis] : axes)
            if (u == unit)
                return axis;
        QCPAxis* axis = axes.empty() ? plot_->yAxis : axes.size() == 1 ? plot_->yAxis2 : area->addAxis(QCPAxis::atRight);
        axis->setVisible(true);
        axis->setScaleType(decades_ ? QCPAxis::stLogarithmic : QCPAxis::stLinear);
        axis->setTicker(decades_ ? QSharedPointer<QCPAxisTicker>(new DecadeTicker(unit)) : QSharedPointer<QCPAxisTicker>(new UnitTicker(unit)));
        dress(*axis, theme::kTapeMuted);
        axes.emplace_back(unit, axis);
        return axis;
    };
    plot_->xAxis->setScaleType(logarithmic_ ? QCPAxis::stLogarithmic : QCPAxis::stLinear);
    plot_->xAxis->setTicker(logarithmic_ ? QSharedPointer<QCPAxisTicker>(new DecadeTicker(table_.unit)) : QSharedPointer<QCPAxisTicker>(new UnitTicker(table_.unit)));
    plot_->xAxis->setLabel(text(table_.request.axis.figure));
    for (const bench::SweepCurve& curve : table_.curves) {
        QCPGraph* graph = plot_->addGraph(plot_->xAxis, axisOf(table_.request.traces[curve.trace].unit()));
        // Where colours tell the second figure's value, dashes tell which trace.
        constexpr std::array kStyles{Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine};
        const std::size_t sets = table_.request.also ? table_.request.also->values.size() : 1;
        const auto index = static_cast<std::size_t>(plot_->graphCount() - 1);
        const std::size_t color = curve.also ? index % sets : index;
        graph->setPen(QPen(QColor(kColors[color % kColors.size()]), 1.8, curve.also ? kStyles[curve.trace % kStyles.size()] : Qt::SolidLine));
        QVector<double> x, y;
        for (std::size_t i = 0; i < curve.y.size(); ++i) {
            x.push_back(table_.request.axis.values[i]);
            y.push_back(decades_ && !(curve.y[i] > 0) ? std::nan("") : curve.y[i]);
        }
        graph->setData(x, y);
    }
    if (axes.empty())
        dress(*plot_->yAxis, theme::kTapeMuted);
    // An empty legend would hold the whole row to its own height.
    const bool named = !table_.curves.empty(), there = plot_->legend->layout() != nullptr;
    plot_->legend->setVisible(named);
    if (named && !there)
        plot_->plotLayout()->addElement(0, 1, plot_->legend);
    else if (!named && there) {
        plot_->plotLayout()->take(plot_->legend);
        plot_->plotLayout()->simplify();
    }
    const auto& values = table_.request.axis.values;
    if (!values.empty())
        plot_->xAxis->setRange(std::min(values.front(), values.back()), std::max(values.front(), values.back()));
    for (const auto& [unit, axis] : axes) {
        axis->rescale();
        const QCPRange r = axis->range();
        if (!decades_)
            axis->setRange(r.lower - 0.05 * r.size() - 1e-12, r.upper + 0.08 * r.size() + 1e-12);
    }
    QList<QCPAxis*> vertical;
    for (const auto& [unit, axis] : axes)
        vertical << axis;
    area->setRangeDragAxes({plot_->xAxis}, vertical);
    area->setRangeZoomAxes({plot_->xAxis}, vertical);
    readOut(std::nullopt);
}

// The values of every curve at the pointer.
void SweepView::readOut(std::optional<double> x)
{
    const auto& values = table_.request.axis.values;
    const bool on = x && !values.empty() && plot_->graphCount() > 0;
    cursor_->setVisible(on);
    cursorText_->setVisible(on);
    std::size_t nearest = 0;
    if (on) {
        for (std::size_t i = 1; i < values.size(); ++i)
            if (std::fabs(values[i] - *x) < std::fabs(values[nearest] - *x))
                nearest = i;
        const double at = values[nearest];
        cursor_->start->setTypeY(QCPItemPosition::ptAxisRectRatio);
        cursor_->end->setTypeY(QCPItemPosition::ptAxisRectRatio);
        cursor_->start->setCoords(at, 0);
        cursor_->end->setCoords(at, 1);
        cursorText_->position->setCoords(at, 0.01);
        cursorText_->setText(quantity(at, table_.unit));
    }
    for (std::size_t i = 0; i < table_.curves.size() && static_cast<int>(i) < plot_->graphCount(); ++i) {
        const bench::SweepCurve& curve = table_.curves[i];
        QString name = text(table_.request.traces[curve.trace].text());
        if (curve.also)
            name += ", " + quantity(*curve.also, table_.alsoUnit);
        if (on && nearest < curve.y.size())
            name += "   " + (std::isfinite(curve.y[nearest]) ? quantity(curve.y[nearest], table_.request.traces[curve.trace].unit()) : tr("no solution"));
        plot_->graph(static_cast<int>(i))->setName(name);
    }
    if (plot_->isVisible())  // without a size there is nothing to draw on
        plot_->replot(QCustomPlot::rpQueuedReplot);
}

bool SweepView::eventFilter(QObject* watched, QEvent* event)
{
    if (watched == plot_) {
        if (event->type() == QEvent::MouseMove) {
            const auto* move = static_cast<QMouseEvent*>(event);
            readOut(plot_->axisRect()->rect().contains(move->position().toPoint()) ? std::optional(plot_->xAxis->pixelToCoord(move->position().x())) : std::nullopt);
        } else if (event->type() == QEvent::Leave) {
            readOut(std::nullopt);
        } else if (event->type() == QEvent::MouseButtonDblClick) {
            draw();
        }
    }
    return QWidget::eventFilter(watched, event);
}

bool SweepView::saveCsv(const QString& file)
{
    const auto saved = bench::saveText(file.toStdString(), table_.csv());
    if (!saved)
        emit editor_.message(text(saved.error().text()), true);
    return saved.has_value();
}

bool SweepView::savePicture(const QString& file)
{
    readOut(std::nullopt);
    const bool saved = plot_->savePng(file, 1200, 720);
    if (!saved)
        emit editor_.message(tr("%1 could not be written").arg(file), true);
    return saved;
}

void SweepView::askFile(const QString& title, const QString& name, const QString& filter, const std::function<bool(const QString&)>& save)
{
    if (table_.curves.empty())
        return emit editor_.message(tr("There is no curve to save yet"), false);
    const QString file = QFileDialog::getSaveFileName(this, title, editor_.folder() + "/" + name, filter);
    if (!file.isEmpty() && save(file))
        emit editor_.message(tr("Saved as %1").arg(file), false);
}

}  // namespace bramix::app
