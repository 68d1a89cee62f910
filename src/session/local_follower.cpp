#include "session/local_follower.h"

namespace bramix::session {

void LocalFollower::stand(const bench::World::ChipUnit& unit)
{
    sp_ = unit.chip->cpu().sp;
    stoodInside_ = inside(unit.chip->cpu().pc);
}

LocalFollower::News LocalFollower::look(Program& program, const bench::World::ChipUnit& unit)
{
    const chip::avr::Cpu& cpu = unit.chip->cpu();
    const auto ended = [this] { return std::exchange(open_, false) ? News::ended : News::none; };
    if (!inside(cpu.pc)) {
        const int bytesOfReturn = unit.table->core.longPc ? 3 : 2;
        // A call and an interrupt leave a return address; whatever else leads out of it has left it.
        const bool left = stoodInside_ && cpu.sp + bytesOfReturn > sp_;
        // Or out of several functions at once.
        return open_ && (left || cpu.sp + bytesOfReturn > static_cast<int>(cfa_)) ? ended() : News::none;
    }
    auto here = localAt(program, unit, name_);
    if (!here || here->value.bytes.empty())
        return ended();
    goesOn_ = open_ && here->cfa == cfa_;
    if (goesOn_ && here->value.bytes == value_.bytes)
        return News::none;
    value_ = std::move(here->value);
    cfa_ = here->cfa;
    open_ = true;
    return News::value;
}

}  // namespace bramix::session
