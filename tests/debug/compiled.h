// Firmware for the tests of the debug floor: one source of a canal lock's keeper, compiled by the real compiler in several ways.
#pragma once

#include <QtTest>

#include <QDir>
#include <QFile>
#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>

namespace bramix::test {

// Structures, bit fields, enumerations, an interrupt that calls, an inlined function, a table in flash, recursion.
inline const char* const kKeeper = R"(#include <avr/io.h>
#include <avr/interrupt.h>
#include <avr/eeprom.h>
#include <stdint.h>
enum aspect { BOATS_STOP, GATES_MOVING = 3, BOATS_GO };
struct gate { uint8_t open : 1; uint8_t speed : 3; uint16_t cm; struct gate *next; };
struct gate gates[2];
volatile uint16_t ticks;
volatile enum aspect shown = GATES_MOVING;
uint8_t history[5][2] = {{3, 4}, {5, 6}};
float level = 2.25f;
const char *name = "withy";
int32_t deep = -70000;
uint8_t EEMEM kept = 7;
static inline __attribute__((always_inline)) uint16_t twice(uint16_t v)
{
    uint16_t w = v * 2;
    PORTB = (uint8_t)w;
    return w;
}
static __attribute__((noinline)) uint16_t mean(const uint8_t *values, uint8_t count)
{
    uint16_t sum = 0;
    for (uint8_t i = 0; i < count; i++)
        sum += values[i];
    return sum / count;
}
__attribute__((noinline)) uint16_t ladder(uint8_t rungs)
{
    if (rungs == 0)
        return 1;
    uint16_t below = ladder(rungs - 1);
    return below + rungs;
}
ISR(TIMER1_COMPA_vect)
{
    static uint8_t calls;
    calls++;
    ticks += mean(history[0], 2);
}
int main(void)
{
    uint8_t local[4] = {9, 8, 7, PINC};
    DDRB = 0xFF;
    OCR1A = 499;
    TCCR1B = (1 << WGM12) | (1 << CS10);
    TIMSK1 = 1 << OCIE1A;
    gates[0].next = &gates[1];
    sei();
    for (;;) {
        gates[0].cm = mean(local, 4) + twice(ticks);
        gates[0].open ^= 1;
        gates[1].speed = 5;
        gates[1].cm = ladder(3);
        if (gates[0].open)
            shown = BOATS_GO;
        else
            shown = BOATS_STOP;
    }
}
)";

inline bool haveCompiler() { return !QStandardPaths::findExecutable("avr-gcc").isEmpty(); }

// Compiles a source; the ELF's path, or empty with a message in the log.
inline QString compile(const QTemporaryDir& folder, const QString& source, const QStringList& options, const QString& suffix = "c", const QString& chip = "atmega328p")
{
    static int count = 0;
    const QString place = QString::number(++count);
    QDir(folder.path()).mkpath(place);
    const QString base = folder.filePath(place + "/keeper");
    QFile file(base + "." + suffix);
    if (!file.open(QIODevice::WriteOnly))
        return {};
    file.write(source.toUtf8());
    file.close();
    QProcess compiler;
    compiler.start(suffix == "cpp" ? "avr-g++" : "avr-gcc", QStringList{"-mmcu=" + chip, suffix == "S" ? QString("-Wall") : "-std=" + QString(suffix == "cpp" ? "gnu++14" : "gnu11"), "-o", base + ".elf", file.fileName()} + options);
    if (!compiler.waitForFinished(60'000) || compiler.exitCode() != 0) {
        qWarning("%s", compiler.readAllStandardError().constData());
        return {};
    }
    return base + ".elf";
}

// What a program prints.
inline QString output(const QString& program, const QStringList& arguments)
{
    QProcess p;
    p.start(program, arguments);
    return p.waitForFinished(60'000) ? QString::fromLocal8Bit(p.readAllStandardOutput()) : QString();
}

// The line of a text in a source, from 1.
inline int lineOf(const QString& source, const QString& text)
{
    const qsizetype at = source.indexOf(text);
    return at < 0 ? -1 : static_cast<int>(source.left(at).count('\n')) + 1;
}

}  // namespace bramix::test
