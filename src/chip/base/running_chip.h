// What every microcontroller does alike, whatever its core is: it runs in slices up to the next alarm, stops for a debugger, counts, tells what it enters and leaves, takes its
// supply, and sleeps. A family derives its chips from this and says what one instruction does, which exception is due, and what its registers and memories are.
//
// Invariant: stops, listeners and counting never change what the firmware sees.
// Tested by tests/session/any_family_test.cpp and the tests of each chip.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <functional>
#include <set>
#include <span>
#include <string>
#include <vector>

#include "chip/base/cycle_alarm.h"
#include "chip/mcu.h"

namespace bramix::chip {

// How far a core has come; a core's own structure begins with it.
struct Progress {
    std::int64_t cycle = 0, instructions = 0;
    std::uint32_t current = 0;  // code address of the instruction in progress, or of the next one
    bool sleeping = false;
    // What the last step has entered (by exception number) and left, for whoever tells it.
    unsigned entered = 0;
    bool returned = false;
};

struct SupplyFigures {
    double onVolts = 1.9, offVolts = 1.8;   // at which the power-on reset ends and begins
    double idleAmps = 0, ampsPerMhz = 0;    // at usualVolts
    double sleepShare = 1;                  // of that, while the core sleeps
    double usualVolts = 3.3;
};

class RunningChip : public Mcu, public virtual CycleHost {
public:
    // Mcu: supply and reset.
    [[nodiscard]] bool hasResetInput() const override { return true; }
    void setResetLine(bool high) override;
    void setSupply(double volts) override;
    [[nodiscard]] double supplyVolts() const override { return volts_; }
    [[nodiscard]] double supplySiemens() const override;
    [[nodiscard]] double chargeTaken() const override;
    [[nodiscard]] bool hasChangedProgram() const override { return false; }
    [[nodiscard]] std::span<const std::uint8_t> nonVolatile() const override { return {}; }
    [[nodiscard]] std::uint64_t nonVolatileRevision() const override { return 0; }
    void programNonVolatile(const std::vector<std::uint8_t>&) override {}
    [[nodiscard]] std::optional<AnalogReading> analogReading(circuit::PinId) const override { return std::nullopt; }
    void powerOn() override;
    void startAt(kernel::Time t) override;

    // Mcu: running.
    void run(kernel::Time until) override { slices(until, nullptr); }
    void runAlone(kernel::Time until, const bool& stop) override { slices(until, &stop); }
    void stepInstruction(kernel::Time until) override;
    void yield() override
    {
        yields_ = true;
        leaveSlice();
    }
    [[nodiscard]] bool liesStill() const override { return core_.sleeping && !wakes(); }
    void sleepTo(kernel::Time until) override;
    [[nodiscard]] kernel::Time now() const override { return clock_.timeOf({core_.cycle}); }
    [[nodiscard]] bool inReset() const override { return !resetLine_ || !powered_; }
    void stopWhenHalted(bool stop) override { stopAtHalt_ = stop; }
    [[nodiscard]] bool stopsWhenHalted() const override { return stopAtHalt_; }
    [[nodiscard]] const kernel::ClockDomain& clock() const override { return clock_; }
    [[nodiscard]] circuit::Cause cause() const override { return {options_.actor, core_.current}; }
    void setChangeListener(std::function<void(kernel::Time)> changed) override { changed_ = std::move(changed); }
    void countInto(CycleCounts* counts) override;
    void tellCodeTime(CodeTime* to, kernel::Duration stretch) override;
    [[nodiscard]] std::int64_t stretchOfCodeTime() const override { return std::max<std::int64_t>(static_cast<std::int64_t>(static_cast<double>(clock_.hz()) * kernel::seconds(stretch_)), 64); }
    [[nodiscard]] std::uint32_t codeSlot() const override { return slotOf(codeAddress()); }

    // DebugPort.
    [[nodiscard]] const Device& device() const override { return device_; }
    [[nodiscard]] std::int64_t cycles() const override { return core_.cycle; }
    [[nodiscard]] std::int64_t instructions() const override { return core_.instructions; }
    [[nodiscard]] std::optional<std::uint64_t> lowestStack() const override { return lowest_ == UINT64_MAX ? std::nullopt : std::optional(lowest_); }
    [[nodiscard]] bool isSleeping() const override { return core_.sleeping; }
    [[nodiscard]] ExceptionStatus exception(unsigned number) const override;
    void setBreakpoints(std::span<const std::uint32_t> addresses) override;
    void setWatchpoints(std::span<const Watchpoint> watchpoints) override;
    void stopAtExceptions(const ExceptionSet& which) override { exceptionStops_ = which; }
    void stopAtResets(bool stop) override { resetStops_ = stop; }
    [[nodiscard]] bool hasStopped() const override { return stop_.kind != StopInfo::Kind::none; }
    [[nodiscard]] StopInfo stopInfo() const override { return stop_; }
    void resume(bool passBreakpoint) override;

    // CycleHost.
    [[nodiscard]] kernel::EventQueue& queue() override { return queue_; }
    void adopt(CycleAlarm& alarm) override { alarms_.push_back(&alarm); }

protected:
    RunningChip(const Device& device, const McuOptions& options, kernel::EventQueue& queue, circuit::Circuit& circuit, McuObserver& observer, Progress& core, std::uint64_t hz, SupplyFigures supply);

    // What a family says of its chip.
    // One instruction: cycle and instructions grow; what it enters and leaves stands in Progress.
    virtual void step() = 0;
    // Takes the most urgent exception that is due now; false: there is none.
    virtual bool enterDue() = 0;
    // Whether something ends its sleep now; what a wake-up does beside that.
    [[nodiscard]] virtual bool wakes() const = 0;
    virtual void wake() { core_.sleeping = false; }
    // What its memories hold at power-up.
    virtual void fillMemories() = 0;
    // Everything as after a reset.
    virtual void resetState(unsigned cause) = 0;
    [[nodiscard]] virtual bool requested(unsigned exception) const = 0;
    [[nodiscard]] virtual bool enabled(unsigned exception) const = 0;
    // Instructions until the slice ends (sliceEnds()), while nobody looks at each for a breakpoint or a count. It tells code time, and comes back behind a jump to itself
    // while the chip is to stop when it has halted. See runPlain().
    virtual void runCore() { runLooked(); }
    // Watchpoints are others now.
    virtual void watchpointsChanged() {}
    // The clock is another: peripherals plan anew.
    virtual void clockChanged() {}
    static constexpr unsigned kPowerOnCause = 0;

    // What a family calls.
    // The cycle of the access or event in hand.
    [[nodiscard]] std::int64_t cycleNow() const { return std::max(accessCycle_, core_.cycle); }
    // Lets what is due up to a cycle happen, before a peripheral is asked at it.
    void catchUp(std::int64_t cycle)
    {
        accessCycle_ = cycle;
        queue_.advanceTo(clock_.timeOf({cycle}));
    }
    // After an access to a peripheral: an alarm may have been set before the slice's end.
    void accessDone()
    {
        if (queue_.nextDue() != next_)
            leaveSlice();
        tell();
    }
    void tell()
    {
        if (changed_)
            changed_(now());
    }
    void noteAccess(std::uint64_t address, unsigned size, std::uint64_t before, std::uint64_t value, bool write, const char* by = "");
    // The run under way ends its slice at the next instruction boundary: something may be due that was not.
    void leaveSlice() { target_ = INT64_MIN; }
    // The core is in a jump to itself that takes so many cycles: it stays there until the slice ends.
    void spin(std::int64_t each)
    {
        if (target_ <= core_.cycle)
            return;
        const std::int64_t times = (target_ - core_.cycle + each - 1) / each;
        core_.cycle += times * each;
        core_.instructions += times;
    }
    [[nodiscard]] bool sliceEnds() const { return core_.cycle >= target_; }
    // The cycle at which it ends: as it stands now, and as an instruction may set it.
    [[nodiscard]] const std::int64_t& sliceEnd() const { return target_; }
    // An exception is requested, from the queue's present on.
    void requestedNow(unsigned exception);
    // What has just come may wake the core.
    void rouse();
    // A remark, once a run for each text.
    void remarkOnce(Weight weight, const char* rule, const std::string& text);
    void setStop(StopInfo stop)
    {
        if (!hasStopped())
            stop_ = std::move(stop);
        leaveSlice();
    }
    void setClock(std::uint64_t hz);
    void resetNow(unsigned cause);
    void settleCharge();
    void noteStack(std::uint64_t sp)
    {
        if (sp < lowest_ && sp > device_.ramBegin)
            lowest_ = sp;
    }
    // runCore() of a chip whose step() is a plain stepper; `self` is the chip, so that what is called once an instruction is known when this is compiled.
    // Self::loopCycles(): of the jump to itself at which it stands; 0: it does not.
    template <class Self>
    void runPlain(Self& self)
    {
        do {
            const std::uint32_t at = core_.current = self.Self::codeAddress();
            const std::uint64_t sp = self.Self::stackPointer();
            self.Self::step();
            accessCycle_ = 0;
            if (self.Self::stackPointer() != sp)
                noteStack(self.Self::stackPointer());
            if (core_.sleeping || core_.entered != 0 || core_.returned) [[unlikely]] {
                fellAsleep();
                after();
                continue;
            }
            const std::uint32_t to = self.Self::codeAddress();
            if (to == at) [[unlikely]] {
                if (stopAtHalt_ && halted())
                    return;
                if (const std::int64_t each = self.Self::loopCycles(); each != 0)
                    spin(each);
            }
            if (codeTime_ != nullptr)
                codeTime_->enter(codeTime_->partAt(slotOf(to)), core_.cycle);
        } while (!sliceEnds());
    }
    // One instruction, with everything that is told of it.
    void stepLooked();
    // The core may have gone to sleep by the last instruction.
    void fellAsleep()
    {
        if (!core_.sleeping)
            return;
        // Up to now it has taken what a running core takes.
        core_.sleeping = false;
        settleCharge();
        core_.sleeping = true;
        leaveSlice();
        observer_.loadChanged();
    }
    // What memory comes up with: a pattern of the chip's own. The last of it, for more.
    std::uint64_t fillWithNoise(std::span<std::uint8_t> memory) const;
    void runLooked();
    // Somebody wants to know of every instruction.
    [[nodiscard]] bool looked() const { return !breakpoints_.empty() || counts_ != nullptr; }
    void after();
    void moved()
    {
        if (codeTime_ != nullptr)
            codeTime_->enter(inReset() ? CodeTime::kInReset : core_.sleeping ? CodeTime::kAsleep : codeTime_->partAt(codeSlot()), core_.cycle);
    }
    [[nodiscard]] bool anyAlarm() const
    {
        return std::any_of(alarms_.begin(), alarms_.end(), [](const CycleAlarm* a) { return a->armed(); });
    }
    [[nodiscard]] std::uint32_t slotOf(std::uint32_t code) const { return code < device_.codeBegin || code >= device_.codeEnd ? UINT32_MAX : (code - device_.codeBegin) >> slotShift_; }

    template <class Archive>
    void baseState(Archive& ar)
    {
        ar(clock_, volts_, powered_, resetLine_, charge_, chargedAt_, lowest_, core_.cycle, core_.instructions, core_.current, core_.sleeping, since_, served_);
        if constexpr (Archive::kLoading) {
            stop_ = {};
            passedAt_ = -1;
            yields_ = false;
            core_.entered = 0;
            core_.returned = false;
            accessCycle_ = 0;
            leaveSlice();
        }
    }

    const Device& device_;
    const McuOptions options_;
    kernel::EventQueue& queue_;
    circuit::Circuit& circuit_;
    McuObserver& observer_;
    kernel::ClockDomain clock_;
    double volts_ = 0;
    std::vector<Watchpoint> watchpoints_;

private:
    void slices(kernel::Time until, const bool* stop);
    bool takeDue();
    void sleepOn(std::int64_t to);
    [[nodiscard]] bool breaksAt(std::uint32_t code) const { return std::binary_search(breakpoints_.begin(), breakpoints_.end(), code); }

    struct Served {
        std::int64_t count = 0, worst = 0, total = 0;
        template <class Archive>
        void state(Archive& ar)
        {
            ar(count, worst, total);
        }
    };

    Progress& core_;
    const SupplyFigures supply_;
    const int slotShift_;               // a slot of program memory is this power of two
    std::vector<CycleAlarm*> alarms_;
    bool powered_ = true, resetLine_ = true, yields_ = false, stopAtHalt_ = false;
    double charge_ = 0;
    std::int64_t chargedAt_ = 0, accessCycle_ = 0;
    std::uint64_t lowest_ = UINT64_MAX;
    std::int64_t target_ = 0;           // cycle at which the slice ends
    kernel::Time next_{};               // the alarm that it ends by
    std::vector<std::int64_t> since_;   // by exception: the cycle of its request
    std::vector<Served> served_;
    std::set<std::string> told_;

    std::vector<std::uint32_t> breakpoints_;  // rising
    ExceptionSet exceptionStops_;
    bool resetStops_ = false;
    StopInfo stop_;
    std::int64_t passedAt_ = -1;
    std::function<void(kernel::Time)> changed_;
    CycleCounts* counts_ = nullptr;
    CodeTime* codeTime_ = nullptr;
    kernel::Duration stretch_ = kUsualStretch;
};

}  // namespace bramix::chip
