#include "app/canvas/bench_view.h"

#include <cmath>
#include <utility>

#include <QDragEnterEvent>
#include <QFileInfo>
#include <QInputDialog>
#include <QLineEdit>
#include <QMimeData>
#include <QClipboard>
#include <QGuiApplication>
#include <QMouseEvent>

#include "app/shell/theme.h"

namespace bramix::app {

using bench::GridPoint;
using bench::PinRef;

namespace {

constexpr double kSmallest = 0.2;
constexpr double kLargest = 6.0;
constexpr double kPinReach = 8;      // widget pixels around a pin that count as the pin
constexpr double kWireReach = 8;
constexpr double kDragStart = 4;

double distanceToSegment(QPointF p, QPointF a, QPointF b)
{
    const QPointF d = b - a;
    const double length = QPointF::dotProduct(d, d);
    const double t = length == 0 ? 0 : std::clamp(QPointF::dotProduct(p - a, d) / length, 0.0, 1.0);
    const QPointF q = p - (a + d * t);
    return std::hypot(q.x(), q.y());
}

}  // namespace

BenchView::BenchView(Editor& editor, PartArt& art, QWidget* parent) : QWidget(parent), editor_(editor), art_(art)
{
    setObjectName("bench");
    setAccessibleName(tr("Bench"));
    setMouseTracking(true);
    setFocusPolicy(Qt::StrongFocus);
    setAcceptDrops(true);
    setAttribute(Qt::WA_OpaquePaintEvent);
    setMinimumSize(320, 200);
    connect(&theme::changes(), &theme::Changes::changed, this, [this] {
        staticDirty_ = contentDirty_ = true;
        update();
    });
    settling_.setSingleShot(true);
    settling_.setInterval(120);
    connect(&settling_, &QTimer::timeout, this, qOverload<>(&QWidget::update));
    connect(&editor_, &Editor::documentChanged, this, [this] {
        autoFit_ = false;
        rebuild();
    });
    connect(&laying_, &QTimer::timeout, this, &BenchView::layOn);
    connect(&editor_, &Editor::selectionChanged, this, [this] { update(); });
    connect(&editor_, &Editor::pictureChanged, this, [this] { update(); });
    rebuild();
}

// The next few wires.
void BenchView::layOn()
{
    constexpr std::chrono::milliseconds kPiece{30};
    constexpr qint64 kTellEveryMs = 500;
    const bench::Document& d = editor_.document();
    wires_ = layWires(d.wires, wirePaths_.update(d, editor_.catalogue(), kPiece));
    const std::size_t left = wirePaths_.waiting();
    if (left == 0)
        laying_.stop();
    if (left == 0 || layingTold_.elapsed() > kTellEveryMs) {
        layingTold_.start();
        staticDirty_ = contentDirty_ = true;
        update();
        emit editor_.message(left == 0 ? tr("All wires have found their ways") : tr("Wires look for their ways: %1 of %2; Esc leaves the others straight").arg(d.wires.size() - left).arg(d.wires.size()), false);
    }
}

void BenchView::rebuild()
{
    const bench::Document& d = editor_.document();
    constexpr std::chrono::milliseconds kAtOnce{800};
    wires_ = layWires(d.wires, wirePaths_.update(d, editor_.catalogue(), kAtOnce));
    laying_.stop();
    if (wirePaths_.waiting() > 0) {
        laying_.start(0);
        layingTold_.start();
    }
    spots_.clear();
    std::set<PinRef> wired;
    for (const bench::WireItem& w : d.wires) {
        wired.insert(w.from);
        wired.insert(w.to);
    }
    for (const bench::NetItem& net : d.nets)
        wired.insert(net.pins.begin(), net.pins.end());
    for (const bench::PartItem& part : d.parts) {
        const bench::PartKind* kind = editor_.catalogue().find(part.kind);
        if (kind == nullptr)
            continue;
        const bench::GridRect body = bodyRect(part, *kind);
        const QPointF center((body.left + body.right) / 2.0 * kStep, (body.top + body.bottom) / 2.0 * kStep);
        for (const bench::PinKind& pin : kind->pins) {
            PinSpot spot;
            spot.ref = {part.id, pin.name};
            spot.at = toUnits(bench::pinPlace(part, *kind, pin));
            spot.onBoard = kind->resetButton.has_value();
            spot.hole = kind->plugs;
            spot.about = pin.about;
            for (const std::string& alias : pin.aliases)
                spot.aliases += (spot.aliases.empty() ? "" : ", ") + alias;
            for (const PinRef& ref : wired)
                spot.wired = spot.wired || (ref.part == part.id && kind->pin(ref.pin) == &pin);
            // Away from the body: boards carry their beads at the edge, parts their names beside the lead.
            QPointF away = spot.at - center;
            const bool sideways = std::abs(away.x()) * std::max(1, body.bottom - body.top) > std::abs(away.y()) * std::max(1, body.right - body.left);
            away = sideways ? QPointF(away.x() < 0 ? -1 : 1, 0) : QPointF(0, away.y() < 0 ? -1 : 1);
            spot.bead = spot.onBoard ? spot.at + away * kStep : spot.at;
            spot.label = spot.at + (sideways ? QPointF(away.x() * -2, -9) : QPointF(9, away.y() * -7));
            spots_.push_back(std::move(spot));
        }
    }
    if (!fitted_ && !d.parts.empty() && width() > 100) {
        fitAll();
    }
    staticDirty_ = true;
    contentDirty_ = true;
    update();
}

void BenchView::fitAll()
{
    QRectF all;
    for (const bench::PartItem& part : editor_.document().parts)
        if (const bench::PartKind* kind = editor_.catalogue().find(part.kind))
            all |= art_.sheetBox(*kind, part);
    for (const QPolygonF& line : wires_.lines)
        all |= line.boundingRect().adjusted(-2, -2, 2, 2);
    if (all.isEmpty()) {
        zoom_ = 1;
        offset_ = {20, 10};
    } else {
        all.adjust(-52, -30, 40, 40);
        zoom_ = std::clamp(std::min(width() / all.width(), height() / all.height()), kSmallest, 1.6);
        // Whole or quarter scales keep lines sharp.
        if (zoom_ > 0.95 && zoom_ < 1.25)
            zoom_ = 1.0;
        zoom_ = std::min(zoom_, std::min(width() / all.width(), height() / all.height()));
        offset_ = QPointF(width() / 2.0, height() / 2.0) - all.center() * zoom_;
        offset_ = {std::round(offset_.x()), std::round(offset_.y())};
    }
    fitted_ = true;
    autoFit_ = !editor_.document().parts.empty();
    staticDirty_ = true;
    update();
}

void BenchView::zoomBy(double factor, QPointF about)
{
    autoFit_ = false;
    const QPointF fixed = toSheet(about);
    zoom_ = std::clamp(zoom_ * factor, kSmallest, kLargest);
    offset_ = about - fixed * zoom_;
    staticDirty_ = true;
    settling_.start();
    update();
}

void BenchView::holdStill()
{
    autoFit_ = false;
    place_ = mapTo(window(), QPoint());
}

void BenchView::keepMiddle()
{
    middleStays_ = !autoFit_;
}

void BenchView::resizeEvent(QResizeEvent* event)
{
    const QPoint place = mapTo(window(), QPoint());
    if (autoFit_ || (!fitted_ && !editor_.document().parts.empty()))
        fitAll();
    else if (std::exchange(middleStays_, false) && event->oldSize().isValid())
        offset_ += QPointF(width() - event->oldSize().width(), height() - event->oldSize().height()) / 2;
    else if (fitted_)
        offset_ -= place - place_;
    place_ = place;
    staticDirty_ = true;
}

void BenchView::moveEvent(QMoveEvent*)
{
    // Moved within its parents together with a new size, which comes first; alone only where nothing beside it has changed.
    place_ = mapTo(window(), QPoint());
}

std::optional<QPointF> BenchView::pinInWidget(const PinRef& pin) const
{
    const auto at = bench::pinPlace(editor_.document(), editor_.catalogue(), pin);
    return at ? std::optional(toWidget(toUnits(*at))) : std::nullopt;
}

GridPoint BenchView::gridAt(QPointF widget) const
{
    const QPointF u = toSheet(widget) / kStep;
    return {static_cast<int>(std::lround(u.x())), static_cast<int>(std::lround(u.y()))};
}

const BenchView::PinSpot* BenchView::pinAt(QPointF widget) const
{
    const PinSpot* best = nullptr;
    double nearest = kPinReach;
    // What is worked with the mouse, on a part that covers holes, is worked.
    const bool worked = isWorkedAt(widget);
    for (const PinSpot& spot : spots_) {
        if (spot.hole && worked)
            continue;
        const QPointF d = toWidget(spot.at) - widget;
        const double distance = std::hypot(d.x(), d.y());
        // A lead before the hole that it stands in.
        if (distance < nearest || (best != nullptr && best->hole && !spot.hole && distance <= nearest)) {
            nearest = distance;
            best = &spot;
        }
    }
    if (best != nullptr || worked)
        return best;
    // A board's pin is also the bead beside it and its name on the silk.
    constexpr double kName = 2.2;  // steps from the pad to the end of the name
    nearest = std::min(kPinReach, 0.45 * kStep * zoom_);
    for (const PinSpot& spot : spots_) {
        if (!spot.onBoard || spot.bead == spot.at)
            continue;
        const QPointF out = (spot.bead - spot.at) / kStep;  // of length one
        const QPointF from = toWidget(spot.bead + out * (0.4 * kStep)), to = toWidget(spot.at - out * (kName * kStep));
        if (const double distance = distanceToSegment(widget, from, to); distance < nearest) {
            nearest = distance;
            best = &spot;
        }
    }
    return best;
}

// A button, a slider or a knob lies there.
bool BenchView::isWorkedAt(QPointF widget) const
{
    for (const bench::PartItem& part : editor_.document().parts)
        if (const bench::PartKind* kind = editor_.catalogue().find(part.kind);
            kind != nullptr && !kind->plugs && (!art_.controlAt(*kind, part, toSheet(widget)).empty() || !art_.dialAt(*kind, part, toSheet(widget)).empty()))
            return true;
    return false;
}

const bench::PartItem* BenchView::partAt(QPointF widget)
{
    // What is plugged into a breadboard lies on it, whichever came first.
    const auto& parts = editor_.document().parts;
    for (const bool boards : {false, true})
        for (auto part = parts.rbegin(); part != parts.rend(); ++part)
            if (const bench::PartKind* kind = editor_.catalogue().find(part->kind); kind != nullptr && kind->plugs == boards && art_.sheetBox(*kind, *part).contains(toSheet(widget)))
                return &*part;
    return nullptr;
}

std::optional<std::size_t> BenchView::wireAt(QPointF widget) const
{
    // Strands of a ribbon lie closer than the reach: the nearest wins.
    std::optional<std::size_t> best;
    double nearest = kWireReach;
    for (std::size_t i = wires_.lines.size(); i-- > 0;)
        for (qsizetype k = 1; k < wires_.lines[i].size(); ++k)
            if (const double distance = distanceToSegment(widget, toWidget(wires_.lines[i][k - 1]), toWidget(wires_.lines[i][k])); distance < nearest) {
                nearest = distance;
                best = i;
            }
    return best;
}

// What is pressed is held until the button is let go; a switch goes to its other position.
void BenchView::beginHold(const bench::PartItem& part, const bench::PartKind& kind, const std::string& control)
{
    const bench::ControlKind* known = kind.control(control);
    if (kind.chip == nullptr && known != nullptr && known->type == "toggle") {
        const auto now = editor_.picture().controls.find(part.id + "." + control);
        editor_.setControl(part.id, control, now != editor_.picture().controls.end() && now->second != 0 ? 0 : 1);
        return;
    }
    heldPart_ = part.id;
    heldControl_ = control;
    heldRelease_ = kind.chip != nullptr ? 1 : 0;
    doing_ = Doing::holding;
    editor_.setControl(heldPart_, heldControl_, 1 - heldRelease_);
}

// The wheel over a knob turns it: by a hundredth of its way, or by one where it has detents.
bool BenchView::turnDial(QPointF widget, double steps)
{
    const bench::PartItem* part = partAt(widget);
    const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
    const std::string name = kind == nullptr ? std::string() : art_.dialAt(*kind, *part, toSheet(widget));
    if (name.empty())
        return false;
    editor_.turnDial(*part, *kind->control(name), steps);
    return true;
}

// By keys: what can be turned on the part under the pointer, else on the only part that is chosen.
void BenchView::turnDialByKey(double steps)
{
    if (turnDial(pointer_, steps))
        return;
    const auto turn = [&](const bench::PartItem* part) {
        const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
        if (kind == nullptr)
            return false;
        for (const bench::ControlKind& control : kind->controls)
            if (control.type == "dial" || control.type == "choice") {
                editor_.turnDial(*part, control, steps);
                return true;
            }
        return false;
    };
    if (underMouse() && turn(partAt(pointer_)))
        return;
    if (editor_.selection().parts.size() != 1 || !turn(editor_.document().part(*editor_.selection().parts.begin())))
        emit editor_.message(tr("Nothing to turn: point at a knob, or select a part that has one"), false);
}

// The pointer goes round the shaft: as far as it goes, the knob goes; a knob has three quarters of a turn.
void BenchView::turnShaft(QPointF widget)
{
    const QPointF before = pointer_ - shaft_, now = widget - shaft_;
    constexpr double kTooNear = 3;  // pixels: no direction there
    if (std::hypot(before.x(), before.y()) < kTooNear || std::hypot(now.x(), now.y()) < kTooNear)
        return;
    double degrees = (std::atan2(now.y(), now.x()) - std::atan2(before.y(), before.x())) * 180 / M_PI;
    degrees = degrees > 180 ? degrees - 360 : degrees < -180 ? degrees + 360 : degrees;
    const bench::PartItem* part = editor_.document().part(turnedPart_);
    const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
    constexpr double kDegreesAStep = 2.7;
    if (kind != nullptr)
        editor_.turnDial(*part, *kind->control(turnedControl_), degrees / kDegreesAStep);
}

void BenchView::endHold()
{
    editor_.setControl(heldPart_, heldControl_, heldRelease_);
    doing_ = Doing::nothing;
}

void BenchView::mousePressEvent(QMouseEvent* event)
{
    setFocus();
    pressAt_ = pointer_ = event->position();
    moved_ = {};
    movedAny_ = false;
    if (event->button() == Qt::MiddleButton || event->button() == Qt::RightButton) {
        if (doing_ == Doing::wiring) {
            cancelDoing();
            return;
        }
        doing_ = Doing::panning;
        autoFit_ = false;
        offsetAtPress_ = offset_;
        setCursor(Qt::ClosedHandCursor);
        return;
    }
    if (event->button() != Qt::LeftButton)
        return;
    if (doing_ == Doing::wiring) {
        if (const PinSpot* pin = pinAt(pointer_))
            finishWire(pin->ref);
        else
            wireVia_.push_back(gridAt(pointer_));
        update();
        return;
    }
    if (probeAt(pointer_)) {
        editor_.nextProbeSpan();
        return;
    }
    thinOut_ = false;
    if (const PinSpot* pin = pinAt(pointer_)) {
        const PinRef ref = pin->ref;
        const auto wire = endOfSelectedWire(ref);
        beginWire(ref);
        if (wire) {
            // The end that was pressed follows the pointer; the other one stays.
            const bench::WireItem& item = editor_.document().wires[*wire];
            wireFrom_ = item.from == ref ? item.to : item.from;
            movedEnd_ = wire;
        }
        return;
    }
    const bool adding = (event->modifiers() & (Qt::ShiftModifier | Qt::ControlModifier)) != 0;
    bench::Selection selection = editor_.selection();
    if (const bench::PartItem* part = partAt(pointer_)) {
        const bench::PartKind* kind = editor_.catalogue().find(part->kind);
        if (const std::string control = adding ? std::string() : art_.controlAt(*kind, *part, toSheet(pointer_)); !control.empty()) {
            const std::string id = part->id;
            editor_.select({{id}, {}});
            beginHold(*part, *kind, control);
            return;
        }
        if (const std::string dial = adding ? std::string() : art_.dialAt(*kind, *part, toSheet(pointer_)); !dial.empty()) {
            turnedPart_ = part->id;
            turnedControl_ = dial;
            shaft_ = toWidget(art_.shaftAt(*kind, *part));
            editor_.select({{turnedPart_}, {}});
            doing_ = Doing::turning;
            return;
        }
        if (adding) {
            if (selection.parts.erase(part->id) == 0)
                selection.parts.insert(part->id);
        } else if (!selection.parts.contains(part->id)) {
            selection = {{part->id}, {}};
        } else {
            thinOut_ = selection.parts.size() + selection.wires.size() > 1;
        }
        editor_.select(selection);
        doing_ = Doing::moving;
        return;
    }
    if (const auto wire = wireAt(pointer_)) {
        if (!adding)
            selection = {};
        if (selection.wires.erase(*wire) == 0)
            selection.wires.insert(*wire);
        editor_.select(selection);
        return;
    }
    bandBase_ = adding ? selection : bench::Selection{};
    editor_.select(bandBase_);
    doing_ = Doing::banding;
}

void BenchView::mouseMoveEvent(QMouseEvent* event)
{
    if (doing_ == Doing::turning)
        turnShaft(event->position());
    pointer_ = event->position();
    const QPointF d = pointer_ - pressAt_;
    const bool far = std::hypot(d.x(), d.y()) > kDragStart;
    switch (doing_) {
    case Doing::panning:
        offset_ = offsetAtPress_ + d;
        staticDirty_ = true;
        break;
    case Doing::moving:
        if (far || movedAny_) {
            const QPointF steps = d / (zoom_ * kStep);
            const GridPoint wanted{static_cast<int>(std::lround(steps.x())), static_cast<int>(std::lround(steps.y()))};
            if (!(wanted == moved_)) {
                moveSelection({wanted.x - moved_.x, wanted.y - moved_.y});
                moved_ = wanted;
                movedAny_ = true;
            }
        }
        break;
    case Doing::wiring:
        wireByDrag_ = wireByDrag_ || (far && (event->buttons() & Qt::LeftButton) != 0);
        break;
    case Doing::banding: applyBand(); break;
    case Doing::turning:
    case Doing::holding:
    case Doing::nothing: break;
    }
    const PinSpot* pin = pinAt(pointer_);
    hoverPin_ = pin == nullptr ? std::nullopt : std::optional(pin->ref);
    hoverWire_ = pin == nullptr && doing_ == Doing::nothing && partAt(pointer_) == nullptr ? wireAt(pointer_) : std::nullopt;
    editor_.hoverProbe(hoverPin_ ? hoverPin_ : hoverWire_ && *hoverWire_ < editor_.document().wires.size() ? std::optional(editor_.document().wires[*hoverWire_].from) : std::nullopt);
    if (doing_ == Doing::nothing) {
        const bench::PartItem* part = partAt(pointer_);
        const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
        const bool control = kind != nullptr && (!art_.controlAt(*kind, *part, toSheet(pointer_)).empty() || !art_.dialAt(*kind, *part, toSheet(pointer_)).empty());
        setCursor(pin != nullptr ? Qt::CrossCursor : control ? Qt::PointingHandCursor : part != nullptr ? Qt::SizeAllCursor : hoverWire_ ? Qt::PointingHandCursor : Qt::ArrowCursor);
    }
    update();
}

void BenchView::mouseReleaseEvent(QMouseEvent* event)
{
    pointer_ = event->position();
    switch (doing_) {
    case Doing::wiring:
        // A drag ends on a pin; a click goes on with bends.
        if (wireByDrag_ && event->button() == Qt::LeftButton) {
            if (const PinSpot* pin = pinAt(pointer_); pin != nullptr && !(pin->ref == *wireFrom_))
                finishWire(pin->ref);
            else
                cancelDoing();
        }
        break;
    case Doing::holding: endHold(); break;
    case Doing::moving:
        if (thinOut_ && !movedAny_)
            if (const bench::PartItem* part = partAt(pointer_))
                editor_.select({{part->id}, {}});
        doing_ = Doing::nothing;
        setCursor(Qt::ArrowCursor);
        break;
    case Doing::panning:
        doing_ = Doing::nothing;
        setCursor(Qt::ArrowCursor);
        if (event->button() == Qt::RightButton && std::hypot(pointer_.x() - pressAt_.x(), pointer_.y() - pressAt_.y()) <= kDragStart)
            emit menuWanted(targetAt(pointer_), event->globalPosition().toPoint());
        break;
    case Doing::turning:
    case Doing::banding:
        doing_ = Doing::nothing;
        setCursor(Qt::ArrowCursor);
        break;
    case Doing::nothing: break;
    }
    update();
}

// On a net flag it asks for its name, on a strand it takes the whole ribbon; elsewhere it is one more click.
void BenchView::mouseDoubleClickEvent(QMouseEvent* event)
{
    if (const auto flag = flagAt(event->position()); flag && doing_ == Doing::nothing && event->button() == Qt::LeftButton && pinAt(event->position()) == nullptr && partAt(event->position()) == nullptr) {
        hoverPin_ = flag;
        return askNetFlag();
    }
    const auto wire = doing_ == Doing::nothing && event->button() == Qt::LeftButton ? wireAt(event->position()) : std::nullopt;
    if (!wire || !wires_.isStrand(*wire) || pinAt(event->position()) != nullptr)
        return mousePressEvent(event);
    for (const Ribbon& ribbon : wires_.ribbons)
        if (std::find(ribbon.wires.begin(), ribbon.wires.end(), *wire) != ribbon.wires.end())
            editor_.select({{}, {ribbon.wires.begin(), ribbon.wires.end()}});
}

void BenchView::toggleRibbon()
{
    const std::set<std::size_t> wires = editor_.selection().wires;
    bench::Document trial = editor_.document();
    if (!bench::toggleRibbon(trial, wires)) {
        emit editor_.message(tr("A ribbon is made of two wires or more between the same two parts: select them first"), true);
        return;
    }
    editor_.change(tr("ribbon"), [&](bench::Document& d) { bench::toggleRibbon(d, wires); });
}

void BenchView::wheelEvent(QWheelEvent* event)
{
    const QPointF turn = event->angleDelta();
    if (event->modifiers() == Qt::NoModifier && turnDial(event->position(), turn.y() / 120.0)) {
        event->accept();
        return;
    }
    if ((event->modifiers() & Qt::ShiftModifier) != 0) {
        offset_ += QPointF(turn.y() + turn.x(), 0) * 0.5;
        staticDirty_ = true;
        update();
    } else {
        zoomBy(std::pow(1.0015, turn.y()), event->position());
    }
    event->accept();
}

void BenchView::keyPressEvent(QKeyEvent* event)
{
    if (event->key() == Qt::Key_Escape && doing_ != Doing::nothing) {
        cancelDoing();
        return;
    }
    if (event->key() == Qt::Key_Escape && laying_.isActive()) {
        laying_.stop();
        staticDirty_ = contentDirty_ = true;
        update();
        emit editor_.message(tr("%1 wires run straight; they look for their ways at the next edit").arg(wirePaths_.waiting()), false);
        return;
    }
    if (event->key() == Qt::Key_Escape) {
        editor_.select({});
        return;
    }
    if (event->key() == Qt::Key_Menu) {
        // Of what is selected, or of the paper.
        Target target;
        QPointF at(width() / 2.0, height() / 2.0);
        if (const auto& parts = editor_.selection().parts; !parts.empty())
            if (const bench::PartItem* part = editor_.document().part(*parts.begin()); part != nullptr && editor_.catalogue().find(part->kind) != nullptr) {
                target.part = part->id;
                at = toWidget(art_.sheetBox(*editor_.catalogue().find(part->kind), *part).center());
            }
        if (target.part.empty() && !editor_.selection().wires.empty())
            target.wire = *editor_.selection().wires.begin();
        emit menuWanted(target, mapToGlobal(at.toPoint()));
        return;
    }
    static const std::map<int, GridPoint> arrows{{Qt::Key_Left, {-1, 0}}, {Qt::Key_Right, {1, 0}}, {Qt::Key_Up, {0, -1}}, {Qt::Key_Down, {0, 1}}};
    if (const auto arrow = arrows.find(event->key()); arrow != arrows.end() && !editor_.selection().parts.empty()) {
        moveSelection(arrow->second);
        return;
    }
    QWidget::keyPressEvent(event);
}

void BenchView::leaveEvent(QEvent*)
{
    hoverPin_.reset();
    hoverWire_.reset();
    editor_.hoverProbe(std::nullopt);
    update();
}

void BenchView::cancelDoing()
{
    if (doing_ == Doing::holding)
        endHold();
    doing_ = Doing::nothing;
    wireFrom_.reset();
    movedEnd_.reset();
    wireVia_.clear();
    update();
}

BenchView::Target BenchView::targetAt(QPointF widget)
{
    Target target;
    if (const PinSpot* pin = pinAt(widget)) {
        target.pin = pin->ref;
        target.part = pin->ref.part;
    } else if (const bench::PartItem* part = partAt(widget)) {
        target.part = part->id;
    } else if (const auto flag = flagAt(widget)) {
        target.pin = flag;
        target.part = flag->part;
    } else {
        target.wire = wireAt(widget);
    }
    return target;
}

std::optional<PinRef> BenchView::flagAt(QPointF widget) const
{
    const QPointF at = toSheet(widget);
    for (const Flag& flag : flags_)
        if (flag.box.adjusted(-2, -2, 2, 2).contains(at))
            return flag.pin;
    return std::nullopt;
}

void BenchView::beginWire(const PinRef& pin)
{
    setFocus();
    doing_ = Doing::wiring;
    wireFrom_ = pin;
    movedEnd_.reset();
    wireVia_.clear();
    wireByDrag_ = false;
    update();
}

// Where exactly one wire is selected and ends there.
std::optional<std::size_t> BenchView::endOfSelectedWire(const PinRef& pin) const
{
    const bench::Selection& selection = editor_.selection();
    if (selection.wires.size() != 1 || !selection.parts.empty() || *selection.wires.begin() >= editor_.document().wires.size())
        return std::nullopt;
    const bench::WireItem& wire = editor_.document().wires[*selection.wires.begin()];
    return wire.from == pin || wire.to == pin ? std::optional(*selection.wires.begin()) : std::nullopt;
}

void BenchView::wireBetween(const PinRef& from, const PinRef& to)
{
    editor_.change(tr("wire"), [&](bench::Document& d) { bench::addWire(d, editor_.catalogue(), from, to, {}); });
}

void BenchView::finishWire(const PinRef& to)
{
    const PinRef from = *wireFrom_;
    const std::vector<GridPoint> via = wireVia_;
    const auto moved = movedEnd_;
    cancelDoing();
    if (moved && *moved < editor_.document().wires.size()) {
        editor_.change(tr("wire to another pin"), [&](bench::Document& d) {
            bench::WireItem& wire = d.wires[*moved];
            bench::WireItem next;
            next.from = from;
            next.to = to;
            next.color = wire.color;
            next.via = via;
            wire = next;
        });
        return;
    }
    editor_.change(tr("wire"), [&](bench::Document& d) { bench::addWire(d, editor_.catalogue(), from, to, via); });
}

void BenchView::moveSelection(GridPoint by)
{
    const std::set<std::string> parts = editor_.selection().parts;
    editor_.change(tr("move"), [&](bench::Document& d) { bench::moveParts(d, editor_.catalogue(), parts, by); }, "move");
}

void BenchView::applyBand()
{
    const QRectF band = QRectF(toSheet(pressAt_), toSheet(pointer_)).normalized();
    bench::Selection selection = bandBase_;
    for (const bench::PartItem& part : editor_.document().parts)
        if (const bench::PartKind* kind = editor_.catalogue().find(part.kind); kind != nullptr && band.contains(art_.sheetBox(*kind, part)))
            selection.parts.insert(part.id);
    for (std::size_t i = 0; i < wires_.lines.size(); ++i)
        if (!wires_.lines[i].isEmpty() && std::all_of(wires_.lines[i].begin(), wires_.lines[i].end(), [&](QPointF p) { return band.contains(p); }))
            selection.wires.insert(i);
    editor_.select(selection);
}

void BenchView::addPartAtPointer(const bench::PartKind& kind, const std::map<std::string, std::string>& set)
{
    const bool inside = rect().contains(pointer_.toPoint()) && underMouse();
    const QPointF where = inside ? pointer_ : QPointF(width() / 2.0, height() / 2.0);
    GridPoint at = gridAt(where);
    // Wholly in view where it fits.
    const auto within = [](int wanted, double low, double high, int size) {
        const int first = static_cast<int>(std::ceil(low / kStep)) + 2;
        const int last = static_cast<int>(std::floor(high / kStep)) - 2 - size;
        return last < first ? wanted : std::clamp(wanted, first, last);
    };
    const QPointF corner = toSheet({0, 0});
    const QPointF far = toSheet(QPointF(width(), height()));
    at = {within(at.x - kind.size.x / 2, corner.x(), far.x(), kind.size.x), within(at.y - kind.size.y / 2, corner.y(), far.y(), kind.size.y)};
    // To the right until it stands free.
    const auto overlaps = [&](GridPoint p) {
        const bench::GridRect r{p.x - 1, p.y - 1, p.x + kind.size.x + 1, p.y + kind.size.y + 1};
        for (const bench::PartItem& part : editor_.document().parts)
            if (const bench::PartKind* other = editor_.catalogue().find(part.kind)) {
                const bench::GridRect o = bodyRect(part, *other);
                if (o.left <= r.right && o.right >= r.left && o.top <= r.bottom && o.bottom >= r.top)
                    return true;
            }
        return false;
    };
    for (int tries = 0; tries < 400 && overlaps(at); ++tries)
        at.x += 1;
    std::string id;
    editor_.change(tr("add %1").arg(QString::fromStdString(kind.title)), [&](bench::Document& d) {
        id = bench::addPart(d, kind, at);
        for (const auto& [name, value] : set)
            d.part(id)->set[name] = value;
    });
    editor_.select({{id}, {}});
    if (const bench::PartItem* part = editor_.document().part(id))
        bringIntoView(art_.sheetBox(kind, *part));
    setFocus();
}

// Moved into view, and made smaller where it does not fit.
void BenchView::bringIntoView(const QRectF& box)
{
    constexpr double kRoom = 24;  // pixels around it
    if (QRectF(toSheet({0, 0}), toSheet(QPointF(width(), height()))).contains(box))
        return;
    autoFit_ = false;
    zoom_ = std::clamp(std::min({zoom_, (width() - 2 * kRoom) / box.width(), (height() - 2 * kRoom) / box.height()}), kSmallest, kLargest);
    const QRectF at(toWidget(box.topLeft()), toWidget(box.bottomRight()));
    const auto push = [](double low, double high, double most) { return low < kRoom ? kRoom - low : high > most - kRoom ? most - kRoom - high : 0.0; };
    offset_ += QPointF(push(at.left(), at.right(), width()), push(at.top(), at.bottom(), height()));
    staticDirty_ = true;
    update();
}

void BenchView::turnSelection()
{
    const std::set<std::string> parts = editor_.selection().parts;
    if (parts.empty())
        return emit editor_.message(tr("Nothing is selected to turn"), false);
    editor_.change(tr("turn"), [&](bench::Document& d) { bench::turnParts(d, editor_.catalogue(), parts); });
}

void BenchView::duplicateSelection()
{
    bench::Selection copies;
    const bench::Selection what = editor_.selection();
    editor_.change(tr("duplicate"), [&](bench::Document& d) { copies = bench::duplicate(d, what, {2, 2}); });
    if (!copies.empty())
        editor_.select(copies);
}

void BenchView::copySelection()
{
    if (!editor_.selection().parts.empty())
        QGuiApplication::clipboard()->setText(QString::fromStdString(bench::copyText(editor_.document(), editor_.selection())));
}

void BenchView::pasteAtPointer()
{
    const std::string text = QGuiApplication::clipboard()->text().toStdString();
    const bool here = rect().contains(pointer_.toPoint());
    const GridPoint at = gridAt(here ? pointer_ : QPointF(width() / 2.0, height() / 2.0));
    kernel::Result<bench::Selection> pasted;
    editor_.change(tr("paste"), [&](bench::Document& d) {
        bench::Document copy = d;
        pasted = bench::paste(copy, editor_.catalogue(), text, at);
        if (pasted)
            d = std::move(copy);
    });
    if (pasted)
        editor_.select(*pasted);
    else
        emit editor_.message(tr("Nothing to paste: %1").arg(QString::fromStdString(pasted.error().text())), false);
}

void BenchView::alignSelection(bench::Edge edge)
{
    editor_.change(tr("align"), [&](bench::Document& d) { bench::align(d, editor_.catalogue(), editor_.selection().parts, edge); });
}

void BenchView::distributeSelection(bool across)
{
    editor_.change(tr("distribute"), [&](bench::Document& d) { bench::distribute(d, editor_.catalogue(), editor_.selection().parts, across); });
}

void BenchView::turnSelectionBack()
{
    const std::set<std::string> parts = editor_.selection().parts;
    editor_.change(tr("turn"), [&](bench::Document& d) {
        for (int i = 0; i < 3; ++i)
            bench::turnParts(d, editor_.catalogue(), parts);
    });
}

void BenchView::removeSelection()
{
    const bench::Selection what = editor_.selection();
    if (what.empty())
        return emit editor_.message(tr("Nothing is selected to remove"), false);
    editor_.change(tr("remove"), [&](bench::Document& d) { bench::remove(d, what); });
}

void BenchView::selectAll()
{
    bench::Selection all;
    for (const bench::PartItem& part : editor_.document().parts)
        all.parts.insert(part.id);
    for (std::size_t i = 0; i < editor_.document().wires.size(); ++i)
        all.wires.insert(i);
    editor_.select(all);
}

// A small line beside the pin; empty takes the flag away.
void BenchView::askNetFlag()
{
    if (!hoverPin_) {
        emit editor_.message(tr("Point at a pin to give it a net flag"), false);
        return;
    }
    const PinRef pin = *hoverPin_;
    auto* line = new QLineEdit(this);
    line->setObjectName("netFlag");
    line->setPlaceholderText(tr("net name, e.g. GND"));
    line->setText(QString::fromStdString(bench::netFlagOf(editor_.document(), pin)));
    line->selectAll();
    const QPointF at = *pinInWidget(pin);
    line->setGeometry(static_cast<int>(std::min(at.x() + 10, width() - 170.0)), static_cast<int>(std::min(at.y() + 8, height() - 36.0)), 160, 28);
    line->show();
    line->setFocus();
    connect(line, &QLineEdit::returnPressed, this, [this, line, pin] {
        const std::string name = line->text().trimmed().toStdString();
        editor_.change(tr("net flag"), [&](bench::Document& d) { bench::setNetFlag(d, editor_.catalogue(), pin, name); });
        setFocus();
    });
    connect(line, &QLineEdit::editingFinished, line, &QObject::deleteLater);
}

void BenchView::recolorSelection()
{
    const std::set<std::size_t> wires = editor_.selection().wires;
    if (wires.empty())
        return emit editor_.message(tr("Select a wire to give it another colour"), false);
    const auto& colors = bench::wireColors();
    const std::string now = editor_.document().wires[*wires.begin()].color;
    const auto at = static_cast<std::size_t>(std::find(colors.begin(), colors.end(), now) - colors.begin());
    editor_.change(tr("colour"), [&](bench::Document& d) {
        for (const std::size_t wire : wires)
            d.wires[wire].color = colors[(at + 1) % colors.size()];
    });
}

void BenchView::colourSelection(const std::string& colour)
{
    const std::set<std::size_t> wires = editor_.selection().wires;
    editor_.change(tr("colour"), [&](bench::Document& d) {
        for (const std::size_t wire : wires)
            d.wires[wire].color = colour;
    });
}

void BenchView::reveal(const std::string& id)
{
    const bench::PartItem* part = editor_.document().part(id);
    const bench::PartKind* kind = part == nullptr ? nullptr : editor_.catalogue().find(part->kind);
    if (kind == nullptr)
        return;
    editor_.select({{id}, {}});
    const QRectF box = art_.sheetBox(*kind, *part);
    const QRectF shown(toSheet({0, 0}), toSheet(QPointF(width(), height())));
    if (!shown.contains(box)) {
        offset_ = QPointF(width() / 2.0, height() / 2.0) - box.center() * zoom_;
        staticDirty_ = true;
    }
    update();
}

void BenchView::dragEnterEvent(QDragEnterEvent* event)
{
    if (event->mimeData()->hasUrls())
        event->acceptProposedAction();
}

void BenchView::dropEvent(QDropEvent* event)
{
    for (const QUrl& url : event->mimeData()->urls()) {
        const QString file = url.toLocalFile();
        if (file.endsWith(".toml")) {
            emit benchDropped(file);
            continue;
        }
        if (file.endsWith(".bramix-run") || file.endsWith(".ino")) {
            emit otherDropped(file);
            continue;
        }
        // Onto the board under the pointer; anywhere else, onto the only board.
        const bench::PartItem* target = partAt(event->position());
        if (target == nullptr || editor_.catalogue().find(target->kind)->chip == nullptr) {
            target = nullptr;
            for (const bench::PartItem& part : editor_.document().parts)
                if (editor_.catalogue().find(part.kind)->chip != nullptr)
                    target = &part;
        }
        if (target == nullptr)
            emit editor_.message(tr("There is no board to run %1; add one first").arg(QFileInfo(file).fileName()), true);
        else
            emit firmwareDropped(target->id, file);
    }
    event->acceptProposedAction();
}

}  // namespace bramix::app
