#include "kernel/event_queue.h"

#include <utility>

namespace bramix::kernel {

void EventQueue::ring(Time until)
{
    // Called from what an alarm calls: that one has rung.
    if (ringing_ != nullptr)
        remove(*std::exchange(ringing_, nullptr));
    while (!heap_.empty() && heap_.front()->due_ <= until) {
        Alarm& alarm = *heap_.front();
        const Time due = alarm.due_;
        if (due > now_)
            now_ = due;
        // It keeps its place while it rings: most alarms are armed again by what they call, and then only move down.
        ringing_ = &alarm;
        alarm.callback_(due);
        if (ringing_ != nullptr)
            remove(*std::exchange(ringing_, nullptr));
    }
}

// An alarm in the heap has a new due time.
void EventQueue::moved(Alarm& alarm)
{
    siftUp(alarm.slot_);
    siftDown(alarm.slot_);
    refreshNext();
}

void EventQueue::insert(Alarm& alarm)
{
    heap_.push_back(&alarm);
    alarm.slot_ = static_cast<std::uint32_t>(heap_.size() - 1);
    siftUp(alarm.slot_);
    refreshNext();
}

void EventQueue::remove(Alarm& alarm)
{
    const std::uint32_t hole = alarm.slot_;
    alarm.slot_ = Alarm::kIdle;
    Alarm* last = heap_.back();
    heap_.pop_back();
    if (last != &alarm) {
        place(last, hole);
        siftUp(hole);
        siftDown(last->slot_);
    }
    refreshNext();
}

void EventQueue::siftUp(std::uint32_t slot)
{
    Alarm* moving = heap_[slot];
    while (slot > 0) {
        const std::uint32_t parent = (slot - 1) / 2;
        if (!moving->before(*heap_[parent]))
            break;
        place(heap_[parent], slot);
        slot = parent;
    }
    place(moving, slot);
}

void EventQueue::siftDown(std::uint32_t slot)
{
    Alarm* moving = heap_[slot];
    const auto size = static_cast<std::uint32_t>(heap_.size());
    for (;;) {
        std::uint32_t child = 2 * slot + 1;
        if (child >= size)
            break;
        if (child + 1 < size && heap_[child + 1]->before(*heap_[child]))
            ++child;
        if (!heap_[child]->before(*moving))
            break;
        place(heap_[child], slot);
        slot = child;
    }
    place(moving, slot);
}

void EventQueue::place(Alarm* alarm, std::uint32_t slot)
{
    heap_[slot] = alarm;
    alarm->slot_ = slot;
}

void EventQueue::refreshNext() { next_ = heap_.empty() ? kNever : heap_.front()->due_; }

void Alarm::arm(Time due)
{
    due_ = due;
    order_ = queue_.order_++;
    if (slot_ == kIdle) {
        queue_.insert(*this);
        return;
    }
    if (queue_.ringing_ == this)
        queue_.ringing_ = nullptr;
    queue_.moved(*this);
}

void Alarm::disarm()
{
    if (queue_.ringing_ == this)
        queue_.ringing_ = nullptr;
    if (slot_ != kIdle)
        queue_.remove(*this);
}

void Alarm::restore(bool isArmed, Time due, std::uint64_t order)
{
    disarm();
    due_ = due;
    order_ = order;
    if (isArmed)
        queue_.insert(*this);
}

}  // namespace bramix::kernel
