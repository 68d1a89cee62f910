#include "app/inspector/dial.h"

#include <cmath>

#include <QCheckBox>
#include <QDir>
#include <QFileDialog>
#include <QFileInfo>
#include <QGridLayout>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/shell/theme.h"
#include "kernel/units.h"

namespace bramix::app {

namespace {

constexpr int kSteps = 1000;
constexpr int kSheetHeight = 96;
constexpr double kMargin = 7;
constexpr double kReach = 9;         // from a point that is meant
constexpr double kLeastSpan = 1e-3;  // seconds across

// Plain numbers have no milli and kilo.
QString quantity(double value, kernel::Unit unit)
{
    return unit == kernel::Unit::none ? QString::number(value, 'g', std::abs(value) < 1e6 && std::abs(value) >= 1000 ? 6 : 4) : QString::fromStdString(kernel::formatQuantity(value, unit, 4));
}

}  // namespace

CurveSheet::CurveSheet(const bench::ControlKind& control, bench::FollowItem item) : control_(control), item_(std::move(item))
{
    setObjectName("curve");
    setFixedHeight(kSheetHeight);
    setMouseTracking(true);
    setToolTip(tr("A click puts a point, a drag moves it, the right button takes it away"));
    if (!item_.curve.empty() && item_.curve.back().first > 0)
        span_ = item_.curve.back().first;
}

void CurveSheet::setSpan(double seconds)
{
    seconds = std::max(seconds, kLeastSpan);
    // The curve is stretched with its sheet.
    for (auto& [t, v] : item_.curve)
        t *= seconds / span_;
    span_ = seconds;
    update();
}

void CurveSheet::setPresent(double seconds)
{
    if (item_.repeat && !item_.curve.empty() && item_.curve.back().first > 0)
        seconds = std::fmod(seconds, item_.curve.back().first);
    if (seconds > span_)
        seconds = -1;
    if (std::abs(seconds - present_) * width() < span_)
        return;
    present_ = seconds;
    update();
}

double CurveSheet::share(double value) const
{
    if (control_.logarithmic)
        return (std::log10(std::max(value, control_.least)) - std::log10(control_.least)) / (std::log10(control_.most) - std::log10(control_.least));
    return (value - control_.least) / (control_.most - control_.least);
}

QPointF CurveSheet::place(std::pair<double, double> point) const
{
    return {kMargin + (width() - 2 * kMargin) * point.first / span_, height() - kMargin - (height() - 2 * kMargin) * std::clamp(share(point.second), 0.0, 1.0)};
}

std::pair<double, double> CurveSheet::pointAt(QPointF at) const
{
    const double t = std::clamp((at.x() - kMargin) / (width() - 2 * kMargin), 0.0, 1.0) * span_;
    const double up = std::clamp((height() - kMargin - at.y()) / (height() - 2 * kMargin), 0.0, 1.0);
    const double v = control_.logarithmic ? control_.least * std::pow(control_.most / control_.least, up) : control_.least + (control_.most - control_.least) * up;
    // Four figures are as many as a hand can mean.
    const auto rounded = [](double x, double scale) {
        const double grain = std::pow(10, std::floor(std::log10(std::max(std::abs(scale), 1e-12))) - 3);
        return std::round(x / grain) * grain;
    };
    return {rounded(t, span_), std::clamp(rounded(v, control_.logarithmic ? v : control_.most - control_.least), control_.least, control_.most)};
}

int CurveSheet::nearest(QPointF at) const
{
    int found = -1;
    double best = kReach;
    for (std::size_t i = 0; i < item_.curve.size(); ++i)
        if (const QPointF d = place(item_.curve[i]) - at; std::hypot(d.x(), d.y()) < best) {
            best = std::hypot(d.x(), d.y());
            found = static_cast<int>(i);
        }
    return found;
}

void CurveSheet::paintEvent(QPaintEvent*)
{
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setPen(QPen(theme::rule(), 1));
    painter.setBrush(theme::card());
    painter.drawRoundedRect(QRectF(rect()).adjusted(0.5, 0.5, -0.5, -0.5), 5, 5);
    painter.setPen(QPen(theme::rule(), 1, Qt::DotLine));
    for (int i = 1; i < 4; ++i)
        painter.drawLine(QPointF(width() * i / 4.0, 2), QPointF(width() * i / 4.0, height() - 2));
    if (present_ >= 0) {
        const double x = place({present_, control_.least}).x();
        painter.setPen(QPen(QColor(0xD0, 0x5C, 0x8C), 1.4));
        painter.drawLine(QPointF(x, 2), QPointF(x, height() - 2));
    }
    if (item_.curve.empty()) {
        painter.setPen(theme::muted());
        painter.setFont(theme::words(8.4));
        painter.drawText(rect(), Qt::AlignCenter, item_.csv.empty() ? tr("click to draw a curve") : tr("as in %1").arg(QFileInfo(QString::fromStdString(item_.csv)).fileName()));
        return;
    }
    QPainterPath line;
    line.moveTo(QPointF(kMargin, place(item_.curve.front()).y()));
    for (const auto& point : item_.curve)
        line.lineTo(place(point));
    line.lineTo(QPointF(width() - kMargin, place(item_.curve.back()).y()));
    painter.setBrush(Qt::NoBrush);
    painter.setPen(QPen(theme::bramble(), 1.6));
    painter.drawPath(line);
    painter.setBrush(theme::card());
    for (const auto& point : item_.curve)
        painter.drawEllipse(place(point), 3.4, 3.4);
    if (held_ >= 0) {
        const auto& point = item_.curve[static_cast<std::size_t>(held_)];
        painter.setPen(theme::ink());
        painter.setFont(theme::figures(7.8));
        const QPointF at = place(point);
        const bool left = at.x() > width() / 2.0;
        painter.drawText(QRectF(left ? at.x() - 128 : at.x() + 8, std::clamp(at.y() - 16, 1.0, height() - 15.0), 120, 14), left ? Qt::AlignRight : Qt::AlignLeft,
                         quantity(point.second, kernel::unitNamed(control_.unit)) + tr(" at ") + quantity(point.first, kernel::Unit::second));
    }
}

void CurveSheet::mousePressEvent(QMouseEvent* event)
{
    const int at = nearest(event->position());
    if (event->button() == Qt::RightButton) {
        if (at >= 0) {
            item_.curve.erase(item_.curve.begin() + at);
            update();
            later();
        }
        return;
    }
    held_ = at;
    if (held_ < 0) {
        const auto point = pointAt(event->position());
        const auto after = std::upper_bound(item_.curve.begin(), item_.curve.end(), point, [](const auto& a, const auto& b) { return a.first < b.first; });
        if (after != item_.curve.begin() && std::prev(after)->first == point.first)
            held_ = static_cast<int>(std::prev(after) - item_.curve.begin());
        else {
            held_ = static_cast<int>(after - item_.curve.begin());
            item_.curve.insert(after, point);
        }
        item_.curve[static_cast<std::size_t>(held_)] = point;
        item_.csv.clear();
    }
    update();
}

void CurveSheet::mouseMoveEvent(QMouseEvent* event)
{
    setCursor(held_ >= 0 || nearest(event->position()) >= 0 ? Qt::SizeAllCursor : Qt::CrossCursor);
    if (held_ < 0)
        return;
    auto point = pointAt(event->position());
    const auto i = static_cast<std::size_t>(held_);
    // It stays between its neighbours.
    const double grain = span_ * 1e-3;
    if (i > 0)
        point.first = std::max(point.first, item_.curve[i - 1].first + grain);
    if (i + 1 < item_.curve.size())
        point.first = std::min(point.first, item_.curve[i + 1].first - grain);
    item_.curve[i] = point;
    update();
}

void CurveSheet::mouseReleaseEvent(QMouseEvent*)
{
    if (held_ < 0)
        return;
    held_ = -1;
    update();
    later();
}

// Whoever hears of it builds the inspector anew, this sheet included.
void CurveSheet::later() { QMetaObject::invokeMethod(this, &CurveSheet::changed, Qt::QueuedConnection); }

Dial::Dial(Editor& editor, const std::string& part, const bench::ControlKind& control, bool unfolded)
    : editor_(editor), part_(part), control_(control), unit_(kernel::unitNamed(control.unit))
{
    const QString name = QString::fromStdString(control.name);
    auto* layout = new QGridLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setVerticalSpacing(2);
    auto* label = new QLabel(QString::fromStdString(control.label));
    number_ = new QLineEdit;
    number_->setObjectName("number-" + name);
    number_->setAlignment(Qt::AlignRight);
    number_->setFixedWidth(96);
    number_->setToolTip(tr("Type a value from %1 to %2").arg(quantity(control.least, unit_), quantity(control.most, unit_)));
    fold_ = new QToolButton;
    fold_->setObjectName("follow-" + name);
    fold_->setText("~");
    fold_->setCheckable(true);
    fold_->setFixedSize(26, 26);
    fold_->setFocusPolicy(Qt::NoFocus);
    fold_->setToolTip(tr("Let it follow a curve, a file, noise, drift"));
    slider_ = new QSlider(Qt::Horizontal);
    slider_->setObjectName("control-" + name);
    slider_->setRange(0, kSteps);
    slider_->setPageStep(kSteps / 20);
    slider_->setFocusPolicy(Qt::NoFocus);
    slider_->setFixedHeight(24);
    theme::dress(slider_, "QSlider::groove:horizontal { height: 4px; background: @rule; border-radius: 2px; }"
                           "QSlider::sub-page:horizontal { background: @accent; border-radius: 2px; }"
                           "QSlider::handle:horizontal { width: 16px; margin: -7px 0; border-radius: 8px; background: @card; border: 1px solid @muted; }");
    layout->addWidget(label, 0, 0);
    layout->addWidget(number_, 0, 1);
    layout->addWidget(fold_, 0, 2);
    layout->addWidget(slider_, 1, 0, 1, 3);
    layout->setColumnStretch(0, 1);
    connect(slider_, &QSlider::valueChanged, this, [this](int step) { editor_.setControl(part_, control_.name, toDial(step)); });
    connect(number_, &QLineEdit::editingFinished, this, [this] {
        if (!number_->isModified())
            return;
        number_->setModified(false);
        const auto value = kernel::parseQuantity(number_->text().toStdString(), unit_);
        if (!value || *value < control_.least || *value > control_.most)
            emit editor_.message(value ? tr("%1 stands from %2 to %3").arg(QString::fromStdString(control_.label), quantity(control_.least, unit_), quantity(control_.most, unit_))
                                       : QString::fromStdString(value.error().what), true);
        else
            editor_.setControl(part_, control_.name, *value);
        number_->clearFocus();
    });
    connect(fold_, &QToolButton::toggled, this, [this](bool on) {
        unfold(on);
        emit unfoldedChanged(on);
    });
    const bench::PartItem* item = editor_.document().part(part_);
    if (unfolded || (item != nullptr && item->follow.contains(control_.name))) {
        const QSignalBlocker silent(fold_);
        fold_->setChecked(true);
        unfold(true);
    }
}

// These are keys of the bench elsewhere; in the number they are the number's.
bool Dial::event(QEvent* event)
{
    if (event->type() == QEvent::ShortcutOverride)
        if (const int key = static_cast<QKeyEvent*>(event)->key(); key == Qt::Key_PageUp || key == Qt::Key_PageDown) {
            event->accept();
            return true;
        }
    return QWidget::event(event);
}

// Up and down in the number turn it.
void Dial::keyPressEvent(QKeyEvent* event)
{
    static const std::map<int, double> kTurns{{Qt::Key_Up, 1}, {Qt::Key_Down, -1}, {Qt::Key_PageUp, 10}, {Qt::Key_PageDown, -10}};
    const bench::PartItem* part = editor_.document().part(part_);
    const auto turn = kTurns.find(event->key());
    if (turn == kTurns.end() || part == nullptr)
        return QWidget::keyPressEvent(event);
    number_->setModified(false);
    number_->setText(quantity(editor_.turnDial(*part, control_, turn->second), unit_));
    number_->selectAll();
}

double Dial::toDial(int step) const
{
    const double share = static_cast<double>(step) / kSteps;
    // A dial over decades turns by its logarithm.
    return control_.logarithmic ? control_.least * std::pow(control_.most / control_.least, share) : control_.least + (control_.most - control_.least) * share;
}

int Dial::toStep(double value) const
{
    const double share = control_.logarithmic ? std::log(value / control_.least) / std::log(control_.most / control_.least) : (value - control_.least) / (control_.most - control_.least);
    return static_cast<int>(std::lround(share * kSteps));
}

void Dial::refresh()
{
    const session::Picture& picture = editor_.picture();
    const auto now = picture.controls.find(part_ + "." + control_.name);
    if (now == picture.controls.end())
        return;
    if (!number_->hasFocus())
        number_->setText(quantity(now->second, unit_));
    const QSignalBlocker silent(slider_);
    if (!slider_->isSliderDown())
        slider_->setValue(toStep(now->second));
    if (sheet_ != nullptr)
        sheet_->setPresent(kernel::seconds(picture.now));
}

bench::FollowItem Dial::followed() const
{
    const bench::PartItem* item = editor_.document().part(part_);
    const auto found = item == nullptr ? decltype(item->follow.begin()){} : item->follow.find(control_.name);
    return item != nullptr && found != item->follow.end() ? found->second : bench::FollowItem{};
}

void Dial::apply(const std::function<void(bench::FollowItem&)>& edit)
{
    bench::FollowItem item = followed();
    edit(item);
    editor_.change(tr("what %1 follows").arg(QString::fromStdString(control_.label)), [&](bench::Document& d) {
        if (bench::PartItem* p = d.part(part_)) {
            if (item.empty())
                p->follow.erase(control_.name);
            else
                p->follow[control_.name] = item;
        }
    });
}

QLineEdit* Dial::field(const QString& text, const QString& tip)
{
    auto* line = new QLineEdit(text);
    line->setAlignment(Qt::AlignRight);
    line->setToolTip(tip);
    line->setFixedWidth(66);
    return line;
}

void Dial::unfold(bool on)
{
    if (on && follow_ == nullptr)
        buildFollow();
    if (follow_ != nullptr)
        follow_->setVisible(on);
}

void Dial::buildFollow()
{
    const bench::FollowItem item = followed();
    follow_ = new QWidget;
    auto* grid = new QGridLayout(follow_);
    grid->setContentsMargins(0, 2, 0, 8);
    grid->setVerticalSpacing(4);
    grid->setHorizontalSpacing(6);
    sheet_ = new CurveSheet(control_, item);
    grid->addWidget(sheet_, 0, 0, 1, 4);
    connect(sheet_, &CurveSheet::changed, this, [this] {
        apply([this](bench::FollowItem& f) {
            f.curve = sheet_->item().curve;
            f.csv = sheet_->item().csv;
        });
    });
    // A figure of what is followed: typed, checked, taken.
    const auto figure = [this, grid](int row, int column, const QString& label, const QString& name, double value, kernel::Unit unit, const QString& tip, auto set) {
        auto* line = field(quantity(value, unit), tip);
        line->setObjectName(name);
        grid->addWidget(new QLabel(label), row, column);
        grid->addWidget(line, row, column + 1);
        connect(line, &QLineEdit::editingFinished, this, [this, line, unit, set] {
            if (!line->isModified())
                return;
            line->setModified(false);
            const auto value = kernel::parseQuantity(line->text().toStdString(), unit);
            if (!value || *value < 0) {
                emit editor_.message(value ? tr("expected no less than 0") : QString::fromStdString(value.error().what), true);
                return;
            }
            set(*value);
            line->setText(quantity(*value, unit));
            line->clearFocus();
        });
    };
    figure(1, 0, tr("across"), "follow-span", sheet_->span(), kernel::Unit::second, tr("How long the curve takes; it is stretched with it"), [this](double v) {
        sheet_->setSpan(v);
        apply([this](bench::FollowItem& f) { f.curve = sheet_->item().curve; });
    });
    auto* repeat = new QCheckBox(tr("again and again"));
    repeat->setChecked(item.repeat);
    grid->addWidget(repeat, 1, 2, 1, 2);
    connect(repeat, &QCheckBox::toggled, this, [this](bool on) { apply([on](bench::FollowItem& f) { f.repeat = on; }); });
    figure(2, 0, tr("noise"), "follow-noise", item.noise, unit_, tr("Its spread (rms), anew at each step"), [this](double v) { apply([v](bench::FollowItem& f) { f.noise = v; }); });
    figure(2, 2, tr("drift"), "follow-drift", item.drift, unit_, tr("How far it has wandered after a minute (rms)"), [this](double v) { apply([v](bench::FollowItem& f) { f.drift = v; }); });
    figure(3, 0, tr("each"), "follow-every", item.every, kernel::Unit::second, tr("The time between two steps"), [this](double v) {
        if (v > 0)
            apply([v](bench::FollowItem& f) { f.every = std::clamp(v, 1e-5, 3600.0); });
    });
    auto* file = new QPushButton(tr("From a file…"));
    file->setToolTip(tr("Lines of seconds and a value, parted by a comma"));
    grid->addWidget(file, 4, 0, 1, 2);
    connect(file, &QPushButton::clicked, this, [this] {
        const QString chosen = QFileDialog::getOpenFileName(this, tr("A curve from a file"), editor_.folder(), tr("Numbers (*.csv *.txt *.tsv);;All files (*)"));
        if (chosen.isEmpty())
            return;
        QFile read(chosen);
        if (!read.open(QIODevice::ReadOnly)) {
            emit editor_.message(chosen + ": " + read.errorString(), true);
            return;
        }
        if (const auto curve = bench::parseCurve(chosen.toStdString(), read.readAll().toStdString()); !curve) {
            emit editor_.message(QString::fromStdString(curve.error().text()), true);
            return;
        }
        const QString beside = QDir(editor_.folder()).relativeFilePath(chosen);
        apply([&](bench::FollowItem& f) {
            f.curve.clear();
            f.csv = (editor_.folder().isEmpty() || beside.startsWith("..") ? chosen : beside).toStdString();
        });
    });
    auto* still = new QPushButton(tr("Still"));
    still->setObjectName("follow-still");
    still->setToolTip(tr("Follow nothing"));
    grid->addWidget(still, 4, 2, 1, 2);
    connect(still, &QPushButton::clicked, this, [this] { apply([](bench::FollowItem& f) { f = {}; }); });
    static_cast<QGridLayout*>(layout())->addWidget(follow_, 2, 0, 1, 3);
}

}  // namespace bramix::app
