// Registers in words, against the datasheets' tables; and every register of every chip has its group and its bits.
#include <QtTest>

#include "chip/avr/device.h"
#include "chip/families.h"
#include "debug/register_view.h"

using namespace bramix;
using debug::describeRegister;

class RegisterViewTest : public QObject {
    Q_OBJECT

private:
    std::map<std::uint16_t, std::uint8_t> values_;

    QString words(const chip::Device& chip, const char* name)
    {
        for (const auto& group : chip.registers().peripherals)
            for (const auto& reg : group.registers)
                if (reg.name == name)
                    return QString::fromStdString(describeRegister(chip, reg, [this](std::uint64_t a) { return values_.contains(static_cast<std::uint16_t>(a)) ? values_[static_cast<std::uint16_t>(a)] : std::uint8_t{0}; }).meaning);
        return "no such register";
    }

private slots:
    void wordsSayWhatTheDatasheetSays_data()
    {
        QTest::addColumn<QString>("name");
        QTest::addColumn<QVariantMap>("set");  // address: value
        QTest::addColumn<QString>("said");
        const auto set = [](std::initializer_list<std::pair<int, int>> list) {
            QVariantMap m;
            for (const auto& [a, v] : list)
                m[QString::number(a)] = v;
            return m;
        };
        // ATmega328P datasheet, tables 15-9, 16-4, 16-5, 18-8, 20-8 ff., 24-3 to 24-5, 22-2, 10-1, 13-1.
        QTest::newRow("timer 0: fast PWM, prescaler 64") << "TCCR0B" << set({{0x44, 0x83}, {0x45, 0x03}}) << "clock / 64, fast PWM to 0xFF";
        QTest::newRow("timer 0: outputs") << "TCCR0A" << set({{0x44, 0xB3}}) << "OC0A non-inverting, OC0B inverting, fast PWM to 0xFF";
        QTest::newRow("timer 1: CTC") << "TCCR1B" << set({{0x81, 0x0D}}) << "clock / 1024, counts to OCRA";
        QTest::newRow("timer 1: mode 10") << "TCCR1B" << set({{0x80, 0x02}, {0x81, 0x12}}) << "clock / 8, phase-correct PWM to ICR";
        QTest::newRow("timer 2 has its own prescaler") << "TCCR2B" << set({{0xB1, 0x04}}) << "clock / 64, counts to 0xFF";
        QTest::newRow("UART: 7E2") << "UCSR0C" << set({{0xC2, 0x2C}}) << "7 bits, even parity, 2 stop bits";
        QTest::newRow("UART: 8N1") << "UCSR0C" << set({{0xC2, 0x06}}) << "8 bits, no parity, 1 stop bit";
        QTest::newRow("ADC") << "ADMUX" << set({{0x7C, 0x63}}) << "reference AVCC, pin ADC3, left adjusted";
        QTest::newRow("ADC on") << "ADCSRA" << set({{0x7A, 0xCF}}) << "on, converting, clock / 128, interrupt on";
        QTest::newRow("SPI mode 3") << "SPCR" << set({{0x4C, 0x5D}}) << "master, mode 3, clock / 16";
        QTest::newRow("SPI off") << "SPCR" << set({{0x4C, 0x10}}) << "off";
        QTest::newRow("two-wire status") << "TWSR" << set({{0xB9, 0x20}}) << "address for writing not acknowledged";
        QTest::newRow("external interrupts") << "EICRA" << set({{0x69, 0x0B}}) << "INT0 rising edge, INT1 falling edge";
        QTest::newRow("sleep") << "SMCR" << set({{0x53, 0x07}}) << "power-save, sleep allowed";
        QTest::newRow("directions") << "DDRB" << set({{0x24, 0x24}}) << "outputs: PB2, PB5";
        QTest::newRow("watchdog") << "WDTCSR" << set({{0x60, 0x4E}}) << "resets, interrupts, after 1024 ms";
        QTest::newRow("interrupt mask") << "TIMSK1" << set({{0x6F, 0x02}}) << "compare A interrupt on";
        QTest::newRow("flags") << "TIFR1" << set({{0x36, 0x05}}) << "compare B has matched, has overflowed";
    }

    void wordsSayWhatTheDatasheetSays()
    {
        QFETCH(QString, name);
        QFETCH(QVariantMap, set);
        QFETCH(QString, said);
        values_.clear();
        for (auto it = set.cbegin(); it != set.cend(); ++it)
            values_[static_cast<std::uint16_t>(it.key().toInt())] = static_cast<std::uint8_t>(it.value().toInt());
        const QString words = this->words(*chip::findDevice("atmega328p"), name.toUtf8());
        if (name == "TIFR1" || name == "EICRA" || name == "TIMSK1")
            QVERIFY2(said.split(", ").size() == words.split(", ").size() && std::ranges::all_of(said.split(", "), [&](const QString& s) { return words.contains(s); }), qPrintable(words));
        else
            QCOMPARE(words, said);
    }

    void everyRegisterStandsInOneGroup()
    {
        for (const chip::Device* device : chip::allDevices()) {
            if (device->family != "avr")
                continue;
            std::size_t count = 0;
            for (const auto& group : device->registers().peripherals) {
                QVERIFY(!group.name.empty() && group.name.find('%') == std::string::npos);
                count += group.registers.size();
            }
            QCOMPARE(count, chip::avr::tableOf(*device).registers.size());
        }
        const auto& groups = chip::findDevice("atmega328p")->registers().peripherals;
        QCOMPARE(groups[0].name, std::string("Port B"));
        QCOMPARE(groups[0].registers[0].name, std::string("PORTB"));
    }

    void anyValueOfAnyRegisterCanBeDescribed()
    {
        for (const chip::Device* chip : chip::allDevices())
            for (const auto& group : chip->registers().peripherals)
                for (const auto& reg : group.registers)
                    for (int v = 0; v < 256; ++v) {
                    const auto text = describeRegister(*chip, reg, [v](std::uint64_t) { return static_cast<std::uint8_t>(v); });
                    QCOMPARE(text.bits[0].value, v >= 128);
                    QVERIFY(text.meaning.find('@') == std::string::npos && text.meaning.find('#') == std::string::npos);
                }
    }
};

QTEST_APPLESS_MAIN(RegisterViewTest)
#include "register_view_test.moc"
