#include "session/live/live_session.h"

#include <algorithm>
#include <future>

#include <fmt/format.h>

#include "bench/rehearsal.h"

namespace bramix::session {

using Clock = std::chrono::steady_clock;
using kernel::seconds;

namespace {

constexpr auto kPictureEvery = std::chrono::milliseconds(16);
constexpr auto kSliceWall = std::chrono::milliseconds(4);
// Of the buses, read in one slice: more than are made in one, a few milliseconds' work.
constexpr std::size_t kReadEdges = 150'000;
constexpr Duration kShortestSlice = std::chrono::microseconds(20);
constexpr Duration kLongestSlice = std::chrono::milliseconds(200);
constexpr Duration kLongestSampled = std::chrono::milliseconds(20);  // while values are sampled at the end of each
// Further behind the wall clock than this, the difference is forgotten: it would only be made up in a rush.
constexpr double kForgivenSeconds = 0.1;
constexpr double kSpeedWindow = 0.4;
// What goes on at one go to look into the past for lanes of the tape.
constexpr auto kLookStanding = std::chrono::milliseconds(25), kLookRunning = std::chrono::milliseconds(3);
constexpr std::size_t kHistoryBytes = 384U << 20U;

double wallSeconds(Clock::duration d) { return std::chrono::duration<double>(d).count(); }

std::string formatName(const chip::SerialFormat& f)
{
    const char parity = f.parity == chip::SerialFormat::Parity::none ? 'N' : f.parity == chip::SerialFormat::Parity::even ? 'E' : 'O';
    return fmt::format("{}{}{}", f.dataBits, parity, f.stopBits);
}

}  // namespace

LiveSession::LiveSession(const bench::Catalogue& catalogue)
    : catalogue_(catalogue), thread_([this](const std::stop_token& stop) { loop(stop); })
{
}

LiveSession::~LiveSession()
{
    thread_.request_stop();
    {
        const std::lock_guard lock(mutex_);
        ending_ = true;
        progress_.stop();
        interrupt_ = true;
    }
    wake_.notify_all();
}

void LiveSession::post(Command command)
{
    {
        const std::lock_guard lock(mutex_);
        commands_.push_back(std::move(command));
    }
    wake_.notify_all();
}

void LiveSession::stopWork()
{
    const std::lock_guard lock(mutex_);  // so that it does not end between the question and the flag
    if (progress_.stop())
        interrupt_ = true;
}

void LiveSession::beginWork(std::string what) { progress_.begin(std::move(what)); }

void LiveSession::endWork()
{
    const std::lock_guard lock(mutex_);
    progress_.end();
    interrupt_ = ending_.load();
}

void LiveSession::say(bool error, std::string text)
{
    const std::lock_guard lock(mutex_);
    messages_.push_back({error, std::move(text)});
}

void LiveSession::open(const bench::Document& document, const std::string& folder)
{
    post([this, document, folder] {
        running_ = false;
        build(document, folder);
    });
}

void LiveSession::build(const bench::Document& document, const std::string& folder)
{
    stopped_.clear();
    if (gdb_ != nullptr) {
        const std::lock_guard lock(mutex_);
        gdbLeft_ = true;
    }
    gdb_.reset();
    debugger_.reset();
    session_.reset();
    notBuilt_.clear();
    folder_ = folder;
    SessionOptions options;
    options.folder = folder;
    options.keepGoing = true;
    options.confined = true;
    options.interrupt = &interrupt_;
    options.progress = &progress_;
    options.allowed = allowed_;
    options.historyBytes = kHistoryBytes;
    options.tapeBytes = tapeBytes_;
    options.readEdges = kReadEdges;
    auto session = Session::open(document, catalogue_, options);
    if (!session) {
        notBuilt_ = session.error().text();
        say(true, notBuilt_);
        return;
    }
    adoptSession(std::move(*session));
}

void LiveSession::adoptSession(std::unique_ptr<Session> session)
{
    if (gdb_ != nullptr) {
        const std::lock_guard lock(mutex_);
        gdbLeft_ = true;
    }
    gdb_.reset();
    lookback_.reset();
    debugger_.reset();
    session_ = std::move(session);
    lookback_ = std::make_unique<Lookback>(*session_, catalogue_);
    debugger_ = std::make_unique<Debugger>(*session_);
    debugger_->setStops(stops_);
    reason_.clear();
    slow_.reset();
    until_.reset();
    valuesNow_.clear();
    counts_.clear();
    counting_ = false;
    serialShown_ = 0;
    wholeSerial_ = false;
    reader_.clear();
    session_->setCapture(capture_.first, capture_.second);
    marks_.clear();
    applyProbes();
    singleAt_.reset();
    singleSince_ = session_->world().now();
    integralsAt_ = session_->world().now();
    highBefore_.clear();
    rehearse();
    rebase();
}

// Told until it has come to pass, or the time in which it would have is over.
void LiveSession::rehearse()
{
    foreseen_.clear();
    if (session_->world().now() > Time{})
        return;
    foreseen_ = bench::rehearse(session_->document(), catalogue_, {.folder = session_->options().folder, .confined = true, .allowed = allowed_, .keepGoing = true});
    for (bench::Finding& f : foreseen_)
        if (f.code)
            f.source = session_->place(f.chip, *f.code).brief();
}

void LiveSession::allow(std::vector<std::string> files)
{
    post([this, files = std::move(files)] {
        allowed_ = files;
        if (session_ != nullptr)
            session_->allow(files);
    });
}

void LiveSession::edit(const bench::Document& document, const std::string& folder)
{
    post([this, document, folder] {
        if (!folder.empty())
            folder_ = folder;
        if (session_ == nullptr) {
            build(document, folder_);
            return;
        }
        const bench::World* before = &session_->world();
        if (auto ok = session_->edit(document, folder); !ok) {
            // What is drawn is another bench than the one that is there: that one runs no further.
            notBuilt_ = ok.error().text();
            running_ = false;
            slow_.reset();
            say(true, notBuilt_);
            return;
        }
        notBuilt_.clear();
        // Moved parts and bends leave the world as it is.
        if (before != &session_->world())
            rehearse();
        attachCounts();
        highBefore_.clear();
    });
}

void LiveSession::restart()
{
    post([this] {
        if (session_ == nullptr || refuseFor("restart"))
            return;
        if (auto ok = session_->restart(); !ok)
            say(true, ok.error().text());
        stopped_.clear();
        reason_.clear();
        marks_.clear();
        counts_.clear();
        counting_ = false;
        integralsAt_ = session_->world().now();
        highBefore_.clear();
        if (running_) {
            debugger_->begin();
            stepping_ = false;
        }
        rebase();
    });
}

void LiveSession::setFullSpeed(bool full)
{
    post([this, full] {
        fullSpeed_ = full;
        rebase();
    });
}

void LiveSession::setControl(const std::string& part, const std::string& control, double value)
{
    post([this, part, control, value] {
        if (session_ != nullptr)
            if (auto ok = session_->setControl(part, control, value); !ok)
                say(true, ok.error().text());
    });
}

void LiveSession::replacePart(const std::string& part)
{
    post([this, part] {
        if (session_ != nullptr)
            if (auto ok = session_->replacePart(part); !ok)
                say(true, ok.error().text());
    });
}

void LiveSession::send(const std::string& uart, const std::string& bytes)
{
    queued_ += bytes.size();
    post([this, uart, bytes] {
        queued_ -= bytes.size();
        const auto index = session_ == nullptr ? std::nullopt : session_->world().uartByName(uart);
        if (index)
            session_->send(*index, bytes);
        countUnsent();
    });
}

void LiveSession::countUnsent()
{
    std::size_t sum = 0;
    if (session_ != nullptr)
        for (const auto& uart : session_->world().uarts())
            sum += uart.line->unsent();
    onLines_ = sum;
}

void LiveSession::loadFirmware(const std::string& chip, const std::string& file)
{
    post([this, chip, file] {
        if (session_ == nullptr)
            return;
        if (auto ok = session_->loadFirmware(chip, file); !ok) {
            say(true, ok.error().text());
        } else {
            stopped_.clear();
            say(false, fmt::format("{} loaded into {}", file.substr(file.rfind('/') + 1), chip));
        }
    });
}

std::shared_ptr<const Picture> LiveSession::picture() const
{
    const std::lock_guard lock(mutex_);
    return picture_;
}

std::vector<SerialByte> LiveSession::takeSerial()
{
    const std::lock_guard lock(mutex_);
    return std::exchange(serial_, {});
}

std::vector<Message> LiveSession::takeMessages()
{
    const std::lock_guard lock(mutex_);
    return std::exchange(messages_, {});
}

void LiveSession::settle()
{
    std::promise<void> done;
    post([this, &done] {
        publish(true);
        done.set_value();
    });
    done.get_future().wait();
}

void LiveSession::rebase()
{
    wallBase_ = speedSince_ = Clock::now();
    simBase_ = speedSimSince_ = session_ == nullptr ? Time{} : session_->world().now();
    busySeconds_ = 0;
}

void LiveSession::loop(const std::stop_token& stop)
{
    while (!stop.stop_requested()) {
        applyCommands();
        if (!running_ && slow_) {
            // The next step of a slow run, when it is time.
            std::unique_lock lock(mutex_);
            if (wake_.wait_until(lock, stop, nextSlow_, [this] { return !commands_.empty(); }))
                continue;
            lock.unlock();
            if (stop.stop_requested())
                return;
            nextSlow_ = std::max(nextSlow_ + std::chrono::duration_cast<Clock::duration>(std::chrono::duration<double>(1 / slow_->second)), Clock::now() - std::chrono::milliseconds(50));
            if (auto ok = debugger_->begin(slow_->first); !ok) {
                reason_ = ok.error().text();
                slow_.reset();
                continue;
            }
            startMoving();
            stepping_ = true;
        }
        if (!running_) {
            publish(changed_);
            changed_ = false;
            // What lanes say that were added, or in a recording, piece by piece; shown now and then, and when all is read.
            if (session_ != nullptr && session_->watchLines()) {
                reading_ = true;
                publish(false);
                continue;
            }
            if (std::exchange(reading_, false)) {
                changed_ = true;
                continue;
            }
            if (lookback_ != nullptr && lookback_->busy()) {
                lookBack(kLookStanding);
                changed_ = true;
                continue;
            }
            std::unique_lock lock(mutex_);
            wake_.wait(lock, stop, [this] { return !commands_.empty(); });
            continue;
        }
        try {
            slice();
            if (!values_.empty())
                sampleValues();
            if (lookback_->busy() && Clock::now() >= nextLook_) {
                // At most a sixth of the time, so that the run keeps its pace.
                lookBack(kLookRunning);
                nextLook_ = Clock::now() + 5 * kLookRunning;
            }
        } catch (const std::exception& bug) {
            running_ = false;
            stopped_ = fmt::format("Bramix itself failed: {}", bug.what());
            say(true, stopped_);
        }
        publish(false);
    }
}

void LiveSession::lookBack(Clock::duration budget)
{
    try {
        (void)lookback_->work(budget);
    } catch (const std::exception& bug) {
        say(true, fmt::format("Bramix itself failed: {}", bug.what()));
        lookback_ = std::make_unique<Lookback>(*session_, catalogue_);
    }
}

void LiveSession::applyCommands()
{
    for (;;) {
        Command command;
        {
            const std::lock_guard lock(mutex_);
            if (commands_.empty())
                return;
            command = std::move(commands_.front());
            commands_.pop_front();
        }
        changed_ = true;
        try {
            command();
        } catch (const std::exception& bug) {
            say(true, fmt::format("Bramix itself failed: {}", bug.what()));
        }
    }
}

// Runs a little, sized so that commands never wait long; paced runs then wait for the wall clock.
void LiveSession::slice()
{
    bench::World& world = session_->world();
    const auto began = Clock::now();
    Time goal = world.now() + (values_.empty() ? sliceSpan_ : std::min(sliceSpan_, kLongestSampled));
    if (!fullSpeed_ && !stepping_) {
        const double lead = seconds(world.now() - simBase_) - wallSeconds(began - wallBase_);
        if (lead < -kForgivenSeconds) {
            wallBase_ = began;
            simBase_ = world.now();
        }
        if (lead > 0) {
            std::unique_lock lock(mutex_);
            wake_.wait_for(lock, std::chrono::duration<double>(std::min(lead, 0.004)), [this] { return !commands_.empty(); });
            if (lead > 0.004)
                return;
        }
        // Not further ahead of the wall clock than one slice.
        goal = std::min(goal, simBase_ + Duration(static_cast<std::int64_t>((wallSeconds(Clock::now() - wallBase_) + 0.002) * 1e12)));
    }
    if (until_)
        goal = std::min(goal, *until_);
    const auto busyFrom = Clock::now();
    const Time before = world.now();
    if ((goal > before || stepping_) && debugger_->advance(std::max(goal, before + Duration(1)))) {
        running_ = false;
        changed_ = true;
        reason_ = debugger_->report().text;
        if (!reason_.empty())
            slow_.reset();
        if (gdb_ != nullptr)
            gdbSay(gdb_->stopped());
    }
    if (running_ && until_ && world.now() >= *until_) {
        running_ = false;
        changed_ = true;
    }
    for (std::string& line : debugger_->takeLog())
        say(false, std::move(line));
    for (auto& mark : debugger_->takeMarks()) {
        constexpr std::size_t kMostMarks = 10'000;
        std::erase_if(marks_, [&](const auto& m) { return m.first >= mark.first; });  // said again, or on another course
        if (marks_.size() < kMostMarks)
            marks_.push_back(std::move(mark));
    }
    const auto took = Clock::now() - busyFrom;
    busySeconds_ += wallSeconds(took);
    if (took > kSliceWall)
        sliceSpan_ = std::max(sliceSpan_ / 2, kShortestSlice);
    else if (took < kSliceWall / 2)
        sliceSpan_ = std::min(sliceSpan_ * 2, values_.empty() ? kLongestSlice : kLongestSampled);
    if (world.faulted()) {
        running_ = false;
        stopped_ = session_->faultText();
        changed_ = true;
    }
    const double window = wallSeconds(Clock::now() - speedSince_);
    if (window > kSpeedWindow) {
        const double simulated = seconds(world.now() - speedSimSince_);
        speed_ = simulated / window;
        capacity_ = busySeconds_ > 0 ? simulated / busySeconds_ : 0;
        speedSince_ = Clock::now();
        speedSimSince_ = world.now();
        busySeconds_ = 0;
    }
}

void LiveSession::publish(bool always)
{
    const auto now = Clock::now();
    if (!always && now - lastPublish_ < kPictureEvery)
        return;
    // In step, not one slice later each time.
    lastPublish_ = now - lastPublish_ < 2 * kPictureEvery ? lastPublish_ + kPictureEvery : now;
    countUnsent();
    auto picture = std::make_shared<Picture>();
    picture->number = ++pictures_;
    picture->running = (running_ && !(stepping_ && slow_)) || slow_.has_value();
    picture->speed = running_ ? speed_ : 0;
    picture->capacity = capacity_;
    picture->atFullSpeed = fullSpeed_;
    picture->stopped = stopped_;
    picture->notBuilt = notBuilt_;
    if (session_ != nullptr) {
        const bench::World& world = session_->world();
        picture->powered = true;
        picture->now = world.now();
        fillPins(*picture);
        fillLights(*picture);
        fillParts(*picture);
        wantVoltages();
        fillScope(*picture);
        fillProbes(*picture);
        picture->findings = session_->findings();
    }
    if (!notBuilt_.empty())
        picture->findings.insert(picture->findings.begin(), {.severity = bench::Severity::error, .rule = "bench-not-built", .where = "bench", .message = notBuilt_ + ": the bench stands still until it can be built as it is drawn", .wiring = true});
    if (session_ != nullptr) {
        const bench::World& world = session_->world();
        fillTape(*picture);
        if (world.now() < Time(bench::kRehearsal))
            for (const bench::Finding& f : foreseen_)
                if (std::none_of(picture->findings.begin(), picture->findings.end(), [&](const bench::Finding& g) { return g.rule == f.rule && g.where == f.where; }))
                    picture->findings.push_back(f);
        fillDebug(*picture);
        for (std::size_t c = 0; c < world.chips().size(); ++c) {
            const auto& unit = world.chips()[c];
            const chip::Mcu& chip = *unit.chip;
            picture->chips.push_back({unit.id, chip.device().title, chip.codeAddress(), session_->place(unit.id, chip.codeAddress()).brief(), chip.cycles(), chip.clock().hz(),
                                      chip.isSleeping(), chip.inReset(), world.chipAmps(c), chip.chargeTaken(), unit.firmwareFile, chip.device().behaviour->clocksPerCycle});
        }
        for (const auto& uart : world.uarts()) {
            const chip::SerialFormat f = world.chips()[uart.chip].chip->serialFormat(uart.index);
            picture->uarts.push_back({uart.name, f.transmits || f.receives, f.baud, formatName(f)});
        }
        for (const bench::PartItem& part : session_->document().parts)
            if (const bench::PartKind* kind = catalogue_.find(part.kind))
                for (const bench::ControlKind& control : kind->controls)
                    picture->controls[part.id + "." + control.name] = world.control(part.id, control.name);
    }
    // The bytes with the picture that tells of their UARTs: who takes them first and it then never has bytes of a line that he does not know.
    const std::lock_guard lock(mutex_);
    picture_ = std::move(picture);
    if (session_ != nullptr)
        showSerial();
}

}  // namespace bramix::session
