// Several chips in one time: one that sleeps holds nobody up, and is woken to the cycle, by another chip's pin and by its own timer.
#include <QtTest>

#include <set>

#include "bench/catalogue.h"
#include "debug/compiled.h"
#include "session/session.h"

using namespace bramix;
using namespace std::chrono_literals;
using kernel::Time;

namespace {

constexpr std::int64_t kCyclePicos = 62'500;  // of 16 MHz

// Toggles PB0 as fast as it can at each edge of INT0, and PB2 every 1000 cycles by Timer1; sleeps in between.
const char* const kSleeper = R"(
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>
ISR(INT0_vect, ISR_NAKED) { asm volatile("sbi %0, 0\n reti" ::"I"(_SFR_IO_ADDR(PINB))); }
ISR(TIMER1_COMPA_vect, ISR_NAKED) { asm volatile("sbi %0, 2\n reti" ::"I"(_SFR_IO_ADDR(PINB))); }
int main(void)
{
    DDRB = 5;
    EICRA = 1;
    EIMSK = 1;
#ifdef TICKS
    TCCR1B = (1 << WGM12) | (1 << CS10);
    OCR1A = 999;
    TIMSK1 = 1 << OCIE1A;
#endif
    sei();
    for (;;)
        sleep_mode();
}
)";

// Toggles PB1 at growing distances, so that no two edges fall alike.
const char* const kCaller = R"(
#include <avr/io.h>
int main(void)
{
    DDRB = 2;
    for (unsigned char n = 20;; n++) {
        PINB = 2;
        for (volatile unsigned char i = 0; i < n; i++)
            ;
    }
}
)";

}  // namespace

class SeveralChipsTest : public QObject {
    Q_OBJECT

    bench::Catalogue catalogue_;
    QTemporaryDir folder_;

    std::unique_ptr<session::Session> open(const QString& caller, const QString& sleeper)
    {
        const std::string text = "bramix = 1\n[[part]]\nid = \"caller\"\nkind = \"briar-328\"\nfirmware = \"" + caller.toStdString() + "\"\n[[part]]\nid = \"sleeper\"\nkind = \"briar-328\"\nat = [40, 0]\nfirmware = \"" +
                                 sleeper.toStdString() + "\"\n[[wire]]\nends = [\"caller.PB1\", \"sleeper.PD2\"]\n[[wire]]\nends = [\"caller.GND\", \"sleeper.GND\"]\n";
        auto document = bench::parseDocument("two.toml", text);
        if (!document)
            return nullptr;
        auto s = session::Session::open(*document, catalogue_, {});
        return s ? std::move(*s) : nullptr;
    }

    static std::vector<std::int64_t> edges(session::Session& s, const bench::PinRef& pin)
    {
        std::vector<std::int64_t> out;
        const auto channel = s.channelOf(pin);
        for (std::size_t i = 1; i < s.tape().count(channel); ++i)
            out.push_back(s.tape().edge(channel, i).at.time_since_epoch().count());
        return out;
    }

private slots:
    void initTestCase()
    {
        auto loaded = bench::Catalogue::loadInstalled();
        QVERIFY(loaded.has_value());
        catalogue_ = std::move(*loaded);
    }

    // From the edge of one chip to the answer of the other: 1.5 cycles of the synchroniser at least, the interrupt's 4 cycles and 4 more out of idle
    // (ATmega328P 11.7.1, 7.7.1), the vector's jump of 3, SBI of 2. Both clocks have one phase, so it is the same each time.
    void aSleeperAnswersToTheCycle()
    {
        const auto s = open(test::compile(folder_, kCaller, {"-Os"}), test::compile(folder_, kSleeper, {"-Os"}));
        QVERIFY(s);
        s->advance(Time(20ms));
        const auto calls = edges(*s, {"caller", "PB1"}), answers = edges(*s, {"sleeper", "PB0"});
        QVERIFY2(calls.size() > 100, qPrintable(QString::number(calls.size())));
        std::set<std::int64_t> latencies;
        std::size_t k = 0;
        int paired = 0;
        for (const std::int64_t call : calls) {
            while (k < answers.size() && answers[k] <= call)
                ++k;
            if (k == answers.size())
                break;
            latencies.insert(answers[k] - call);
            ++paired;
        }
        QVERIFY(paired > 100);
        QCOMPARE(latencies.size(), std::size_t{1});
        const double cycles = static_cast<double>(*latencies.begin()) / kCyclePicos;
        QVERIFY2(cycles >= 1.5 + 4 + 4 + 3 + 2 - 1 && cycles <= 2.5 + 4 + 4 + 3 + 2 + 1, qPrintable(QString::number(cycles)));
    }

    // By its own timer too, while the other is at work and wakes it in between.
    void aSleepersTimerKeepsItsPeriod()
    {
        const auto s = open(test::compile(folder_, kCaller, {"-Os"}), test::compile(folder_, kSleeper, {"-Os", "-DTICKS"}));
        QVERIFY(s);
        s->advance(Time(20ms));
        const auto ticks = edges(*s, {"sleeper", "PB2"});
        QVERIFY(ticks.size() > 300);
        // Late by the other interrupt in progress now and then (4 and 4 cycles to enter, 3, 2, and 4 of RETI, one
        // instruction after it, and 4 where that is SLEEP), never adding up.
        std::vector<std::int64_t> late;
        for (std::size_t i = 0; i < ticks.size(); ++i)
            late.push_back(ticks[i] - static_cast<std::int64_t>(i) * 1000 * kCyclePicos);
        const auto [least, most] = std::minmax_element(late.begin(), late.end());
        QVERIFY2(*most - *least <= (4 + 4 + 3 + 2 + 4 + 4 + 4) * kCyclePicos, qPrintable(QString::number(static_cast<double>(*most - *least) / kCyclePicos)));
        // The one that is at work is not disturbed by the other.
        const auto alone = open(test::compile(folder_, kCaller, {"-Os"}), "");
        QVERIFY(alone);
        alone->advance(Time(20ms));
        QVERIFY(edges(*s, {"caller", "PB1"}) == edges(*alone, {"caller", "PB1"}));
    }

    // In slices of any length the run is the same.
    void slicesDoNotMatter()
    {
        const QString caller = test::compile(folder_, kCaller, {"-Os"}), sleeper = test::compile(folder_, kSleeper, {"-Os", "-DTICKS"});
        const auto whole = open(caller, sleeper), cut = open(caller, sleeper);
        QVERIFY(whole && cut);
        whole->advance(Time(5ms));
        for (std::int64_t t = 0, step = 1; t < 5'000'000; t += step, step = step % 9'973 + 61)
            cut->advance(Time(std::chrono::nanoseconds(t)));
        cut->advance(Time(5ms));
        for (const bench::PinRef& pin : {bench::PinRef{"caller", "PB1"}, {"sleeper", "PB0"}, {"sleeper", "PB2"}})
            QVERIFY(edges(*whole, pin) == edges(*cut, pin));
    }
};

QTEST_GUILESS_MAIN(SeveralChipsTest)
#include "several_chips_test.moc"
