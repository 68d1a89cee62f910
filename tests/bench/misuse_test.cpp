// What is told of firmware that misuses its chip: for each rule a program that raises it, and a near twin that must not. Both are built with avr-gcc and run on a bench.
#include <QtTest>

#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>

#include "bench/document.h"
#include "bench/world.h"

using namespace bramix;
using namespace bramix::bench;
using namespace std::chrono_literals;

namespace {

// A board, or a chip alone where its supply or its crystal is what it is about.
const char* const kBoard = "[[part]]\nid = \"m\"\nkind = \"briar-328\"\nat = [0, 0]\n";
const char* const kBus = "[[part]]\nid = \"m\"\nkind = \"briar-328\"\nat = [0, 0]\n[[part]]\nid = \"a\"\nkind = \"resistor\"\nat = [60, 0]\nset = { resistance = \"4k7\" }\n"
                         "[[part]]\nid = \"b\"\nkind = \"resistor\"\nat = [60, 4]\nset = { resistance = \"4k7\" }\n"
                         "[[wire]]\nends = [\"a.1\", \"m.PC4\"]\n[[wire]]\nends = [\"b.1\", \"m.PC5\"]\n[[wire]]\nends = [\"a.2\", \"m.5V\"]\n[[wire]]\nends = [\"b.2\", \"m.5V\"]\n";
const char* const kChip = "[[part]]\nid = \"m\"\nkind = \"atmega328p\"\nat = [0, 0]\nset = { CKDIV8 = \"1\" }\n[[part]]\nid = \"v\"\nkind = \"supply-5v\"\nat = [40, 0]\n[[part]]\nid = \"g\"\nkind = \"ground\"\nat = [40, 9]\n"
                          "[[wire]]\nends = [\"v.V\", \"m.VCC\"]\n[[wire]]\nends = [\"g.V\", \"m.GND\"]\n";
const char* const kAnalogSupply = "[[wire]]\nends = [\"v.V\", \"m.AVCC\"]\n";
const char* const kKey = "[[part]]\nid = \"k\"\nkind = \"push-button\"\nat = [60, 0]\nset = { bounce = \"off\" }\n[[wire]]\nends = [\"k.1\", \"m.PD2\"]\n[[wire]]\nends = [\"k.2\", \"m.GND\"]\n";

}  // namespace

class MisuseTest : public QObject {
    Q_OBJECT

private slots:
    void firmwareIsToldWhatItDoesWrong_data()
    {
        QTest::addColumn<QString>("rule");
        QTest::addColumn<QString>("badBench");
        QTest::addColumn<QString>("goodBench");
        QTest::addColumn<QString>("bad");
        QTest::addColumn<QString>("good");
        const auto row = [](const char* rule, const QString& bench, const char* bad, const char* good) { QTest::newRow(rule) << rule << bench << bench << bad << good; };
        const auto benches = [](const char* rule, const QString& badBench, const QString& goodBench, const char* code) { QTest::newRow(rule) << rule << badBench << goodBench << code << code; };
        const QString board = kBoard;
        row("adc-channel", board, "ADMUX = 0x49; ADCSRA = 0xC7; while (ADCSRA & 0x40) {}", "ADMUX = 0x43; ADCSRA = 0xC7; while (ADCSRA & 0x40) {}");
        benches("adc-supply", kChip, QString(kChip) + kAnalogSupply, "ADMUX = 0x43; ADCSRA = 0xC6; while (ADCSRA & 0x40) {}");
        row("adc-clock", board, "ADMUX = 0x43; ADCSRA = 0xC1; while (ADCSRA & 0x40) {}", "ADMUX = 0x43; ADCSRA = 0xC7; while (ADCSRA & 0x40) {}");
        row("edge-asleep", board + kKey, "PORTD = 4; EICRA = 2; EIMSK = 1; sei(); set_sleep_mode(SLEEP_MODE_PWR_DOWN); sleep_mode();",
            "PORTD = 4; EICRA = 0; EIMSK = 1; sei(); set_sleep_mode(SLEEP_MODE_PWR_DOWN); sleep_mode();");
        row("eeprom-busy", board, "eeprom_write_byte((uint8_t *)5, 7); EECR |= 1;", "eeprom_write_byte((uint8_t *)5, 7); eeprom_busy_wait(); EECR |= 1;");
        row("sleep-disabled", board, "SMCR = 0; sleep_cpu();", "SMCR = 1; TIMSK0 = 1; TCCR0B = 1; sei(); sleep_cpu();");
        row("timer-busy", board, "ASSR = 0x20; TCNT2 = 1; TCNT2 = 2;", "ASSR = 0x20; TCNT2 = 1; OCR2A = 2;");
        row("twi-collision", kBus, "TWBR = 72; TWCR = 0xA4; TWDR = 0x40;", "TWBR = 72; TWCR = 0xA4; while (!(TWCR & 0x80)) {} TWDR = 0x40;");
        benches("twi-pull-up", board, kBus, "TWBR = 72; TWCR = 0xA4; _delay_ms(1);");
        row("uart-overwrite", board, "UBRR0 = 103; UCSR0B = 8; UDR0 = 1; UDR0 = 2; UDR0 = 3;", "UBRR0 = 103; UCSR0B = 8; UDR0 = 1; UDR0 = 2; while (!(UCSR0A & 0x20)) {} UDR0 = 3;");
        row("timed-sequence", board, "CLKPR = 1;", "CLKPR = 0x80; CLKPR = 0;");
        row("power-reduced", board, "PRR = 0x80; TWBR = 1;", "PRR = 0; TWBR = 1;");
        row("no-handler", board, "TIMSK1 = 1; TCCR1B = 1; sei(); for (;;) {}", "TIMSK0 = 1; TCCR0B = 1; sei(); for (;;) {}");
        row("stack-in-data", board, "deep(130);", "deep(40);");  // some 14 bytes a call; 1536 are free
        row("spm-section", board, "boot_page_erase(0x4000);", "SPMCSR = 0;");
        row("write-protected", board, "TCCR1A = 0; TCCR1B = 0; ICR1 = 500;", "TCCR1A = 2; TCCR1B = 0x18; ICR1 = 500;");
        row("reserved-bits", board, "EIMSK = 0x80;", "EIMSK = 0x02; EIMSK = 0;");
        row("spi-collision", board, "DDRB = 0x2C; SPCR = 0x53; SPDR = 1; SPDR = 2;", "DDRB = 0x2C; SPCR = 0x53; SPDR = 1; while (!(SPSR & 0x80)) {} SPDR = 2;");
        row("adc-reference", board, "ADMUX = 0x83; ADCSRA = 0xC7; while (ADCSRA & 0x40) {}", "ADMUX = 0x43; ADCSRA = 0xC7; while (ADCSRA & 0x40) {}");
        row("reserved-register", board, "*(volatile uint8_t *)0xFF = 1;", "GPIOR1 = 1;");
        row("unwritten-ram", board, "volatile uint8_t b = *(volatile uint8_t *)0x700; (void)b;", "*(volatile uint8_t *)0x700 = 1; volatile uint8_t b = *(volatile uint8_t *)0x700; (void)b;");
        benches("spi-master-lost", board + "[[wire]]\nends = [\"m.PB2\", \"m.GND\"]\n", board, "PORTB = 4; DDRB = 0x28; SPCR = 0x53; _delay_ms(1);");
        row("uart-overrun", board, "UBRR0 = 103; UCSR0B = 0x10; for (;;) {}", "UBRR0 = 103; UCSR0B = 0x10; for (;;) if (UCSR0A & 0x80) PORTB = UDR0;");
        benches("uart-framing", board + "set = { baud = \"4800\" }\n", board, "UBRR0 = 103; UCSR0B = 0x10; for (;;) if (UCSR0A & 0x80) PORTB = UDR0;");
        benches("serial-rate", board + "set = { baud = \"4800\" }\n", board, "UBRR0 = 103; UCSR0B = 0x08; for (uint8_t i = 0; i < 40; i++) { while (!(UCSR0A & 0x20)) {} UDR0 = \"lock \"[i % 5]; }");
        benches("lpm-locked", QString(kBoard) + "set = { BLB1 = \"1\" }\n", board, "volatile uint8_t b = pgm_read_byte(0x7F00); (void)b;");
    }

    void firmwareIsToldWhatItDoesWrong()
    {
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        QFETCH(QString, rule);
        QFETCH(QString, badBench);
        QFETCH(QString, goodBench);
        QFETCH(QString, bad);
        QFETCH(QString, good);
        const auto told = run(badBench, bad);
        QVERIFY2(told.contains(rule), qPrintable("told instead: " + told.join(' ')));
        const auto twin = run(goodBench, good);
        QVERIFY2(!twin.contains(rule), "told of the twin too");
    }

    // 16 MHz / 16 / (103 + 1) is 9615 baud; the line's own rate is 4800.
    void theRateThatIsMeasuredIsTold()
    {
        if (QStandardPaths::findExecutable("avr-gcc").isEmpty())
            QSKIP("avr-gcc is not installed");
        const QString slow = QString(kBoard) + "set = { baud = \"4800\" }\n";
        (void)run(slow, "UBRR0 = 103; UCSR0B = 0x08; for (uint8_t i = 0; i < 40; i++) { while (!(UCSR0A & 0x20)) {} UDR0 = \"lock \"[i % 5]; }");
        QVERIFY2(messages_["serial-rate"].contains("9615 baud, measured") && messages_["serial-rate"].contains("4800"), qPrintable(messages_["serial-rate"]));
        (void)run(slow, "UBRR0 = 103; UCSR0B = 0x10; for (;;) if (UCSR0A & 0x80) PORTB = UDR0;");
        QVERIFY2(messages_["uart-framing"].contains("4800 baud, measured") && messages_["uart-framing"].contains("9615"), qPrintable(messages_["uart-framing"]));
        // And a line that is the faster one.
        (void)run(QString(kBoard) + "set = { baud = \"38400\" }\n", "UBRR0 = 103; UCSR0B = 0x08; for (uint8_t i = 0; i < 40; i++) { while (!(UCSR0A & 0x20)) {} UDR0 = \"lock \"[i % 5]; }");
        QVERIFY2(messages_["serial-rate"].contains("9615 baud, measured") && messages_["serial-rate"].contains("38400"), qPrintable(messages_["serial-rate"]));
    }

private:
    QTemporaryDir folder_;
    QMap<QString, QString> messages_;  // of the last run, by rule

    QStringList run(const QString& parts, const QString& code)
    {
        const QString source = folder_.filePath("f.c"), elf = folder_.filePath("f.elf");
        QFile out(source);
        if (!out.open(QIODevice::WriteOnly))
            qFatal("cannot write");
        out.write(("#include <avr/boot.h>\n#include <avr/eeprom.h>\n#include <avr/interrupt.h>\n#include <avr/io.h>\n#include <avr/pgmspace.h>\n#include <avr/sleep.h>\n#include <util/delay.h>\n"
                   "ISR(TIMER0_OVF_vect) {}\nISR(INT0_vect) {}\nstatic volatile uint8_t kept[512] = {1};\n"
                   "static __attribute__((noinline)) uint8_t deep(uint16_t n) { volatile uint8_t here[8]; here[0] = n; return n ? deep(n - 1) + here[0] : kept[n]; }\n"
                   "int main(void) { (void)deep;\n" + code + "\ncli(); for (;;) {} }\n").toUtf8());
        out.close();
        QProcess gcc;
        gcc.setProcessChannelMode(QProcess::MergedChannels);
        gcc.start("avr-gcc", {"-mmcu=atmega328p", "-O1", "-w", "-DF_CPU=16000000UL", "-fno-optimize-sibling-calls", "-o", elf, source});
        if (!gcc.waitForFinished(60'000) || gcc.exitCode() != 0)
            qFatal("%s", gcc.readAll().constData());
        static const Catalogue catalogue = *Catalogue::loadInstalled();
        QString text = "bramix = 1\ntitle = \"t\"\n" + parts;
        text.replace("id = \"m\"\n", "id = \"m\"\nfirmware = \"" + elf + "\"\n");
        const auto document = parseDocument("t", text.toStdString());
        if (!document)
            qFatal("%s", document.error().text().c_str());
        auto world = World::build(*document, catalogue, {}, nullptr);
        if (!world)
            qFatal("%s", world.error().text().c_str());
        (*world)->runUntil(kernel::Time(100ms));
        if (parts.contains("id = \"k\""))
            if (const auto ok = (*world)->setControl("k", "pressed", 1); !ok)
                qFatal("%s", ok.error().text().c_str());
        if (!(*world)->uarts().empty())
            (*world)->send(0, "withy");
        (*world)->runUntil(kernel::Time(200ms));
        QStringList rules;
        messages_.clear();
        for (const Finding& f : (*world)->findings())
            if (!f.message.empty() && (f.code || f.rule == "edge-asleep" || f.rule == "serial-rate")) {
                rules << QString::fromStdString(f.rule);
                messages_[rules.back()] = QString::fromStdString(f.message);
            }
        return rules;
    }
};

QTEST_GUILESS_MAIN(MisuseTest)
#include "misuse_test.moc"
