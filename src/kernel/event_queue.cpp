#include "kernel/event_queue.h"

#include <utility>

namespace bramix::kernel {

EventQueue::Entry EventQueue::entryOf(Alarm& alarm)
{
    constexpr std::uint64_t kSign = std::uint64_t{1} << 63U;
    return {static_cast<unsigned __int128>(static_cast<std::uint64_t>(alarm.due_.time_since_epoch().count()) ^ kSign) << 64U | alarm.order_, &alarm};
}

void EventQueue::ring(Time until)
{
    // Called from what an alarm calls: that one has rung.
    if (ringing_ != nullptr)
        remove(*std::exchange(ringing_, nullptr));
    while (next_ <= until && next_ != kNever) {
        if (interrupt_ != nullptr && interrupt_->load(std::memory_order_relaxed)) [[unlikely]]
            return interrupted_();
        Alarm& alarm = *heap_.front().alarm;
        const Time due = alarm.due_;
        if (due > now_)
            now_ = due;
        // It keeps its place while it rings: most alarms are armed again by what they call, and then only move down.
        ringing_ = &alarm;
        alarm.callback_(due);
        if (ringing_ != nullptr)
            remove(*std::exchange(ringing_, nullptr));
        if (rung_) [[unlikely]]
            rung_(due);
    }
}

// An alarm in the heap has a new due time.
void EventQueue::moved(Alarm& alarm)
{
    const Entry entry = entryOf(alarm);
    if (alarm.slot_ > 0 && entry.key < heap_[(alarm.slot_ - 1) / 2].key)
        siftUp(entry, alarm.slot_);
    else
        siftDown(entry, alarm.slot_);
    refreshNext();
}

void EventQueue::insert(Alarm& alarm)
{
    heap_.emplace_back();
    siftUp(entryOf(alarm), static_cast<std::uint32_t>(heap_.size() - 1));
    refreshNext();
}

void EventQueue::remove(Alarm& alarm)
{
    const std::uint32_t hole = alarm.slot_;
    alarm.slot_ = Alarm::kIdle;
    const Entry last = heap_.back();
    heap_.pop_back();
    if (last.alarm != &alarm) {
        if (hole > 0 && last.key < heap_[(hole - 1) / 2].key)
            siftUp(last, hole);
        else
            siftDown(last, hole);
    }
    refreshNext();
}

// Both find a place for an entry, beginning at a slot that is free.
void EventQueue::siftUp(const Entry& entry, std::uint32_t slot)
{
    while (slot > 0) {
        const std::uint32_t parent = (slot - 1) / 2;
        if (heap_[parent].key <= entry.key)
            break;
        place(heap_[parent], slot);
        slot = parent;
    }
    place(entry, slot);
}

void EventQueue::siftDown(const Entry& entry, std::uint32_t slot)
{
    const auto size = static_cast<std::uint32_t>(heap_.size());
    for (;;) {
        std::uint32_t child = 2 * slot + 1;
        if (child + 1 < size)
            child += heap_[child + 1].key < heap_[child].key ? 1U : 0U;
        else if (child >= size)
            break;
        if (entry.key <= heap_[child].key)
            break;
        place(heap_[child], slot);
        slot = child;
    }
    place(entry, slot);
}

void EventQueue::place(const Entry& entry, std::uint32_t slot)
{
    heap_[slot] = entry;
    entry.alarm->slot_ = slot;
}

void EventQueue::refreshNext() { next_ = heap_.empty() ? kNever : heap_.front().alarm->due_; }

void Alarm::arm(Time due)
{
    due_ = due;
    if (!ranked_)
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
