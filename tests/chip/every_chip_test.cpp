// What every chip must bear, whatever its family: no firmware at all, firmware that is noise, being looked at where nothing is, and being saved and put back in the midst of it.
#include <QtTest>

#include <random>

#include "chip/families.h"
#include "chip/firmware.h"
#include "chip/mcu.h"
#include "circuit/circuit.h"
#include "kernel/archive.h"

using namespace bramix;
using namespace std::chrono_literals;
using kernel::Time;

namespace {

// A chip on a supply and nothing else.
class Alone : private chip::McuObserver, private circuit::CircuitObserver {
public:
    explicit Alone(const chip::Device& device) : circuit(queue), mcu(chip::makeMcu(device, optionsOf(device), queue, circuit, *this))
    {
        for (const chip::PackagePin& p : device.package)
            if (chip::isPortPin(device, p.name))
                mcu->attachPin(p.name, circuit.addPin(circuit.addNet(p.name), p.name));
        circuit.seal(this);
    }

    void load(std::vector<std::uint8_t> flash)
    {
        chip::Firmware firmware;
        firmware.flash = std::move(flash);
        mcu->loadProgram(firmware);
        mcu->powerOn();
    }
    void to(Time goal)
    {
        // Never past the chip, which may come back early.
        while (mcu->now() < goal && !mcu->faulted() && !mcu->inReset()) {
            mcu->run(goal);
            queue.advanceTo(std::min({goal, queue.nextDue(), mcu->now()}));
        }
    }

    kernel::EventQueue queue;
    circuit::Circuit circuit;
    std::unique_ptr<chip::Mcu> mcu;

private:
    static chip::McuOptions optionsOf(const chip::Device& device)
    {
        chip::McuOptions out;
        out.supplyVolts = device.supply.usualVolts;
        out.clockHz = device.usualHz;
        return out;
    }
    void remark(chip::Weight, const char*, const std::string&, std::uint32_t, Time) override {}
    void exceptionEntered(unsigned, Time) override {}
    void exceptionReturned(Time) override {}
    void netChanged(circuit::NetId, circuit::NetState, Time, circuit::Cause) override {}
    void trouble(circuit::Trouble, circuit::NetId, circuit::PinId, circuit::PinId, double, Time, circuit::Cause) override {}
};

// Addresses at which something begins or ends, and their neighbours; the ends of 16 and 32 bits.
std::vector<std::uint64_t> corners(const chip::Device& device)
{
    std::vector<std::uint64_t> out;
    const auto around = [&out](std::uint64_t at) {
        for (int d = -4; d <= 4; ++d)
            out.push_back((at + static_cast<std::uint64_t>(d)) & 0xFFFFFFFFU);
    };
    for (const std::uint64_t at : {0ULL, 0xFFFFULL, 0x7FFFFFFFULL, 0xFFFFFFFFULL})
        around(at);
    for (const chip::MemoryRegion& r : device.regions) {
        around(r.begin);
        around(r.begin + r.size);
    }
    around(device.codeEnd);
    around(device.peripheralBegin);
    around(device.peripheralEnd);
    return out;
}

}  // namespace

class EveryChipTest : public QObject {
    Q_OBJECT

    static void lookAround(chip::Mcu& mcu)
    {
        const chip::Device& device = mcu.device();
        std::array<std::uint8_t, 16> bytes{};
        for (const std::uint64_t at : corners(device)) {
            for (chip::SpaceId space = 0; space < device.spaces.size(); ++space)
                QVERIFY(mcu.read(space, at, bytes) <= bytes.size());
            (void)mcu.readData(at);
            const chip::InstructionInfo info = mcu.instructionAt(static_cast<std::uint32_t>(at));
            QVERIFY(info.size <= device.longestInstruction);
            QVERIFY(chip::decode(device, mcu.code(), static_cast<std::uint32_t>(at)).size <= device.longestInstruction);
        }
        (void)mcu.nextAccess();
        (void)mcu.instructionAt(mcu.codeAddress());
        for (std::size_t r = 0; r < device.coreRegisters.size(); ++r)
            (void)mcu.readRegister(r);
    }

private slots:
    void looking_data()
    {
        QTest::addColumn<const chip::Device*>("device");
        for (const chip::Device* d : chip::allDevices())
            QTest::newRow(d->id.c_str()) << d;
    }

    // As it comes from its maker: nobody has loaded anything yet.
    void looking()
    {
        QFETCH(const chip::Device*, device);
        Alone alone(*device);
        alone.mcu->powerOn();
        lookAround(*alone.mcu);
        for (int i = 1; i <= 4; ++i) {
            alone.to(Time(500us * i));
            lookAround(*alone.mcu);
        }
        for (int i = 0; i < 50; ++i) {
            alone.mcu->stepInstruction(alone.mcu->now() + std::chrono::microseconds(100));
            (void)alone.mcu->instructionAt(alone.mcu->codeAddress());
            (void)alone.mcu->nextAccess();
        }
    }

    void noise_data() { looking_data(); }

    // Noise as a program: it goes where it wants, reads and writes anything, and may stop for good. Looked at, saved and put back half way, it comes to the same end.
    void noise()
    {
        QFETCH(const chip::Device*, device);
        const std::size_t size = std::min<std::size_t>(std::size_t{device->codeEnd - device->codeBegin} * device->codeUnitBytes, 65'536);
        for (unsigned seed = 1; seed <= 40; ++seed) {
            std::mt19937 random(seed);
            std::vector<std::uint8_t> image(size);
            for (std::uint8_t& byte : image)
                byte = static_cast<std::uint8_t>(random());
            // So that it begins somewhere where there are vectors at the start.
            if (device->coreRegisters.size() > 4 && device->pointerBytes == 4 && seed % 2 == 0) {
                const auto word = [&](std::size_t at, std::uint64_t value) {
                    for (unsigned b = 0; b < 4; ++b)
                        image[at + b] = static_cast<std::uint8_t>(value >> (8 * b));
                };
                word(0, device->ramEnd & ~7ULL);
                word(4, device->codeBegin + 0x201);
            }
            const auto come = [&](bool putBack) {
                Alone alone(*device);
                alone.load(image);
                if (putBack) {
                    alone.to(Time(100us));
                    lookAround(*alone.mcu);
                    kernel::SaveArchive saved;
                    alone.mcu->save(saved);
                    const kernel::Snapshot kept = saved.take();
                    kernel::LoadArchive back(kept);
                    alone.mcu->load(back);
                }
                alone.to(Time(300us));
                lookAround(*alone.mcu);
                std::vector<std::uint64_t> out{static_cast<std::uint64_t>(alone.mcu->cycles()), static_cast<std::uint64_t>(alone.mcu->instructions()), alone.mcu->codeAddress()};
                for (std::size_t r = 0; r < device->coreRegisters.size(); ++r)
                    out.push_back(alone.mcu->readRegister(r));
                return out;
            };
            QCOMPARE(come(true), come(false));
        }
    }
};

QTEST_APPLESS_MAIN(EveryChipTest)
#include "every_chip_test.moc"
