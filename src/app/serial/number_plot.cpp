#include "app/serial/number_plot.h"

#include <cmath>

#include <QFileDialog>
#include <QLabel>
#include <QLineEdit>
#include <QMouseEvent>
#include <QPushButton>
#include <QScrollArea>
#include <QVBoxLayout>
#include <fmt/format.h>
#include <qcustomplot.h>

#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

namespace {

constexpr std::array<QRgb, 8> kColors{0xFFF0B45A, 0xFF7FB8D8, 0xFFA9CF8E, 0xFFD98FB6, 0xFFC9A6F0, 0xFFE88A6A, 0xFF8FD0C4, 0xFFD9CFC2};
constexpr int kMostPoints = 400'000;  // a curve; the oldest tenth goes when there are more
constexpr int kRedrawMs = 33;
constexpr int kSideWidth = 190;

QString figure(double value) { return QString::number(value, 'g', 5); }

}  // namespace

NumberPlot::NumberPlot(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    auto* columns = new QHBoxLayout(this);
    columns->setContentsMargins(0, 0, 0, 0);
    columns->setSpacing(8);
    plot_ = new QCustomPlot;
    plot_->setMinimumSize(160, 96);  // below that its figures lie on each other
    plot_->setObjectName("numberPlot");
    plot_->setMouseTracking(true);
    plot_->setBackground(theme::kTapeGround);
    for (QCPAxis* axis : {plot_->xAxis, plot_->yAxis}) {
        axis->setBasePen(QPen(theme::kTapeMuted, 1));
        axis->setTickPen(QPen(theme::kTapeMuted, 1));
        axis->setSubTickPen(QPen(theme::kTapeGrid, 1));
        axis->setTickLabelColor(theme::kTapeText);
        axis->setTickLabelFont(theme::figures(7.6));
        axis->grid()->setPen(QPen(QColor(0x33, 0x2A, 0x38), 1));
        axis->grid()->setZeroLinePen(QPen(QColor(0x5A, 0x4C, 0x62), 1));
    }
    plot_->setInteractions(QCP::iRangeDrag | QCP::iRangeZoom);
    plot_->axisRect()->setRangeZoom(Qt::Horizontal);
    plot_->axisRect()->setRangeDrag(Qt::Horizontal);
    plot_->axisRect()->setAutoMargins(QCP::msLeft | QCP::msBottom | QCP::msTop);
    plot_->axisRect()->setMargins(QMargins(0, 0, 8, 0));
    plot_->axisRect()->setMinimumMargins(QMargins(44, 8, 8, 20));
    const auto upright = [this](const QPen& pen) {
        auto* line = new QCPItemLine(plot_);
        line->setPen(pen);
        line->setVisible(false);
        line->start->setTypeY(QCPItemPosition::ptAxisRectRatio);
        line->end->setTypeY(QCPItemPosition::ptAxisRectRatio);
        return line;
    };
    cursor_ = upright(QPen(theme::kTapeMuted, 1, Qt::DotLine));
    for (QCPItemLine*& mark : marks_)
        mark = upright(QPen(theme::kTapeWarning, 1.2, Qt::DashLine));
    plot_->installEventFilter(this);
    columns->addWidget(plot_, 1);

    auto* side = new QWidget;
    side->setFixedWidth(kSideWidth);
    auto* rows = new QVBoxLayout(side);
    rows->setContentsMargins(0, 2, 0, 0);
    rows->setSpacing(4);
    auto* buttons = new QHBoxLayout;
    buttons->setSpacing(4);
    const auto button = [&](const QString& words, const QString& tip) {
        auto* b = new QPushButton(words);
        b->setFocusPolicy(Qt::NoFocus);
        b->setFont(theme::words(8.4));
        b->setToolTip(tip);
        buttons->addWidget(b);
        return b;
    };
    follow_ = button(tr("Follow"), tr("The latest at the right; a double click in the plot does the same"));
    follow_->setCheckable(true);
    follow_->setChecked(true);
    auto* csv = button(tr("CSV…"), tr("Saves all points"));
    auto* png = button(tr("PNG…"), tr("Saves the plot as a picture"));
    rows->addLayout(buttons);
    variable_ = new QLineEdit;
    variable_->setObjectName("plotVariable");
    variable_->setFont(theme::figures(8.4));
    variable_->setPlaceholderText(tr("a variable to plot"));
    rows->addWidget(variable_);
    auto* inner = new QWidget;
    list_ = new QVBoxLayout(inner);
    list_->setContentsMargins(0, 0, 0, 0);
    list_->setSpacing(2);
    list_->addStretch(1);
    auto* scroll = new QScrollArea;
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setStyleSheet("QScrollArea, QScrollArea > QWidget > QWidget { background: transparent; }");
    scroll->setWidget(inner);
    rows->addWidget(scroll, 1);
    between_ = new QLabel;
    between_->setFont(theme::figures(8));
    between_->setWordWrap(true);
    rows->addWidget(between_);
    columns->addWidget(side);

    connect(follow_, &QPushButton::clicked, this, [this](bool on) { setFollow(on); });
    connect(csv, &QPushButton::clicked, this, [this] {
        if (const QString file = QFileDialog::getSaveFileName(this, tr("Save the points"), editor_.folder() + "/curves.csv", tr("CSV (*.csv)")); !file.isEmpty())
            emit editor_.message(saveCsv(file) ? tr("Saved to %1").arg(file) : tr("%1 could not be written").arg(file), false);
    });
    connect(png, &QPushButton::clicked, this, [this] {
        if (const QString file = QFileDialog::getSaveFileName(this, tr("Save the plot"), editor_.folder() + "/curves.png", tr("Picture (*.png)")); !file.isEmpty())
            emit editor_.message(savePicture(file) ? tr("Saved to %1").arg(file) : tr("%1 could not be written").arg(file), false);
    });
    connect(variable_, &QLineEdit::returnPressed, this, [this] {
        if (!variable_->text().trimmed().isEmpty())
            addVariable(variable_->text().trimmed());
        variable_->clear();
    });
    redraw_.setInterval(kRedrawMs);
    connect(&redraw_, &QTimer::timeout, this, [this] {
        if (dirty_ && isVisible())
            draw();
    });
    redraw_.start();
    connect(&editor_, &Editor::pictureChanged, this, &NumberPlot::takeSamples);
    connect(&editor_, &Editor::sessionRestarted, this, [this] {
        clear();
        sendVariables();
    });
}

NumberPlot::Curve& NumberPlot::curve(const std::string& name)
{
    Curve& c = curves_[name];
    if (c.label != nullptr)
        return c;
    QCPGraph* graph = plot_->addGraph();
    const QColor color(kColors[static_cast<std::size_t>(plot_->graphCount() - 1) % kColors.size()]);
    graph->setPen(QPen(color, 1.6));
    graph->setName(QString::fromStdString(name));
    c.graph = plot_->graphCount() - 1;
    c.label = new QPushButton(QString::fromStdString(name));
    c.label->setObjectName("curve-" + QString::fromStdString(name));
    c.label->setCheckable(true);
    c.label->setChecked(true);
    c.label->setFocusPolicy(Qt::NoFocus);
    c.label->setFont(theme::figures(8));
    c.label->setStyleSheet(QString("QPushButton { background: transparent; border: none; border-left: 3px solid %1; border-radius: 0; color: #D9CFC2; text-align: left; padding: 2px 6px; }"
                                   "QPushButton:!checked { color: #6F6577; border-left-color: #4A3E52; }").arg(color.name()));
    c.label->setToolTip(tr("Shows this curve, or does not"));
    connect(c.label, &QPushButton::toggled, this, [this, name](bool on) {
        curves_[name].on = on;
        dirty_ = true;
    });
    list_->insertWidget(list_->count() - 1, c.label);
    return c;
}

void NumberPlot::add(const std::string& name, kernel::Time at, double value)
{
    constexpr std::size_t kMostCurves = 64;
    if (curves_.size() >= kMostCurves && !curves_.contains(name))
        return;
    auto data = plot_->graph(curve(name).graph)->data();
    const double t = kernel::seconds(at);
    data->add(QCPGraphData(t, value));
    if (data->size() > kMostPoints)
        data->removeBefore((data->constBegin() + kMostPoints / 10)->key);
    latest_ = std::max(latest_, t);
    dirty_ = true;
}

void NumberPlot::rewind(kernel::Time t)
{
    for (auto& [name, c] : curves_)
        plot_->graph(c.graph)->data()->removeAfter(kernel::seconds(t));
    latest_ = std::min(latest_, kernel::seconds(t));
    dirty_ = true;
}

void NumberPlot::clear()
{
    plot_->clearGraphs();
    for (auto& [name, c] : curves_)
        delete c.label;
    curves_.clear();
    latest_ = 0;
    markAt_[0].reset();
    markAt_[1].reset();
    dirty_ = true;
}

void NumberPlot::addVariable(const QString& expression)
{
    const std::string text = expression.toStdString();
    if (std::find(variables_.begin(), variables_.end(), text) == variables_.end())
        variables_.push_back(text);
    sendVariables();
}

void NumberPlot::sendVariables() { editor_.session().watchValues(variables_); }

void NumberPlot::takeSamples()
{
    for (const session::Sample& s : editor_.session().takeSamples())
        if (s.index < variables_.size())
            add(variables_[s.index], s.at, s.value);
}

QStringList NumberPlot::names() const
{
    QStringList out;
    for (const auto& [name, c] : curves_)
        out << QString::fromStdString(name);
    return out;
}

std::size_t NumberPlot::points(const QString& name) const
{
    const auto found = curves_.find(name.toStdString());
    return found == curves_.end() ? 0 : static_cast<std::size_t>(plot_->graph(found->second.graph)->data()->size());
}

void NumberPlot::setFollow(bool follow)
{
    follow_->setChecked(follow);
    dirty_ = true;
}

void NumberPlot::draw()
{
    dirty_ = false;
    if (follow_->isChecked())
        plot_->xAxis->setRange(std::max(0.0, latest_ - span_), std::max(latest_, span_ * 0.02));
    const QCPRange seen = plot_->xAxis->range();
    double low = 0, high = 0;
    bool any = false;
    for (auto& [name, c] : curves_) {
        QCPGraph* graph = plot_->graph(c.graph);
        graph->setVisible(c.on);
        double least = 0, most = 0, sum = 0;
        int count = 0;
        for (auto p = graph->data()->findBegin(seen.lower, false), end = graph->data()->findEnd(seen.upper, false); p != end; ++p) {
            least = count == 0 ? p->value : std::min(least, p->value);
            most = count == 0 ? p->value : std::max(most, p->value);
            sum += p->value;
            ++count;
        }
        c.label->setText(count == 0 ? QString::fromStdString(name) : QString("%1\n  %2 … %3, mean %4").arg(QString::fromStdString(name), figure(least), figure(most), figure(sum / count)));
        if (!c.on || count == 0)
            continue;
        low = any ? std::min(low, least) : least;
        high = any ? std::max(high, most) : most;
        any = true;
    }
    if (any) {
        const double margin = high > low ? (high - low) * 0.08 : std::max(std::abs(high) * 0.1, 0.5);
        plot_->yAxis->setRange(low - margin, high + margin);
    }
    for (int i = 0; i < 2; ++i) {
        marks_[i]->setVisible(markAt_[i].has_value());
        if (markAt_[i]) {
            marks_[i]->start->setCoords(*markAt_[i], 0);
            marks_[i]->end->setCoords(*markAt_[i], 1);
        }
    }
    if (plot_->isVisible())  // without a size there is nothing to draw on
        plot_->replot(QCustomPlot::rpQueuedReplot);
}

// The last point of each curve at or before an instant; between the marks, how much it changes.
void NumberPlot::readOut(std::optional<double> x)
{
    cursor_->setVisible(x.has_value());
    const auto valueAt = [this](const Curve& c, double t) -> std::optional<double> {
        const auto data = plot_->graph(c.graph)->data();
        auto p = data->findEnd(t, false);
        return p == data->constBegin() ? std::nullopt : std::optional((p - 1)->value);
    };
    QStringList lines;
    if (markAt_[0] && markAt_[1])
        lines << tr("%1 between the marks").arg(QString::fromStdString(kernel::formatQuantity(std::abs(*markAt_[1] - *markAt_[0]), kernel::Unit::second, 5)));
    if (x) {
        cursor_->start->setCoords(*x, 0);
        cursor_->end->setCoords(*x, 1);
        lines << QString::number(*x, 'f', 6) + " s";
    }
    for (const auto& [name, c] : curves_) {
        if (!c.on)
            continue;
        if (markAt_[0] && markAt_[1]) {
            const auto a = valueAt(c, *markAt_[0]), b = valueAt(c, *markAt_[1]);
            if (a && b)
                lines << QString("%1  %2 → %3").arg(QString::fromStdString(name), figure(*a), figure(*b));
        } else if (x) {
            if (const auto v = valueAt(c, *x))
                lines << QString("%1  %2").arg(QString::fromStdString(name), figure(*v));
        }
    }
    between_->setText(lines.join('\n'));
    if (plot_->isVisible())  // without a size there is nothing to draw on
        plot_->replot(QCustomPlot::rpQueuedReplot);
}

bool NumberPlot::eventFilter(QObject* watched, QEvent* event)
{
    if (watched != plot_)
        return QWidget::eventFilter(watched, event);
    const auto timeAt = [this](const QMouseEvent* e) { return plot_->xAxis->pixelToCoord(e->position().x()); };
    switch (event->type()) {
    case QEvent::MouseMove: {
        const auto* move = static_cast<QMouseEvent*>(event);
        if ((move->buttons() & Qt::LeftButton) != 0)
            setFollow(false);
        readOut(plot_->axisRect()->rect().contains(move->position().toPoint()) ? std::optional(timeAt(move)) : std::nullopt);
        break;
    }
    case QEvent::Leave: readOut(std::nullopt); break;
    case QEvent::Wheel: {
        const auto* wheel = static_cast<QWheelEvent*>(event);
        if (follow_->isChecked()) {  // more or less of the latest
            span_ = std::clamp(span_ * std::pow(0.85, wheel->angleDelta().y() / 120.0), 1e-4, 1e5);
            dirty_ = true;
            return true;
        }
        dirty_ = true;
        break;
    }
    case QEvent::MouseButtonDblClick: setFollow(true); return true;
    case QEvent::MouseButtonRelease: {
        const auto* release = static_cast<QMouseEvent*>(event);
        const bool second = (release->modifiers() & Qt::ShiftModifier) != 0;
        if (release->button() == Qt::RightButton) {
            markAt_[0].reset();
            markAt_[1].reset();
        } else if (second) {
            markAt_[1] = timeAt(release);
        } else {
            markAt_[0] = timeAt(release);
            markAt_[1].reset();
        }
        dirty_ = true;
        break;
    }
    default: break;
    }
    return QWidget::eventFilter(watched, event);
}

void NumberPlot::showEvent(QShowEvent*) { dirty_ = true; }

bool NumberPlot::saveCsv(const QString& file)
{
    std::string out = "time_s,name,value\n";
    for (const auto& [name, c] : curves_) {
        std::string quoted = "\"";
        for (const char ch : name)
            quoted += ch == '"' ? std::string("\"\"") : std::string(1, ch);
        quoted += '"';
        for (const QCPGraphData& p : *plot_->graph(c.graph)->data())
            out += fmt::format("{:.9f},{},{}\n", p.key, quoted, p.value);
    }
    return bench::saveText(file.toStdString(), out).has_value();
}

bool NumberPlot::savePicture(const QString& file)
{
    draw();
    return plot_->savePng(file, 1200, 600);
}

}  // namespace bramix::app
