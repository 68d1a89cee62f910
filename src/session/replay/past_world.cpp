#include "session/replay/past_world.h"

#include <algorithm>

namespace bramix::session {

Result<std::unique_ptr<PastWorld>> PastWorld::build(Session& session, const bench::Catalogue& catalogue)
{
    auto world = bench::World::build(session.document(), catalogue, {.seed = session.options().seed, .folder = session.options().folder, .confined = session.options().confined, .allowed = session.options().allowed, .keepGoing = true}, nullptr);
    if (!world)
        return tl::unexpected(world.error());
    for (std::size_t i = 0; i < (*world)->chips().size(); ++i)
        if (const bench::World::ChipUnit& unit = session.world().chips()[i]; !unit.firmwareFile.empty())
            (*world)->installFirmware(i, unit.firmware, unit.firmwareFile);
    return std::unique_ptr<PastWorld>(new PastWorld(session, std::move(*world)));
}

Result<void> PastWorld::recall(Time t)
{
    const Remembered* moment = session_.history().before(t);
    if (moment == nullptr)
        return kernel::fail(kernel::formatQuantity(kernel::seconds(t), kernel::Unit::second), "lies before what is remembered");
    world_->recall(*moment->moment);
    applied_ = moment->inputs;
    return {};
}

bool PastWorld::goOn(Time t, Clock::time_point until)
{
    constexpr Duration kPiece = std::chrono::milliseconds(1);
    while (world_->now() < t && !world_->faulted()) {
        if (Clock::now() >= until)
            return false;
        giveDueInputs();
        const Time next = std::min({t, nextInput(), world_->now() + kPiece});
        const Time before = world_->now();
        world_->runUntil(next);
        if (world_->now() == before && next > before)
            break;
    }
    return true;
}

Result<void> PastWorld::place(Time t)
{
    if (auto ok = recall(t); !ok)
        return ok;
    goOn(t);
    return {};
}

Result<bool> PastWay::go(Time to, PastWorld::Clock::time_point until, const std::function<void(bench::World&)>& before)
{
    if (session_.history().empty())
        return kernel::fail("the past", "is not remembered");
    if (past_ == nullptr || !past_->fits()) {
        auto made = PastWorld::build(session_, catalogue_);
        if (!made)
            return tl::unexpected(made.error());
        past_ = std::move(*made);
        recalled_ = false;
    }
    if (!recalled_) {
        if (before)
            before(past_->world());
        if (auto ok = past_->recall(to); !ok)
            return tl::unexpected(ok.error());
        recalled_ = true;
    }
    return past_->goOn(to, until);
}

}  // namespace bramix::session
