#include "app/scope/scope_view.h"

#include <algorithm>
#include <cmath>

#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/shell/scale.h"
#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

using kernel::Duration;
using kernel::Time;

namespace {

constexpr double kHead = 34;      // the row of buttons
constexpr double kNames = 214;    // names and what is measured
constexpr double kGauge = 46;     // each channel's scale
constexpr double kRuler = 20;
constexpr std::size_t kMostChannels = 4;
constexpr Duration kShortest = std::chrono::nanoseconds(200);
constexpr Duration kLongest = std::chrono::seconds(20);
const std::array<QColor, kMostChannels> kColors{QColor(0xF0, 0xB4, 0x5A), QColor(0x7F, 0xB8, 0xD8), QColor(0xA9, 0xCF, 0x8E), QColor(0xD9, 0x8F, 0xB6)};

QString quantity(double value, kernel::Unit unit, int digits = 4) { return QString::fromStdString(kernel::formatQuantity(value, unit, digits)); }

}  // namespace

ScopeView::ScopeView(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor), scales_(kMostChannels)
{
    setObjectName("scope");
    setMinimumHeight(110);
    setAttribute(Qt::WA_OpaquePaintEvent);
    auto* rows = new QVBoxLayout(this);
    rows->setContentsMargins(12, 5, 12, 0);
    auto* head = new QHBoxLayout;
    head->setSpacing(8);
    const auto button = [&](const QString& text, const char* name, const QString& tip) {
        auto* b = new QPushButton(text);
        b->setObjectName(name);
        b->setToolTip(tip);
        b->setFocusPolicy(Qt::NoFocus);
        b->setFont(theme::words(9));
        b->setStyleSheet("QPushButton { background: #3A3040; color: #EADFD2; border: none; border-radius: 4px; padding: 3px 10px; } QPushButton:hover { background: #4A3E52; }"
                         "QPushButton:checked { background: #8A2B57; }");
        head->addWidget(b);
        return b;
    };
    add_ = button(tr("Probe…"), "scopeProbe", tr("Puts a pin on the oscilloscope, or takes it off"));
    trigger_ = button({}, "scopeTrigger", tr("Where each window begins"));
    const auto field = [&](const char* name, const QString& tip) {
        auto* e = new QLineEdit;
        e->setObjectName(name);
        e->setAccessibleName(tip);
        e->setToolTip(tip);
        e->setFont(theme::figures(9));
        e->setFixedWidth(72);
        e->setFocusPolicy(Qt::ClickFocus);
        e->setStyleSheet("QLineEdit { background: #1B141F; color: #EADFD2; border: 1px solid #3A3040; border-radius: 4px; padding: 2px 6px; }");
        head->addWidget(e);
        return e;
    };
    level_ = field("scopeLevel", tr("The voltage that the trigger waits for"));
    auto* across = new QLabel(tr("across"));
    across->setStyleSheet("color: #9A8EA0; background: transparent;");
    head->addWidget(across);
    span_ = field("scopeSpan", tr("The time from the left edge to the right one"));
    typed(level_, kernel::Unit::volt, [this](double volts) { setTrigger(request_.trigger, volts, request_.rising); });
    typed(span_, kernel::Unit::second, [this](double s) { setSpan(Duration(static_cast<std::int64_t>(std::clamp(s, 0.0, 1000.0) * 1e12))); });
    single_ = button(tr("Catch one"), "scopeSingle", tr("Waits for the next trigger and stays there"));
    hold_ = button(tr("Hold"), "scopeHold", tr("Keeps what is shown while the bench runs on"));
    single_->setCheckable(true);
    hold_->setCheckable(true);
    head->addStretch(1);
    rows->addLayout(head);
    rows->addStretch(1);
    connect(add_, &QPushButton::clicked, this, &ScopeView::offerPins);
    connect(trigger_, &QPushButton::clicked, this, &ScopeView::offerTriggers);
    connect(hold_, &QPushButton::toggled, this, [this](bool on) { held_ = on; });
    connect(single_, &QPushButton::toggled, this, [this](bool on) {
        static std::uint64_t number = 0;
        request_.single = on ? ++number : 0;
        if (on && !request_.trigger && !request_.channels.empty())
            request_.trigger = 0;
        send();
    });
    connect(&editor_, &Editor::pictureChanged, this, [this] {
        if (!held_)
            shown_ = editor_.picture().scope;
        if (isVisible())
            update();
    });
    connect(&editor_, &Editor::sessionRestarted, this, [this] {
        markA_.reset();
        markB_.reset();
        send();
    });
    send();
}

void ScopeView::send()
{
    request_.columns = static_cast<std::size_t>(std::max(plot().width(), 50.0));
    QString text = tr("Trigger: none");
    if (request_.trigger && *request_.trigger < request_.channels.size())
        text = tr("Trigger: %1 %2 %3").arg(QString::fromStdString(request_.channels[*request_.trigger].text()), request_.rising ? tr("rises through") : tr("falls through"),
                                           quantity(request_.level, kernel::Unit::volt, 3));
    trigger_->setText(text);
    if (!level_->hasFocus())
        level_->setText(quantity(request_.level, kernel::Unit::volt));
    if (!span_->hasFocus())
        span_->setText(quantity(kernel::seconds(request_.span), kernel::Unit::second));
    level_->setVisible(request_.trigger.has_value());
    editor_.session().watchScope(request_);
    update();
}

void ScopeView::toggle(const bench::PinRef& pin)
{
    auto& list = request_.channels;
    const auto found = std::find(list.begin(), list.end(), pin);
    const bool wasEmpty = list.empty();
    if (found != list.end()) {
        scales_.erase(scales_.begin() + (found - list.begin()));
        scales_.push_back({});
        list.erase(found);
    } else {
        if (list.size() == kMostChannels) {
            list.erase(list.begin());
            scales_.erase(scales_.begin());
            scales_.push_back({});
        }
        list.push_back(pin);
    }
    if (request_.trigger && *request_.trigger >= list.size())
        request_.trigger.reset();
    if (wasEmpty && !list.empty())
        request_.trigger = 0;
    send();
}

// What is typed counts when it is a quantity; anything else turns the field rust and changes nothing.
void ScopeView::typed(QLineEdit* edit, kernel::Unit unit, const std::function<void(double)>& take)
{
    connect(edit, &QLineEdit::editingFinished, this, [this, edit, unit, take] {
        const auto value = kernel::parseQuantity(edit->text().trimmed().toStdString(), unit);
        edit->setStyleSheet(QString("QLineEdit { background: #1B141F; color: #EADFD2; border: 1px solid %1; border-radius: 4px; padding: 2px 6px; }").arg(value ? "#3A3040" : "#E88A6A"));
        edit->setToolTip(value ? QString() : QString::fromStdString(value.error().text()));
        if (value)
            take(*value);
    });
}

void ScopeView::setScale(std::size_t channel, double low, double high)
{
    if (channel < scales_.size() && high - low >= 1e-4)
        scales_[channel] = {low, high, false};
    update();
}

// A small card over the gauge with the two ends of its scale.
void ScopeView::typeScale(std::size_t channel, QPoint at)
{
    auto* card = new QFrame(this, Qt::Popup);
    card->setObjectName("scopeScale");
    card->setAttribute(Qt::WA_DeleteOnClose);
    auto* rows = new QVBoxLayout(card);
    rows->setContentsMargins(10, 8, 10, 8);
    QLineEdit* edits[2];
    const double ends[] = {scales_[channel].high, scales_[channel].low};
    for (int i = 0; i < 2; ++i) {
        auto* row = new QHBoxLayout;
        row->addWidget(new QLabel(i == 0 ? tr("top") : tr("bottom")));
        edits[i] = new QLineEdit(quantity(ends[i], kernel::Unit::volt));
        edits[i]->setObjectName(i == 0 ? "scopeTop" : "scopeBottom");
        edits[i]->setFixedWidth(80);
        row->addWidget(edits[i]);
        rows->addLayout(row);
    }
    typed(edits[0], kernel::Unit::volt, [this, channel](double v) { setScale(channel, scales_[channel].low, v); });
    typed(edits[1], kernel::Unit::volt, [this, channel](double v) { setScale(channel, v, scales_[channel].high); });
    card->move(mapToGlobal(at));
    card->show();
    edits[0]->setFocus();
    edits[0]->selectAll();
}

void ScopeView::setSpan(Duration span)
{
    request_.span = std::clamp(span, kShortest, kLongest);
    send();
}

void ScopeView::setTrigger(std::optional<std::size_t> channel, double level, bool rising)
{
    request_.trigger = channel;
    request_.level = level;
    request_.rising = rising;
    send();
}

void ScopeView::offerPins()
{
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    for (const bench::PartItem& part : editor_.document().parts) {
        const bench::PartKind* kind = editor_.catalogue().find(part.kind);
        if (kind == nullptr)
            continue;
        QMenu* sub = menu->addMenu(QString::fromStdString(part.label.empty() || part.label == part.id ? part.id : part.id + "  " + part.label));
        for (const bench::PinKind& pin : kind->pins) {
            const bench::PinRef ref{part.id, pin.name};
            QAction* action = sub->addAction(QString::fromStdString(pin.name), this, [this, ref] { toggle(ref); });
            action->setCheckable(true);
            action->setChecked(std::find(request_.channels.begin(), request_.channels.end(), ref) != request_.channels.end());
        }
    }
    menu->popup(add_->mapToGlobal(QPoint(0, -menu->sizeHint().height())));
}

void ScopeView::offerTriggers()
{
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    menu->addAction(tr("None: show the latest"), this, [this] { setTrigger(std::nullopt, request_.level, request_.rising); });
    for (std::size_t i = 0; i < request_.channels.size(); ++i) {
        // The level stays, unless this signal never comes there: then it is the middle of what it does.
        double level = request_.level;
        if (i < shown_.channels.size() && shown_.channels[i].measures)
            if (const auto& m = *shown_.channels[i].measures; level <= m.least || level >= m.most)
                level = (m.least + m.most) / 2;
        for (const bool rising : {true, false})
            menu->addAction(tr("%1 %2 %3").arg(QString::fromStdString(request_.channels[i].text()), rising ? tr("rises through") : tr("falls through"), quantity(level, kernel::Unit::volt, 3)), this,
                            [this, i, level, rising] { setTrigger(i, level, rising); });
    }
    menu->popup(trigger_->mapToGlobal(QPoint(0, -menu->sizeHint().height())));
}

QRectF ScopeView::plot() const
{
    const double left = kNames + kGauge * static_cast<double>(std::max<std::size_t>(request_.channels.size(), 1));
    return QRectF(left, kHead, std::max(width() - left - 16, 50.0), std::max(height() - kHead - kRuler, 20.0));
}

QRectF ScopeView::gauge(std::size_t index) const { return {kNames + kGauge * static_cast<double>(index), kHead, kGauge, plot().height()}; }

double ScopeView::yOf(std::size_t index, double volts) const
{
    const QRectF p = plot();
    const Scale& s = scales_[index];
    return p.bottom() - (volts - s.low) / (s.high - s.low) * p.height();
}

std::optional<std::size_t> ScopeView::gaugeAt(QPointF p) const
{
    for (std::size_t i = 0; i < request_.channels.size(); ++i)
        if (gauge(i).contains(p))
            return i;
    return std::nullopt;
}

Time ScopeView::timeAt(double x) const
{
    const QRectF p = plot();
    return shown_.from + Duration(static_cast<std::int64_t>((x - p.left()) / p.width() * static_cast<double>((shown_.to - shown_.from).count())));
}

void ScopeView::paintEvent(QPaintEvent*)
{
    QPainter painter(this);
    painter.fillRect(rect(), theme::kTapeGround);
    painter.setRenderHint(QPainter::Antialiasing);
    const QRectF p = plot();
    if (request_.channels.empty()) {
        painter.setPen(QColor(0x9A, 0x8E, 0xA0));
        painter.setFont(theme::words(9.6));
        painter.drawText(QRectF(0, kHead, width(), height() - kHead), Qt::AlignCenter, tr("No pin is probed. Choose one with \"Probe…\", or press O over a pin of the bench."));
        return;
    }
    painter.fillRect(p, QColor(0x1B, 0x14, 0x1F));
    // Time: lines at round moments from the trigger, or from the right edge.
    const double span = kernel::seconds(shown_.to - shown_.from);
    if (span > 0) {
        const double step = roundStep(span / 9);
        const double zero = shown_.triggered ? kernel::seconds(shown_.trigger - shown_.from) : span;
        painter.setFont(theme::figures(7.6));
        for (double n = std::ceil(-zero / step); n * step <= span - zero + step * 1e-9; ++n) {
            const double x = p.left() + (zero + n * step) / span * p.width();
            painter.setPen(QPen(n == 0 && shown_.triggered ? QColor(0xD0, 0x5C, 0x8C) : QColor(0x3A, 0x30, 0x40), 1));
            painter.drawLine(QPointF(x, p.top()), QPointF(x, p.bottom()));
            painter.setPen(QColor(0x9A, 0x8E, 0xA0));
            painter.drawText(QRectF(std::min(x, width() - 34.0) - 45, p.bottom() + 2, 90, kRuler - 4), Qt::AlignCenter, n == 0 ? (shown_.triggered ? tr("trigger") : tr("now")) : quantity(n * step, kernel::Unit::second, 3));
        }
    }
    for (std::size_t i = 0; i < shown_.channels.size() && i < request_.channels.size(); ++i)
        drawChannel(painter, i, shown_.channels[i]);
    if (shown_.waiting) {
        painter.setPen(QColor(0xEA, 0xDF, 0xD2));
        painter.setFont(theme::words(9.4));
        painter.drawText(p.adjusted(0, 6, -10, 0), Qt::AlignTop | Qt::AlignRight, tr("waiting for the trigger"));
    }
    drawMarks(painter);
}

void ScopeView::drawChannel(QPainter& painter, std::size_t index, const session::ScopeChannel& channel)
{
    const QRectF p = plot();
    const QColor color = kColors[index];
    Scale& s = scales_[index];
    if (s.fits && channel.measures && dragging_ != index) {
        const double least = std::min(channel.measures->least, 0.0), most = std::max(channel.measures->most, least + 0.1);
        const double wanted = roundStep((most - least) / 5);
        const double room = (most - least) * 0.1;
        const double low = least - room, high = most + room;
        // Only when it no longer fits, or has become far too small, so that it does not jump about.
        if (least < s.low || most > s.high || (most - least) < 0.4 * (s.high - s.low) || s.low < low - 2 * wanted || s.high > high + 3 * wanted) {
            s.low = low;
            s.high = high;
        }
    }
    const QRectF g = gauge(index);
    painter.setFont(theme::figures(7.4));
    const double step = roundStep((s.high - s.low) / std::max(2.0, p.height() / 34));
    for (double v = std::ceil(s.low / step) * step; v <= s.high + step * 1e-9; v += step) {
        const double y = yOf(index, v);
        const bool zero = std::fabs(v) < step / 2;
        if (index == 0) {
            painter.setPen(QPen(QColor(0x33, 0x2A, 0x38), 1));
            painter.drawLine(QPointF(p.left(), y), QPointF(p.right(), y));
        }
        painter.setPen(color);
        painter.drawLine(QPointF(g.right() - 5, y), QPointF(g.right() - 1, y));
        if (y > p.top() + 4 && y < p.bottom() - 3)
            painter.drawText(QRectF(g.left(), y - 8, kGauge - 8, 16), Qt::AlignRight | Qt::AlignVCenter, zero ? "0" : quantity(v, kernel::Unit::volt, 3));
    }
    painter.setPen(QPen(color, 1));
    painter.drawLine(QPointF(g.right() - 0.5, p.top()), QPointF(g.right() - 0.5, p.bottom()));

    // The name and what is measured.
    const double block = p.height() / static_cast<double>(std::max<std::size_t>(request_.channels.size(), 1));
    const double top = p.top() + block * static_cast<double>(index);
    painter.setPen(color);
    painter.setFont(theme::figures(9.4, QFont::DemiBold));
    painter.drawText(QRectF(14, top, kNames - 20, 18), Qt::AlignLeft | Qt::AlignVCenter, QString::fromStdString(channel.name));
    if (const auto& m = channel.measures) {
        QStringList lines;
        lines << tr("mean %1   rms %2").arg(quantity(m->mean, kernel::Unit::volt), quantity(m->rms, kernel::Unit::volt));
        lines << tr("%1 … %2   swing %3").arg(quantity(m->least, kernel::Unit::volt, 3), quantity(m->most, kernel::Unit::volt, 3), quantity(m->most - m->least, kernel::Unit::volt, 3));
        if (m->period)
            lines << tr("%1   %2   duty %3 %").arg(quantity(1 / *m->period, kernel::Unit::hertz), quantity(*m->period, kernel::Unit::second)).arg(m->duty.value_or(0) * 100, 0, 'f', 1);
        if (m->rise && *m->rise > 0)
            lines << tr("rises in %1").arg(quantity(*m->rise, kernel::Unit::second, 3));
        painter.setPen(QColor(0xC6, 0xBB, 0xC0));
        painter.setFont(theme::figures(7.6));
        for (int i = 0; i < lines.size() && 18 + (i + 1) * 14 <= block; ++i)
            painter.drawText(QRectF(14, top + 18 + i * 14, kNames - 16, 14), Qt::AlignLeft | Qt::AlignVCenter, lines[i]);
    }

    painter.save();
    painter.setClipRect(p);
    QPainterPath path;
    bool open = false;
    for (std::size_t c = 0; c < channel.columns.size(); ++c) {
        const tape::WaveColumn& w = channel.columns[c];
        if (!w.known) {
            open = false;
            continue;
        }
        const double x = p.left() + (static_cast<double>(c) + 0.5) * p.width() / static_cast<double>(channel.columns.size());
        if (open)
            path.lineTo(x, yOf(index, w.first));
        else
            path.moveTo(x, yOf(index, w.first));
        open = true;
        if (w.least < std::min(w.first, w.last) || w.most > std::max(w.first, w.last)) {
            path.lineTo(x, yOf(index, w.least));
            path.lineTo(x, yOf(index, w.most));
        }
        path.lineTo(x, yOf(index, w.last));
    }
    painter.setPen(QPen(color, 1.5, Qt::SolidLine, Qt::FlatCap, Qt::BevelJoin));
    painter.setBrush(Qt::NoBrush);
    painter.drawPath(path);
    if (request_.trigger == index) {
        painter.setPen(QPen(QColor(0xD0, 0x5C, 0x8C), 1, Qt::DashLine));
        const double y = yOf(index, request_.level);
        painter.drawLine(QPointF(p.left(), y), QPointF(p.left() + 28, y));
    }
    painter.restore();
}

void ScopeView::drawMarks(QPainter& painter)
{
    const QRectF p = plot();
    const double span = kernel::seconds(shown_.to - shown_.from);
    if (!(span > 0))
        return;
    const auto xOf = [&](Time t) { return p.left() + kernel::seconds(t - shown_.from) / span * p.width(); };
    painter.setPen(QPen(QColor(0xF4, 0xEC, 0xE0), 1, Qt::DotLine));
    for (const auto& mark : {markA_, markB_})
        if (mark && *mark >= shown_.from && *mark <= shown_.to)
            painter.drawLine(QPointF(xOf(*mark), p.top()), QPointF(xOf(*mark), p.bottom()));
    if (!markA_)
        return;
    const auto voltsAt = [&](std::size_t channel, Time t) -> std::optional<double> {
        const auto& columns = shown_.channels[channel].columns;
        const double c = kernel::seconds(t - shown_.from) / span * static_cast<double>(columns.size());
        if (c < 0 || c >= static_cast<double>(columns.size()) || !columns[static_cast<std::size_t>(c)].known)
            return std::nullopt;
        return columns[static_cast<std::size_t>(c)].first;
    };
    QStringList parts;
    if (markB_) {
        const double dt = std::fabs(kernel::seconds(*markB_ - *markA_));
        parts << tr("%1 between the marks, %2").arg(quantity(dt, kernel::Unit::second), dt > 0 ? quantity(1 / dt, kernel::Unit::hertz) : QString());
    } else {
        parts << tr("Shift and a click set the second mark");
    }
    for (std::size_t i = 0; i < shown_.channels.size(); ++i) {
        const auto a = voltsAt(i, *markA_);
        const auto b = markB_ ? voltsAt(i, *markB_) : std::nullopt;
        if (a)
            parts << (b ? tr("%1 → %2").arg(quantity(*a, kernel::Unit::volt), quantity(*b, kernel::Unit::volt)) : quantity(*a, kernel::Unit::volt));
    }
    painter.setPen(QColor(0xF4, 0xEC, 0xE0));
    painter.setFont(theme::figures(8.4));
    painter.drawText(QRectF(p.left(), 4, p.width(), kHead - 8), Qt::AlignRight | Qt::AlignVCenter, parts.join("    "));
}

void ScopeView::resizeEvent(QResizeEvent*) { send(); }

void ScopeView::wheelEvent(QWheelEvent* event)
{
    const double factor = std::pow(2.0, -event->angleDelta().y() / 240.0);
    if (const auto channel = gaugeAt(event->position())) {
        Scale& s = scales_[*channel];
        const double middle = (s.low + s.high) / 2, half = std::clamp((s.high - s.low) / 2 * factor, 1e-4, 1e4);
        s = {middle - half, middle + half, false};
        update();
        return;
    }
    setSpan(Duration(static_cast<std::int64_t>(static_cast<double>(request_.span.count()) * factor)));
}

void ScopeView::mousePressEvent(QMouseEvent* event)
{
    dragging_ = gaugeAt(event->position());
    if (dragging_ && event->button() == Qt::RightButton) {
        typeScale(*std::exchange(dragging_, std::nullopt), event->position().toPoint());
        return;
    }
    if (dragging_) {
        dragFrom_ = event->position();
        dragScale_ = scales_[*dragging_];
        return;
    }
    if (!plot().contains(event->position()))
        return;
    (event->modifiers().testFlag(Qt::ShiftModifier) ? markB_ : markA_) = timeAt(event->position().x());
    update();
}

void ScopeView::mouseMoveEvent(QMouseEvent* event)
{
    if (!dragging_)
        return;
    const double shift = (event->position().y() - dragFrom_.y()) / plot().height() * (dragScale_.high - dragScale_.low);
    scales_[*dragging_] = {dragScale_.low + shift, dragScale_.high + shift, false};
    update();
}

void ScopeView::mouseReleaseEvent(QMouseEvent*) { dragging_.reset(); }

void ScopeView::mouseDoubleClickEvent(QMouseEvent* event)
{
    if (const auto channel = gaugeAt(event->position())) {
        scales_[*channel] = {};
        update();
    }
}

}  // namespace bramix::app
