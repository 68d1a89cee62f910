// PIC controllers by what their pins and registers do, against the figures of their data sheets.
#include <QtTest>

#include "chip/lone_chip.h"
#include "chip/pic16/pic_program.h"
#include "kernel/archive.h"

using namespace bramix;
using namespace bramix::test;
using namespace std::chrono_literals;

class Pic16Test : public QObject {
    Q_OBJECT

    QTemporaryDir folder_;

    std::unique_ptr<LoneChip> load(const char* device, const QString& source, chip::McuOptions options = {})
    {
        const QString hex = pic::assemble(folder_, QString(device).mid(3), source);
        auto bench = std::make_unique<LoneChip>(device, 5.0, std::move(options));
        return !hex.isEmpty() && bench->load(hex) ? std::move(bench) : nullptr;
    }
    static unsigned at(const LoneChip& b, unsigned address) { return b.chip->readData(address); }
    static void families()
    {
        QTest::addColumn<QString>("device");
        QTest::addColumn<QString>("config");
        QTest::newRow("84a") << "pic16f84a" << "        __config _XT_OSC & _WDT_OFF\n";
        QTest::newRow("88") << "pic16f88" << "        __config _CONFIG1, _XT_OSC & _WDT_OFF & _LVP_OFF\n";
        QTest::newRow("877a") << "pic16f877a" << "        __config _XT_OSC & _WDT_OFF & _LVP_OFF\n";
    }

private slots:
    void initTestCase()
    {
        if (!pic::haveAssembler())
            QSKIP("gputils is not installed");
    }

    // A loop of 6 cycles at 4 MHz: an edge each 3 us, on the cycle.
    void aPinTogglesOnTheCycle_data() { families(); }
    void aPinTogglesOnTheCycle()
    {
        QFETCH(QString, device);
        QFETCH(QString, config);
        const auto b = load(qPrintable(device), config + R"(
        org 0
        banksel TRISB
        clrf    TRISB
        banksel PORTB
loop    bsf     PORTB, 3
        nop
        nop
        bcf     PORTB, 3
        goto    loop
)");
        QVERIFY(b != nullptr);
        b->to(Time(1ms));
        const auto edges = b->edges("RB3");
        QVERIFY(edges.size() > 300);
        for (std::size_t i = 20; i < 120; ++i)
            QCOMPARE((edges[i].at - edges[i - 1].at).count(), std::int64_t{3'000'000});
    }

    // Timer 0 through its prescaler of 8: its interrupt comes each 2048 cycles, and its flag with it. A write stops it for two cycles.
    void timer0Interrupts_data() { families(); }
    void timer0Interrupts()
    {
        QFETCH(QString, device);
        QFETCH(QString, config);
        const auto b = load(qPrintable(device), config + R"(
count   equ 0x2F
        org 0
        goto start
        org 4
        incf    count, f
        movlw   0x10
        xorwf   PORTB, f
        bcf     INTCON, 2
        retfie
start   banksel OPTION_REG
        movlw   0xC2
        movwf   OPTION_REG
        clrf    TRISB
        banksel PORTB
        clrf    count
        clrf    TMR0
        movlw   0xA0
        movwf   INTCON
wait    goto    wait
)");
        QVERIFY(b != nullptr);
        b->to(Time(100ms));
        QCOMPARE(at(*b, 0x2F), 48U);
        const auto edges = b->edges("RB4");
        for (std::size_t i = 6; i < edges.size(); ++i)
            QVERIFY(std::abs((edges[i].at - edges[i - 1].at).count() - 2'048'000'000) <= 1'000'000);
        QVERIFY(b->exceptions.size() >= 48);
        const auto status = b->chip->exception(1);
        QVERIFY2(status.worstLatency >= 3 && status.worstLatency <= 4, qPrintable(QString::number(status.worstLatency)));
    }

    void timer0IsRead()
    {
        // DS35007B figure 5-3: three reads right behind a write see it as written, the next one more.
        const auto b = load("pic16f84a", R"(        __config _XT_OSC & _WDT_OFF
        org 0
        banksel OPTION_REG
        movlw   0xC8
        movwf   OPTION_REG
        banksel TMR0
        movlw   0x40
        movwf   TMR0
        movf    TMR0, w
        movwf   0x20
        movf    TMR0, w
        movwf   0x21
        movf    TMR0, w
        movwf   0x22
        goto    $
)");
        QVERIFY(b && b->toEnd(10'000));
        QCOMPARE(at(*b, 0x20), 0x40U);
        QCOMPARE(at(*b, 0x21), 0x40U);
        QCOMPARE(at(*b, 0x22), 0x42U);
    }

    // The INT pin, and change on RB4 to RB7.
    void pinsInterrupt()
    {
        const auto b = load("pic16f88", R"(        __config _CONFIG1, _XT_OSC & _WDT_OFF & _LVP_OFF
        org 0
        goto start
        org 4
        btfsc   INTCON, 1
        incf    0x70, f
        btfsc   INTCON, 0
        incf    0x71, f
        movf    PORTB, w
        movwf   0x72
        bcf     INTCON, 1
        bcf     INTCON, 0
        retfie
start   banksel ANSEL
        clrf    ANSEL
        banksel INTCON
        clrf    0x70
        clrf    0x71
        movf    PORTB, w
        movlw   0x98
        movwf   INTCON
wait    goto    wait
)");
        QVERIFY(b != nullptr);
        for (const char* pin : {"RB0", "RB4", "RB5", "RB6", "RB7"})
            b->drive(pin, false);
        b->to(Time(1ms));
        QCOMPARE(at(*b, 0x70), 0U);
        for (int i = 1; i <= 5; ++i) {
            b->drive("RB0", true);
            b->forward(100us);
            b->drive("RB0", false);
            b->forward(100us);
            QCOMPARE(at(*b, 0x70), static_cast<unsigned>(i));
        }
        QCOMPARE(at(*b, 0x71), 0U);
        b->drive("RB6", true);
        b->forward(100us);
        QCOMPARE(at(*b, 0x71), 1U);
        QCOMPARE(at(*b, 0x72) & 0xF0U, 0x40U);
        b->drive("RB6", false);
        b->forward(100us);
        QCOMPARE(at(*b, 0x71), 2U);
    }

    // RA4 of the 84A and 877A drives low only; RA5 of the 88 is never driven; inputs that are analog read 0.
    void portsHaveTheirLimits()
    {
        for (const char* device : {"pic16f84a", "pic16f877a"}) {
            const QString source = "        __config _XT_OSC & _WDT_OFF\n        org 0\n        banksel TRISA\n        clrf TRISA\n        banksel PORTA\n        movlw 0xFF\n        movwf PORTA\n        goto $\n";
            const auto b = load(device, source);
            QVERIFY(b != nullptr);
            b->to(Time(1ms));
            QVERIFY(b->state("RA3") == circuit::NetState::high);
            QVERIFY(b->state("RA4") == circuit::NetState::floating);
        }
        const auto b = load("pic16f88", "        __config _CONFIG1, _INTRC_IO & _WDT_OFF & _LVP_OFF & _MCLR_OFF\n        org 0\n        banksel TRISA\n        clrf TRISA\n        banksel PORTA\n        movlw 0xFF\n        movwf PORTA\n        movf PORTA, w\n"
                                        "        movwf 0x70\n        banksel ANSEL\n        clrf ANSEL\n        banksel PORTA\n        movf PORTA, w\n        movwf 0x71\n        goto $\n");
        QVERIFY(b != nullptr);
        b->drive("RA5", false);
        b->to(Time(20ms));
        QVERIFY(b->state("RA3") == circuit::NetState::high);
        QVERIFY(b->state("RA5") == circuit::NetState::low);
        // ANS0 to ANS4 are RA0 to RA4.
        QCOMPARE(at(*b, 0x70), 0xC0U);
        QCOMPARE(at(*b, 0x71), 0xDFU);
        // The internal oscillator begins at 31.25 kHz.
        QCOMPARE(b->chip->clock().hz(), std::uint64_t{31'250 / 4});
    }

    // 15.12, 15.14: the watchdog wakes from sleep each 18 ms, and TO and PD say so; while awake it resets.
    void theWatchdogWakesAndResets()
    {
        const auto b = load("pic16f84a", R"(        __config _XT_OSC & _WDT_ON
        org 0
        btfss   STATUS, 4
        goto    bitten
        banksel OPTION_REG
        movlw   0xCF - 7
        movwf   OPTION_REG
        banksel PORTA
        clrf    0x20
again   sleep
        incf    0x20, f
        movf    STATUS, w
        movwf   0x21
        movlw   5
        xorwf   0x20, w
        btfss   STATUS, 2
        goto    again
stay    goto    stay
bitten  movlw   0x77
        movwf   0x22
        movf    STATUS, w
        movwf   0x23
done    clrwdt
        goto    done
)");
        QVERIFY(b != nullptr);
        b->to(Time(80ms));
        QCOMPARE(at(*b, 0x20), 4U);
        QCOMPARE(at(*b, 0x21) & 0x18U, 0U);
        b->to(Time(105ms));
        QCOMPARE(at(*b, 0x20), 5U);
        b->to(Time(112ms));
        QCOMPARE(at(*b, 0x22), 0x77U);
        QCOMPARE(at(*b, 0x23) & 0x18U, 0x08U);
        QVERIFY(b->noted("watchdog-reset"));
        QCOMPARE(b->resets.back(), 2U);
    }

    // 3.0: a byte is written by 0x55, 0xAA and WR, takes its time, and says when it is done; it outlives a reset.
    void theEepromKeeps_data() { families(); }
    void theEepromKeeps()
    {
        QFETCH(QString, device);
        QFETCH(QString, config);
        const auto b = load(qPrintable(device), config + R"(
        org 0x2100
        de  0x11, 0x22, 0x33
        org 0
        banksel EEADR
        movlw   1
        movwf   EEADR
        movlw   0x5A
        movwf   EEDATA
        banksel EECON1
        bsf     EECON1, WREN
        movlw   0x55
        movwf   EECON2
        movlw   0xAA
        movwf   EECON2
        bsf     EECON1, WR
wait    btfsc   EECON1, WR
        goto    wait
        banksel EEADR
        movlw   2
        movwf   EEADR
        banksel EECON1
        bsf     EECON1, RD
        banksel EEDATA
        movf    EEDATA, w
        bcf     STATUS, RP0
        bcf     STATUS, 6
        movwf   0x2E
        goto    $
)");
        QVERIFY(b && b->toEnd(50'000));
        QCOMPARE(at(*b, 0x2E), 0x33U);
        QCOMPARE(int{b->chip->nonVolatile()[0]}, 0x11);
        QCOMPARE(int{b->chip->nonVolatile()[1]}, 0x5A);
        QVERIFY(b->chip->cycles() > 4000);
        b->chip->setResetLine(false);
        b->chip->setResetLine(true);
        QCOMPARE(int{b->chip->nonVolatile()[1]}, 0x5A);
    }

    // Timer 0 counts edges on RA4.
    void timer0CountsEdges()
    {
        const auto b = load("pic16f877a", R"(        __config _XT_OSC & _WDT_OFF & _LVP_OFF
        org 0
        banksel OPTION_REG
        movlw   0xE8
        movwf   OPTION_REG
        banksel TMR0
        clrf    TMR0
        goto    $
)");
        QVERIFY(b != nullptr);
        b->drive("RA4", false);
        b->to(Time(1ms));
        for (int i = 0; i < 37; ++i) {
            b->drive("RA4", true);
            b->forward(20us);
            b->drive("RA4", false);
            b->forward(20us);
        }
        QCOMPARE(at(*b, 1), 37U);
    }

    void banksAndMirrorsAreThoseOfTheMap()
    {
        const auto b = load("pic16f88", R"(        __config _CONFIG1, _XT_OSC & _WDT_OFF & _LVP_OFF
        org 0
        movlw   0xA1
        movwf   0x70
        bsf     STATUS, 7
        movlw   0xA0
        movwf   FSR
        movlw   0x99
        movwf   INDF
        bcf     STATUS, 7
        movlw   0x20
        movwf   FSR
        movlw   0x55
        movwf   INDF
        banksel 0x1A0
        movf    0x1A0, w
        movwf   0x71
        goto    $
)");
        QVERIFY(b && b->toEnd(1000));
        for (const unsigned bank : {0x70U, 0xF0U, 0x170U, 0x1F0U})
            QCOMPARE(at(*b, bank), 0xA1U);
        QCOMPARE(at(*b, 0x20), 0x55U);
        QCOMPARE(at(*b, 0x1A0), 0x99U);
        QCOMPARE(at(*b, 0x71), 0x99U);
    }

    void theNinthCallIsTold()
    {
        QString source = "        __config _XT_OSC & _WDT_OFF\n        org 0\n        call f1\n        goto $\n";
        for (int i = 1; i < 10; ++i)
            source += QString("f%1     call f%2\n        return\n").arg(i).arg(i + 1);
        const auto b = load("pic16f84a", source + "f10     return\n");
        QVERIFY(b != nullptr);
        b->to(Time(1ms));
        QVERIFY(b->noted("stack-overflow"));
    }

    void aSnapshotGoesOnAlike()
    {
        const auto b = load("pic16f84a", "        __config _XT_OSC & _WDT_OFF\n        org 0\n        goto s\n        org 4\n        incf 0x20, f\n        bcf INTCON, 2\n        retfie\ns       clrf 0x20\n        banksel OPTION_REG\n        movlw 0xC0\n        movwf OPTION_REG\n"
                                         "        banksel TMR0\n        movlw 0xA0\n        movwf INTCON\nl       incf 0x21, f\n        goto l\n");
        QVERIFY(b != nullptr);
        for (int i = 1; i < 30; ++i) {
            b->to(Time(1ms * i) + 137us);
            kernel::SaveArchive save;
            b->chip->save(save);
            const kernel::Snapshot kept = save.take();
            kernel::LoadArchive load(kept);
            b->chip->load(load);
        }
        b->to(Time(100ms));
        QCOMPARE(at(*b, 0x20), (100'000U / 512) & 255U);
    }

    // Without its crystal it waits, and says so.
    void withoutAClockItWaits()
    {
        chip::McuOptions options;
        options.hasCrystal = false;
        const auto b = load("pic16f84a", "        __config _HS_OSC & _WDT_OFF\n        org 0\n        goto $\n", options);
        QVERIFY(b != nullptr);
        b->to(Time(1ms));
        QVERIFY(b->chip->inReset() && b->noted("no-clock"));
    }
};

QTEST_GUILESS_MAIN(Pic16Test)
#include "pic16_test.moc"
