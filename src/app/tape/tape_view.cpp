#include "app/tape/tape_view.h"

#include <cmath>

#include <QDragEnterEvent>
#include <QMimeData>
#include <QMouseEvent>
#include <fmt/format.h>

#include "app/shell/theme.h"
#include "app/tape/tape_layout.h"

namespace bramix::app {

using namespace tape_layout;
using kernel::Duration;
using kernel::Time;

TapeView::TapeView(Editor& editor, QWidget* parent) : QWidget(parent), editor_(editor)
{
    setObjectName("tape");
    setAccessibleName(tr("Tape"));
    setMouseTracking(true);
    setMinimumHeight(110);
    setAttribute(Qt::WA_OpaquePaintEvent);
    setFocusPolicy(Qt::StrongFocus);
    setAcceptDrops(true);
    const auto field = [this](const char* name, const QString& hint) {
        auto* edit = new QLineEdit(this);
        edit->setObjectName(name);
        edit->setFont(theme::figures(8.2));
        edit->setPlaceholderText(hint);
        edit->setAccessibleName(hint);
        edit->setStyleSheet("QLineEdit { background: #2E2433; color: #EFE7DC; border: 1px solid #4A3E52; border-radius: 4px; padding: 0 6px; } QLineEdit:focus { border: 1px solid #C06A93; }");
        edit->installEventFilter(this);
        return edit;
    };
    search_ = field("tapeSearch", tr("find on the tape"));
    search_->setToolTip(tr("rise, fall, < 5us, high > 2ms (of the chosen lane); 48 65 6C or words on serial lines and buses; an interrupt's name; finding …\nEnter: the next, Shift+Enter: the one before"));
    naming_ = field("bookmarkName", tr("name of the bookmark, and Enter"));
    naming_->hide();
    connect(&editor_, &Editor::pictureChanged, this, [this] { update(); });
    connect(&editor_, &Editor::lanesChanged, this, &TapeView::request);
    connect(&editor_, &Editor::sessionRestarted, this, [this] {
        ++searches_;
        looking_.reset();
        markA_.reset();
        markB_.reset();
        follow_ = true;
        request();
    });
    connect(&editor_, &Editor::documentChanged, this, &TapeView::adoptCapture);
    connect(&editor_, &Editor::recordingOpened, this, [this](Time latest) { showSpan(Time{}, latest); });
    request();
}

void TapeView::showSpan(Time from, Time to)
{
    follow_ = false;
    span_ = std::clamp(to - from + Duration(1), kShortest, kLongest);
    to_ = to;
    request();
}

// Lanes grow lower, down to what can be read, so that all are seen. In the order that the bench has, if any; what it does not know comes behind.
std::vector<TapeView::Row> TapeView::rows() const
{
    const session::Picture& picture = editor_.picture();
    std::vector<Row> all;
    for (std::size_t i = 0; i < editor_.lanes().size(); ++i)
        all.push_back({Row::Kind::pin, i, editor_.lanes()[i].text(), 0, 1});
    for (std::size_t i = 0; i < picture.reads.size(); ++i) {
        const session::ReadLane& lane = picture.reads[i];
        all.push_back({Row::Kind::read, i, lane.text, 0, lane.text.starts_with("volts ") || !lane.wave.empty() ? kWaveShare : lane.speaks ? kMeaningShare : lane.rows > 1 ? 0.4 + kFunctionShare * static_cast<double>(std::min(lane.rows, kMostDepth)) : 1});
    }
    const std::vector<std::string>& order = editor_.laneOrder();
    std::vector<Row> out;
    bool folded = false;
    const auto take = [&](const auto& which) {
        for (Row& row : all)
            if (!row.text.empty() && which(row.text)) {
                if (!folded)
                    out.push_back(row);
                row.text.clear();
            }
    };
    for (std::size_t i = 0; i < order.size(); ++i) {
        const std::string& lane = order[i];
        if (lane == session::kUsualLanes) {
            take([&](const std::string& t) { return !bench::parsePinRef(t) && std::find(order.begin(), order.end(), t) == order.end(); });
        } else if (const auto spec = session::parseLane(lane); spec && spec->kind == session::LaneSpec::Kind::group) {
            folded = spec->folded;
            out.push_back({Row::Kind::group, i, lane, 0, kGroupShare});
        } else {
            take([&](const std::string& t) { return t == lane; });
        }
    }
    folded = false;
    take([](const std::string&) { return true; });
    for (std::size_t i = 0; i < picture.serialLanes.size(); ++i)
        out.push_back({Row::Kind::serial, i, "serial " + picture.serialLanes[i].name, 0, 1});
    double shares = 0.2;  // a little air below
    for (const Row& r : out)
        shares += r.height;
    const double lane = std::clamp(std::floor((height() - kRuler) / shares), kLowestLane, kTallestLane);
    double top = kRuler;
    for (Row& r : out) {
        r.top = top;
        r.height *= lane;
        top += r.height;
    }
    return out;
}

std::optional<TapeView::Row> TapeView::rowAt(double y) const
{
    for (const Row& r : rows())
        if (y >= r.top && y < r.top + r.height)
            return r;
    return std::nullopt;
}

double TapeView::plotWidth() const { return std::max(50.0, width() - kLabels - kPresentMargin); }

void TapeView::request()
{
    session::TapeRequest r;
    r.lanes = editor_.lanes();
    r.reads = editor_.reads();
    r.follow = follow_;
    r.to = to_;
    r.from = to_ - span_;
    r.columns = static_cast<std::size_t>(plotWidth());
    if (markA_ && markB_) {
        if (const auto pin = bench::parsePinRef(chosen_))
            r.measure = *pin;
        else if (const auto spec = session::parseLane(chosen_); spec && spec->kind == session::LaneSpec::Kind::functions)
            r.measureFunctions = spec->chip;
        r.measureFrom = std::min(*markA_, *markB_);
        r.measureTo = std::max(*markA_, *markB_);
    }
    editor_.session().watchTape(r);
    update();
}

void TapeView::choose(const std::string& lane)
{
    chosen_ = lane;
    request();
}

void TapeView::setMarks(std::optional<Time> a, std::optional<Time> b)
{
    markA_ = a;
    markB_ = b;
    request();
}

void TapeView::goTo(kernel::Time at)
{
    follow_ = false;
    to_ = at + span_ / 2;
    markA_ = at;
    markB_.reset();
    request();
}

void TapeView::rest()
{
    to_ = editor_.picture().tapeTo;
    follow_ = false;
    request();
}

void TapeView::follow(Duration span)
{
    span_ = std::clamp(span, kShortest, kLongest);
    follow_ = true;
    request();
}

std::optional<Duration> TapeView::betweenMarks() const { return markA_ && markB_ ? std::optional(*markB_ - *markA_) : std::nullopt; }

double TapeView::xOf(Time t) const
{
    const session::Picture& p = editor_.picture();
    return kLabels + plotWidth() * static_cast<double>((t - p.tapeFrom).count()) / static_cast<double>((p.tapeTo - p.tapeFrom).count());
}

Time TapeView::timeAt(double x) const
{
    const session::Picture& p = editor_.picture();
    return p.tapeFrom + Duration(static_cast<std::int64_t>((x - kLabels) / plotWidth() * static_cast<double>((p.tapeTo - p.tapeFrom).count())));
}

void TapeView::resizeEvent(QResizeEvent*)
{
    request();
}

void TapeView::wheelEvent(QWheelEvent* event)
{
    const double factor = std::pow(1.0018, -event->angleDelta().y());
    const auto next = Duration(static_cast<std::int64_t>(static_cast<double>(span_.count()) * factor));
    const Duration span = std::clamp(next, kShortest, kLongest);
    if (!follow_) {
        const double share = std::clamp((event->position().x() - kLabels) / plotWidth(), 0.0, 1.0);
        const Time fixed = timeAt(event->position().x());
        to_ = fixed + Duration(static_cast<std::int64_t>(static_cast<double>(span.count()) * (1 - share)));
    }
    span_ = span;
    story_.reset();  // it belongs to what was in view
    request();
    event->accept();
}

// On the head or the line of the present.
bool TapeView::overPresent(QPointF at) const
{
    constexpr double kGrab = 7;
    return at.x() >= kLabels - kGrab && std::abs(at.x() - xOf(editor_.picture().now)) <= (at.y() < kRuler ? kGrab : kGrab / 2);
}

// Near an edge of the lane under the pointer, its very instant.
Time TapeView::snapped(double x, double y) const
{
    const session::Picture& p = editor_.picture();
    const auto row = rowAt(y);
    Time best = timeAt(x);
    double nearest = kSnap;
    const auto consider = [&](Time at) {
        if (const double d = std::abs(xOf(at) - x); d < nearest) {
            nearest = d;
            best = at;
        }
    };
    if (row && row->kind == Row::Kind::pin && row->index < p.lanes.size())
        for (const auto& edge : p.lanes[row->index].edges)
            consider(edge.at);
    if (row && row->kind == Row::Kind::read && row->index < p.reads.size())
        for (const Time at : p.reads[row->index].edges)
            consider(at);
    if (row && row->kind == Row::Kind::read && row->index < p.reads.size())
        for (const tape::Decoded& item : p.reads[row->index].items) {
            consider(item.from);
            consider(item.to);
        }
    return best;
}

const bench::BookmarkItem* TapeView::bookmarkAt(double x) const
{
    for (const bench::BookmarkItem& b : editor_.document().bookmarks)
        if (const auto at = kernel::parseQuantity(b.at, kernel::Unit::second))
            if (const double left = xOf(Time(Duration(static_cast<std::int64_t>(std::llround(*at * 1e12))))); x >= left - 3 && x <= left + QFontMetricsF(theme::words(7.8, QFont::DemiBold)).horizontalAdvance(text(b.name)) + 10)
                return &b;
    return nullptr;
}

void TapeView::mousePressEvent(QMouseEvent* event)
{
    pressAt_ = event->position();
    if (event->button() == Qt::RightButton) {
        const QPoint at = event->globalPosition().toPoint();
        if (pressAt_.x() < kLabels && pressAt_.y() >= kRuler)
            openLaneMenu(rowAt(pressAt_.y()).value_or(Row{Row::Kind::serial, 0, {}, 0, 0}), at);
        else
            openPlotMenu(at);
        return;
    }
    pressed_ = true;
    dragged_ = false;
    toAtPress_ = editor_.picture().tapeTo;
    if (overPresent(pressAt_)) {
        // The window stands still while the present is dragged through it.
        grabbed_ = true;
        rest();
        return;
    }
    if (pressAt_.x() < kLabels) {
        pressed_ = false;
        if (pressAt_.y() < kRuler)
            follow(span_);
        else if (const auto row = rowAt(pressAt_.y()); row && row->kind == Row::Kind::group)
            foldGroup(row->text);
        else if (row)
            choose(chosen_ == row->text ? std::string() : row->text);
    }
}

void TapeView::mouseMoveEvent(QMouseEvent* event)
{
    pointer_ = event->position();
    setCursor(grabbed_ || overPresent(pointer_) ? Qt::SizeHorCursor : Qt::ArrowCursor);
    if (grabbed_) {
        dragged_ = true;
        editor_.session().drag(timeAt(std::max(pointer_.x(), kLabels)));
        update();
        return;
    }
    if (pressed_ && std::abs(pointer_.x() - pressAt_.x()) > 4) {
        dragged_ = true;
        follow_ = false;
        to_ = toAtPress_ - Duration(static_cast<std::int64_t>((pointer_.x() - pressAt_.x()) / plotWidth() * static_cast<double>(span_.count())));
        to_ = std::min(to_, editor_.picture().latest);
        request();
    }
    update();
}

void TapeView::mouseReleaseEvent(QMouseEvent* event)
{
    const bool click = pressed_ && !dragged_ && !grabbed_;
    pressed_ = false;
    grabbed_ = false;
    if (!click || event->position().x() < kLabels || event->button() == Qt::RightButton)
        return;
    if (event->position().y() < kRuler)
        if (const bench::BookmarkItem* b = bookmarkAt(event->position().x()))
            if (const auto at = kernel::parseQuantity(b->at, kernel::Unit::second))
                return goTo(Time(Duration(static_cast<std::int64_t>(std::llround(*at * 1e12)))));
    if (story_ && storyCard_.contains(event->position()) && !story_->story.place.empty()) {
        emit codeWanted(text(story_->story.chip), text(story_->story.place));
        return;
    }
    // The lane that was meant is the one that is measured.
    if (const auto row = rowAt(event->position().y()); row && (row->kind == Row::Kind::pin || row->text.starts_with("functions ")))
        chosen_ = row->text;
    if ((event->modifiers() & Qt::ShiftModifier) != 0 && markA_) {
        markB_ = snapped(event->position().x(), event->position().y());
    } else {
        markA_ = snapped(event->position().x(), event->position().y());
        markB_.reset();
        story_.reset();
        const session::Picture& p = editor_.picture();
        if (const auto row = rowAt(event->position().y()); row && row->kind == Row::Kind::pin && row->index < p.lanes.size() &&
                                                           std::any_of(p.lanes[row->index].edges.begin(), p.lanes[row->index].edges.end(), [&](const auto& e) { return e.at == *markA_; }))
            askWhy(row->text, *markA_);
    }
    request();
}

void TapeView::askWhy(const std::string& pin, Time at)
{
    const auto ref = bench::parsePinRef(pin);
    if (!ref)
        return;
    editor_.session().whyEdge(*ref, at, [this, pin, at](const session::EdgeStory& story) {
        QMetaObject::invokeMethod(this, [this, pin, at, story] {
            story_ = Story{pin, at, story};
            update();
        });
    });
}

void TapeView::explain(const bench::PinRef& pin, Time at)
{
    chosen_ = pin.text();
    setMarks(at, std::nullopt);
    askWhy(chosen_, at);
}

void TapeView::showMadeBy(const QString& place)
{
    search_->setText("by " + place);
    markA_.reset();
    markB_.reset();
    editor_.session().edgesMadeBy(place.toStdString(), [this, place](const std::vector<session::MadeEdges>& made) {
        QMetaObject::invokeMethod(this, [this, place, made] {
            if (made.empty()) {
                emit editor_.message(tr("%1 has made no edge in this run").arg(place), false);
                return;
            }
            std::size_t sum = 0;
            QStringList lines;
            constexpr qsizetype kTold = 5;
            for (const session::MadeEdges& m : made) {
                sum += m.count;
                if (lines.size() < kTold)
                    lines << tr("%1 on %2").arg(m.count).arg(text(m.net));
            }
            emit editor_.message(tr("%1 has made %2 edges: %3").arg(place).arg(sum).arg(lines.join(", ")), false);
            session::TapeQuery query;
            query.words = "by " + place.toStdString();
            query.from = Time{} - Duration(1);
            editor_.session().search(query, [this](const kernel::Result<std::optional<session::TapeHit>>& hit) {
                if (hit && *hit)
                    QMetaObject::invokeMethod(this, [this, at = (*hit)->at] { goTo(at); });
            });
        });
    });
}

void TapeView::mouseDoubleClickEvent(QMouseEvent* event)
{
    if (event->position().x() < kLabels)
        return;
    markA_.reset();
    markB_.reset();
    follow(span_);
}

void TapeView::leaveEvent(QEvent*)
{
    pointer_ = {-1, -1};
    update();
}

void TapeView::keyPressEvent(QKeyEvent* event)
{
    if (event->key() == Qt::Key_Left || event->key() == Qt::Key_Right)
        toEdge(event->key() == Qt::Key_Right);
    else if (event->key() == Qt::Key_M)
        openPlotMenu({}), naming_->setFocus();
    else if (event->key() == Qt::Key_Escape && searching())
        stopSearch();
    else if (!laneKey(*event))
        QWidget::keyPressEvent(event);
}

// Keys that mean something on the bench mean something else here, while the tape has the focus.
bool TapeView::event(QEvent* event)
{
    if (event->type() == QEvent::ShortcutOverride) {
        const auto* key = static_cast<QKeyEvent*>(event);
        const bool arrow = key->key() == Qt::Key_Up || key->key() == Qt::Key_Down;
        if (arrow || (key->modifiers() == Qt::NoModifier && (key->key() == Qt::Key_Delete || key->key() == Qt::Key_G)))
            event->accept();
    }
    return QWidget::event(event);
}

// Up and down choose a lane; what its menu offers has keys. False: it is no key of theirs.
bool TapeView::laneKey(const QKeyEvent& event)
{
    const std::vector<Row> all = rows();
    const auto chosen = std::find_if(all.begin(), all.end(), [&](const Row& r) { return r.text == chosen_; });
    const bool up = event.key() == Qt::Key_Up, down = event.key() == Qt::Key_Down;
    if (up || down) {
        if (all.empty())
            return false;
        if ((event.modifiers() & Qt::AltModifier) != 0) {
            if (chosen != all.end() && chosen->kind != Row::Kind::serial)
                editor_.moveLane(chosen->text, up ? -1 : 1);
            return true;
        }
        const std::ptrdiff_t at = chosen == all.end() ? (up ? std::ssize(all) : -1) : chosen - all.begin();
        choose(all[static_cast<std::size_t>(std::clamp<std::ptrdiff_t>(at + (up ? -1 : 1), 0, std::ssize(all) - 1))].text);
        return true;
    }
    if (chosen == all.end())
        return false;
    switch (event.key()) {
    case Qt::Key_Delete: takeOff(*chosen); return true;
    case Qt::Key_G:
        if (chosen->kind != Row::Kind::serial && chosen->kind != Row::Kind::group)
            askName(chosen->text);
        return true;
    case Qt::Key_Menu: openLaneMenu(*chosen, mapToGlobal(QPoint(24, static_cast<int>(chosen->top + chosen->height / 2)))); return true;
    default: return false;
    }
}

void TapeView::takeOff(const Row& row)
{
    if (row.kind == Row::Kind::pin)
        editor_.toggleLane(editor_.lanes()[row.index]);
    else if (row.kind == Row::Kind::group)
        editor_.changeGroup(row.text, {});
    else if (row.kind == Row::Kind::read)
        editor_.toggleRead(row.text);
}

void TapeView::toEdge(bool forward) { search("edge", forward); }

// The place that is found gets the first mark, and the view goes there.
void TapeView::search(const QString& words, bool forward)
{
    session::TapeQuery query;
    query.words = words.trimmed().toStdString();
    query.lane = chosen_;
    query.forward = forward;
    query.from = markA_.value_or(forward ? editor_.picture().tapeFrom : editor_.picture().tapeTo);
    for (const session::ReadLane& lane : editor_.picture().reads)
        query.reads.push_back(lane.text);
    lookingTold_.start();
    looking_ = lookedFrom_ = query.from;
    lookOn(std::move(query), words, ++searches_);
}

void TapeView::stopSearch()
{
    ++searches_;
    if (const auto at = std::exchange(looking_, std::nullopt))
        setMarks(*at, std::nullopt);
}

// Piece by piece, so that the bench and the view stay fluid.
void TapeView::lookOn(session::TapeQuery query, const QString& words, std::uint64_t number)
{
    editor_.session().search(query, [this, query, words, number](const kernel::Result<std::optional<session::TapeHit>>& hit) {
        QMetaObject::invokeMethod(this, [this, query, words, number, hit]() mutable {
            if (number != searches_)
                return;
            if (hit && *hit && (*hit)->more) {
                looking_ = query.from = (*hit)->at;
                constexpr qint64 kTellEveryMs = 700;
                if (lookingTold_.elapsed() > kTellEveryMs) {
                    lookingTold_.start();
                    const session::Picture& p = editor_.picture();
                    const double whole = kernel::seconds((query.forward ? p.latest : p.tapeKnownFrom) - lookedFrom_), come = kernel::seconds(*looking_ - lookedFrom_);
                    const int percent = whole == 0 ? 0 : static_cast<int>(std::clamp(come / whole, 0.0, 1.0) * 100);
                    emit editor_.message(tr("Looking for \"%1\": %2 %, nothing up to %3 s; Esc stops").arg(words).arg(percent).arg(kernel::seconds(*looking_ - Time{}), 0, 'f', 3), false);
                }
                lookOn(std::move(query), words, number);
                return;
            }
            looking_.reset();
            if (!hit) {
                emit editor_.message(text(hit.error().text()), true);
            } else if (!*hit) {
                emit editor_.message(tr("\"%1\" does not come on what the tape still knows in this direction").arg(words), false);
            } else {
                // Close to it already: only the mark moves.
                const session::Picture& p = editor_.picture();
                const Time at = (*hit)->at;
                if (at > p.tapeFrom + (p.tapeTo - p.tapeFrom) / 20 && at < p.tapeTo - (p.tapeTo - p.tapeFrom) / 20) {
                    rest();
                    setMarks(at, std::nullopt);
                } else {
                    goTo(at);
                }
            }
        });
    });
}

bool TapeView::eventFilter(QObject* watched, QEvent* event)
{
    if (event->type() == QEvent::KeyPress) {
        const auto* press = static_cast<QKeyEvent*>(event);
        const bool enter = press->key() == Qt::Key_Return || press->key() == Qt::Key_Enter;
        if (watched == search_ && enter) {
            search(search_->text(), (press->modifiers() & Qt::ShiftModifier) == 0);
            return true;
        }
        if (watched == naming_ && enter) {
            const QString name = naming_->text().trimmed();
            if (groupFrom_.empty())
                addBookmark(name);
            else if (!name.isEmpty())
                editor_.groupFrom(groupFrom_, name.toStdString());
            naming_->hide();
            setFocus();
            return true;
        }
        if ((watched == naming_ || watched == search_) && press->key() == Qt::Key_Escape) {
            stopSearch();
            naming_->hide();
            setFocus();
            return true;
        }
    }
    return QWidget::eventFilter(watched, event);
}

void TapeView::addBookmark(const QString& name)
{
    if (name.isEmpty())
        return;
    const Time at = markA_.value_or(editor_.picture().now);
    bench::BookmarkItem item;
    item.name = name.toStdString();
    item.at = fmt::format("{:.12f}s", kernel::seconds(at));
    editor_.change(tr("bookmark"), [&](bench::Document& d) { d.bookmarks.push_back(item); });
}

void TapeView::dragEnterEvent(QDragEnterEvent* event)
{
    if (event->mimeData()->hasFormat(kLanesMime))
        event->acceptProposedAction();
}

// Those that are there stay.
void TapeView::dropEvent(QDropEvent* event)
{
    std::vector<bench::PinRef> pins = editor_.lanes();
    std::vector<std::string> reads;
    for (const QString& line : QString::fromUtf8(event->mimeData()->data(kLanesMime)).split('\n', Qt::SkipEmptyParts)) {
        const std::string lane = line.toStdString();
        const auto spec = session::parseLane(lane);
        if (spec && spec->kind == session::LaneSpec::Kind::pin) {
            if (std::find(pins.begin(), pins.end(), spec->pins[0]) == pins.end())
                pins.push_back(spec->pins[0]);
        } else if (spec && std::none_of(editor_.picture().reads.begin(), editor_.picture().reads.end(), [&](const session::ReadLane& l) { return l.text == lane; })) {
            reads.push_back(lane);
        }
    }
    editor_.addLanes(pins, reads);
    event->acceptProposedAction();
}

}  // namespace bramix::app
