// bramix-cli as a process: options, exit codes, one-line errors, reports, dumps, a pseudo-terminal that another program opens.
#include <QtTest>

#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <QProcess>
#include <QDir>
#include <QTemporaryDir>
#include <cmath>
#include <csignal>
#include <fcntl.h>
#include <unistd.h>

#include "bench/catalogue.h"
#include "cli/run_options.h"

using namespace bramix;

namespace {

struct Outcome {
    int code = -1;
    QString out, err;
};

Outcome run(const QStringList& arguments, const QByteArray& input = {})
{
    QProcess process;
    process.start(QString(BRAMIX_TEST_BINARIES) + "/bin/bramix-cli", arguments);
    process.write(input);
    process.closeWriteChannel();
    Outcome o;
    if (!process.waitForFinished(60'000))
        return o;
    o.code = process.exitCode();
    o.out = process.readAllStandardOutput();
    o.err = process.readAllStandardError();
    return o;
}

QString example(const char* name) { return QString::fromStdString(bench::shareFolder()) + "/benches/" + name; }

}  // namespace

class CliTest : public QObject {
    Q_OBJECT

private:
    QTemporaryDir folder_;

    QString image(const char* name, std::initializer_list<std::uint16_t> words)
    {
        const QString path = folder_.filePath(QString(name) + ".bin");
        QFile file(path);
        if (file.open(QIODevice::WriteOnly))
            for (const std::uint16_t w : words) {
                file.putChar(static_cast<char>(w));
                file.putChar(static_cast<char>(w >> 8));
            }
        return path;
    }

    static QJsonObject report(const QString& file)
    {
        QFile in(file);
        return in.open(QIODevice::ReadOnly) ? QJsonDocument::fromJson(in.readAll()).object() : QJsonObject();
    }

private slots:
    // An input without an end feeds the line, and the run ends all the same.
    void anEndlessInputWaitsForTheLine()
    {
        QProcess process;
        process.setStandardInputFile("/dev/zero");
        process.start(QString(BRAMIX_TEST_BINARIES) + "/bin/bramix-cli", {"run", example("bell-rope"), "--for", "200ms", "--serial", "mcu.uart0=-"});
        QVERIFY(process.waitForFinished(60'000));
        QCOMPARE(process.exitStatus(), QProcess::NormalExit);
        QCOMPARE(process.exitCode(), 0);
        QVERIFY(process.readAllStandardOutput().contains("Bell tower ready"));
    }

    // `check` exits 1 on an error, 0 once the bench file says why it is not minded; the report of a run keeps the reason.
    void aMutedErrorIsNoErrorAnyMore()
    {
        const auto bench = [this](const char* name, const QByteArray& mute) {
            const QString file = folder_.filePath(name);
            QFile out(file);
            if (!out.open(QIODevice::WriteOnly))
                qFatal("cannot write a bench");
            out.write("bramix = 1\ntitle = \"lamp\"\n[[part]]\nid = \"v\"\nkind = \"supply-5v\"\n[[part]]\nid = \"g\"\nkind = \"ground\"\n[[part]]\nid = \"d\"\nkind = \"led\"\n" + mute
                      + "[[wire]]\nends = [\"v.V\", \"d.A\"]\n[[wire]]\nends = [\"d.K\", \"g.V\"]\n");
            return file;
        };
        const Outcome bad = run({"check", bench("bad.toml", {})});
        QCOMPARE(bad.code, 1);
        QVERIFY(bad.out.contains("error: d: nothing limits the current of d"));
        const QString muted = bench("muted.toml", "mute = { led-without-resistor = \"a flash\" }\n");
        const Outcome good = run({"check", muted});
        QCOMPARE(good.code, 0);
        QVERIFY(good.out.contains("[led-without-resistor: a flash]"));
        const QString file = folder_.filePath("muted.json");
        QCOMPARE(run({"run", muted, "--for", "1ms", "--report", file}).code, 0);
        QCOMPARE(report(file)["findings"].toArray()[0].toObject()["muted"].toString(), "a flash");
    }

    QString bench(const char* name, const QByteArray& text)
    {
        const QString file = folder_.filePath(name);
        QFile out(file);
        if (!out.open(QIODevice::WriteOnly))
            qFatal("cannot write a bench");
        out.write("bramix = 1\ntitle = \"t\"\n" + text);
        return file;
    }
    static QByteArray part(const char* id, const char* kind, const QByteArray& rest = {}) { return QByteArray("[[part]]\nid = \"") + id + "\"\nkind = \"" + kind + "\"\n" + rest; }
    static QByteArray wire(const char* a, const char* b) { return QByteArray("[[wire]]\nends = [\"") + a + "\", \"" + b + "\"]\n"; }

    // A square of 1 kHz from 0 to 5 V behind 50 ohms, through 950 ohms into 1 µF: v(t) = 5 (1 - e^(-t/1ms)) in the first half of a millisecond.
    void tracesAreExactAtEveryBend()
    {
        const QString file = bench("trace.toml", part("s", "generator", "set = { wave = \"square\", frequency = \"1kHz\", inner = \"50\" }\n") + part("r", "resistor", "set = { resistance = \"950\" }\n")
                                                     + part("c", "capacitor", "set = { capacitance = \"1u\", series = \"1u\" }\n") + part("g", "ground") + wire("s.S", "r.1") + wire("r.2", "c.1") + wire("c.2", "g.V") + wire("s.GND", "g.V"));
        const QString csv = folder_.filePath("trace.csv");
        const Outcome o = run({"run", file, "--for", "1200us", "--trace", "c.1,r:current,s.S", "--trace-file", csv, "--quiet"});
        QVERIFY2(o.code == 0, qPrintable(o.err));
        QFile in(csv);
        QVERIFY(in.open(QIODevice::ReadOnly));
        const QList<QByteArray> lines = in.readAll().trimmed().split('\n');
        QCOMPARE(lines[0], QByteArray("time_s,c.1,r:current,s.S"));
        QVERIFY2(lines.size() > 20 && lines.size() < 2000, qPrintable(QString::number(lines.size())));
        double last = -1;
        const auto charging = [](double t) { return 5 * (1 - std::exp(-t / 1e-3)); };
        for (qsizetype i = 1; i < lines.size(); ++i) {
            const QList<QByteArray> words = lines[i].split(',');
            QCOMPARE(words.size(), qsizetype{4});
            const double t = words[0].toDouble(), v = words[1].toDouble(), amps = words[2].toDouble();
            QVERIFY(t > last);
            last = t;
            const double expected = t < 500e-6 ? charging(t) : t < 1e-3 ? charging(500e-6) * std::exp(-(t - 500e-6) / 1e-3) : 5 + (charging(500e-6) * std::exp(-0.5) - 5) * std::exp(-(t - 1e-3) / 1e-3);
            QVERIFY2(std::fabs(v - expected) < 1e-3, qPrintable(QString("%1: %2 against %3").arg(t).arg(v).arg(expected)));
            const double drives = t < 500e-6 || t >= 1e-3 ? 5 : 0;
            QVERIFY2(std::fabs(amps - (drives - expected) / 1000) < 2e-6, qPrintable(QString("%1: %2").arg(t).arg(amps)));
        }
        QCOMPARE(run({"run", file, "--for", "1ms", "--trace", "nothing", "--trace-file", csv}).err.trimmed().section('\n', -1), "--trace: \"nothing\" is no net, pin or current of this bench; expected NET, PART.PIN or PART:current");
    }

    void theReportTellsTheStateOfEveryPart()
    {
        const QString file = bench("state.toml", part("v", "supply-5v") + part("g", "ground") + part("r", "resistor", "set = { resistance = \"1k\" }\n") + part("m", "multimeter") + part("d", "led") + part("x", "led")
                                                     + wire("v.V", "r.1") + wire("r.2", "g.V") + wire("m.+", "v.V") + wire("m.COM", "g.V") + wire("x.A", "v.V") + wire("x.K", "g.V"));
        const QString json = folder_.filePath("state.json");
        QCOMPARE(run({"run", file, "--for", "2s", "--report", json, "--quiet"}).code, 0);
        QHash<QString, QJsonObject> states;
        for (const QJsonValue& p : report(json)["parts"].toArray())
            states[p.toObject()["id"].toString()] = p.toObject()["state"].toObject();
        QCOMPARE(states["m"]["volts"].toDouble(), 5.0);
        QCOMPARE(states["m"]["shows"].toString(), "5 V");
        QCOMPARE(states["r"]["amperes"].toDouble(), 0.005);
        QCOMPARE(states["r"]["watts"].toDouble(), 0.025);
        QCOMPARE(states["v"]["amperes"].toDouble(), 0.0050005);  // and the meter's 10 MΩ
        QVERIFY(states["v"]["joules"].toDouble() > 0.0500);  // and what the LED took before it burnt
        QVERIFY(states["x"]["burnt"].toBool());
        QVERIFY(!states["d"].contains("burnt"));
    }

    // A charged capacitor is worth half of CV², and its source has given CV²; a square wave over a resistor gives by the share of its time.
    void theReportTellsWhatSuppliesHaveGiven()
    {
        const auto given = [&](const QString& file, const char* span) {
            const QString json = folder_.filePath("given.json");
            if (run({"run", file, "--for", span, "--report", json, "--quiet"}).code != 0)
                return QJsonObject();
            for (const QJsonValue& p : report(json)["parts"].toArray())
                if (p.toObject()["id"] == "b")
                    return p.toObject()["state"].toObject();
            return QJsonObject();
        };
        // 9 V with 1 kΩ of its own on 1 kΩ: 4.5 mA; at its leads 4.5 V.
        QJsonObject s = given(bench("given1.toml", part("b", "battery", "set = { voltage = \"9V\", inner = \"1k\" }\n") + part("r", "resistor", "set = { resistance = \"1k\" }\n") + wire("b.+", "r.1") + wire("b.-", "r.2")), "2s");
        QVERIFY2(std::fabs(s["mean_amperes"].toDouble() - 0.0045) < 1e-7, qPrintable(QJsonDocument(s).toJson()));
        QVERIFY2(std::fabs(s["joules"].toDouble() - 0.0045 * 4.5 * 2) < 1e-6, qPrintable(QJsonDocument(s).toJson()));
        // 100 µF through 1 kΩ at 5 V, five time constants and more.
        s = given(bench("given2.toml", part("b", "supply-5v") + part("g", "ground") + part("r", "resistor", "set = { resistance = \"1k\" }\n") + part("c", "capacitor", "set = { capacitance = \"100u\" }\n") + wire("b.V", "r.1") + wire("r.2", "c.1") + wire("c.2", "g.V")), "1s");
        QVERIFY2(std::fabs(s["joules"].toDouble() - 100e-6 * 25) < 100e-6 * 25 * 0.01, qPrintable(QJsonDocument(s).toJson()));
        // Pulses of 10 V behind 50 Ω, 40 % of the time, on 950 Ω: 10 mA, and 9.5 V at the lead.
        s = given(bench("given3.toml", part("b", "generator", "set = { wave = \"pulse\", high = \"10V\", frequency = \"1.3kHz\", duty = \"40\" }\n") + part("r", "resistor", "set = { resistance = \"950\" }\n") + part("g", "ground") + wire("b.S", "r.1") + wire("b.GND", "r.2") + wire("b.GND", "g.V")), "1s");
        QVERIFY2(std::fabs(s["mean_amperes"].toDouble() - 0.004) < 0.004 * 0.01, qPrintable(QJsonDocument(s).toJson()));
        QVERIFY2(std::fabs(s["joules"].toDouble() - 0.038) < 0.038 * 0.01, qPrintable(QJsonDocument(s).toJson()));
        // A board on USB gives what hangs on its 5 V and 3.3 V pins, beside what its chip takes: 5 mA and 3.3 mA, with a cable of no resistance, at USB's 5 V.
        const auto board = [&](const char* more) { return given(bench("given4.toml", part("b", "briar-328", "set = { usb-resistance = \"0\" }\n") + part("r", "resistor", "set = { resistance = \"1k\" }\n") + part("s", "resistor", "set = { resistance = \"1k\" }\n") + more), "1s"); };
        const QJsonObject alone = board(""), loaded = board((wire("b.5V", "r.1") + wire("r.2", "b.GND") + wire("b.3V3", "s.1") + wire("s.2", "b.GND")).constData());
        QVERIFY(alone["mean_amperes"].toDouble() > 0);
        QVERIFY2(std::fabs(loaded["mean_amperes"].toDouble() - alone["mean_amperes"].toDouble() - 0.0083) < 1e-6, qPrintable(QJsonDocument(loaded).toJson()));
        QVERIFY2(std::fabs(loaded["joules"].toDouble() - alone["joules"].toDouble() - 0.0415) < 1e-5, qPrintable(QJsonDocument(loaded).toJson()));
        // Fed by VIN it gives nothing of its own: what feeds VIN does.
        QVERIFY(!given(bench("given5.toml", part("b", "briar-328", "set = { supply = \"VIN\" }\n")), "10ms").contains("mean_amperes"));
    }

    // An output of 25 ohms through 975 into 1 kΩ: half of what it drives. Plotted by the name of its net, by a framework's name of the pin.
    void aSweepHoldsPinsAndPlotsNets()
    {
        const QString file = bench("sweep.toml", part("mcu", "briar-328") + part("r", "resistor", "set = { resistance = \"975\" }\n") + part("s", "resistor", "set = { resistance = \"1k\" }\n")
                                                     + "[[net]]\nname = \"mid\"\npins = [\"r.2\", \"s.1\"]\n" + wire("mcu.D9", "r.1") + wire("s.2", "mcu.GND"));
        const auto at = [&](const char* level) {
            const Outcome o = run({"sweep", file, "--vary", "s.resistance=1k..2k", "--points", "2", "--plot", "mid", "--hold", QString("mcu.D9=") + level});
            if (o.code != 0 || !o.out.startsWith("\"s.resistance [Ω]\",\"mid [V]\""))
                qFatal("%s%s", qPrintable(o.out), qPrintable(o.err));
            return o.out.section('\n', 1, 1).section(',', 1, 1).toDouble();
        };
        QVERIFY(std::fabs(at("1") - 2.5) < 1e-6);
        QVERIFY(std::fabs(at("0")) < 1e-6);
        QVERIFY(std::fabs(at("3V") - 1.5) < 1e-6);
        QCOMPARE(run({"sweep", file, "--vary", "s.resistance=1k..2k", "--plot", "mid", "--hold", "r.1=1"}).err.trimmed(), "--hold: \"r.1\" is no pin of a chip; expected PART.PIN=LEVEL");
    }

    void whatCannotBeWrittenIsNoSuccess()
    {
        const QString bell = example("bell-rope/bench.toml");
        for (const char* option : {"--report", "--record", "--vcd"}) {
            const Outcome o = run({"run", bell, "--for", "20ms", option, "/dev/full", "--quiet", "--serial", "uart0=none"});
            QVERIFY2(o.code == 3, qPrintable(QString("%1: %2 %3").arg(option).arg(o.code).arg(o.err)));
            QVERIFY2(o.err.contains("/dev/full"), qPrintable(o.err));
            QVERIFY(!QFileInfo("/dev/full").isFile());
        }
        // What it names is as it was where the command line is refused.
        const QString kept = folder_.filePath("kept.vcd");
        QFile out(kept);
        QVERIFY(out.open(QIODevice::WriteOnly));
        out.write("mine");
        out.close();
        QCOMPARE(run({"run", bell, "--for", "20ms", "--vcd", kept, "--trace", "nothing", "--trace-file", kept, "--quiet"}).code, 2);
        QVERIFY(out.open(QIODevice::ReadOnly));
        QCOMPARE(out.readAll(), QByteArray("mine"));
    }

    void aFolderIsItsOnlyBench()
    {
        const QString lock = QString::fromStdString(bench::shareFolder()) + "/benches/withy-lock";
        QCOMPARE(run({"run", lock, "--for", "1ms", "--quiet"}).code, 0);
        QCOMPARE(run({"check", lock + "/"}).code, 0);
        QTemporaryDir two;
        for (const char* name : {"a.toml", "b.toml"})
            QVERIFY(QFile::copy(lock + "/bench.toml", two.filePath(name)));
        const Outcome several = run({"check", two.path()});
        QCOMPARE(several.code, 2);
        QVERIFY2(several.err.contains("is a folder; expected a file"), qPrintable(several.err));
    }

    void aFrameworksNameOfAPinCounts()
    {
        const QString file = bench("alias.toml", part("mcu", "briar-328") + part("r", "resistor") + wire("mcu.D9", "r.1") + wire("r.2", "mcu.GND"));
        const QString vcd = folder_.filePath("alias.vcd");
        QVERIFY2(run({"run", file, "--for", "1ms", "--vcd", vcd, "--signals", "mcu.D9", "--quiet"}).code == 0, "dump");
        QFile in(vcd);
        QVERIFY(in.open(QIODevice::ReadOnly));
        QVERIFY(in.readAll().contains(" D9 $end"));
        QCOMPARE(run({"run", file, "--for", "1ms", "--trace", "mcu.D9", "--trace-file", folder_.filePath("alias.csv"), "--quiet"}).code, 0);
    }

    void aLimitBeyondSimulatedTimeIsNone()
    {
        const QString fault = image("late", {0x0000, 0x0001});
        const Outcome o = run({"run", "--chip", "atmega328p", "--firmware", fault, "--max-cycles", "9223372036854775807", "--serial", "uart0=none"});
        QCOMPARE(o.code, 4);
    }

    void exitCodesAndStops_data()
    {
        QTest::addColumn<QStringList>("arguments");
        QTest::addColumn<int>("code");
        QTest::addColumn<QString>("stop");
        QTest::addColumn<QString>("detail");
        const QStringList bell{"run", example("bell-rope/bench.toml")};
        QTest::newRow("time is the goal") << bell + QStringList{"--for", "20ms"} << 0 << "goal" << "time";
        QTest::newRow("cycles are the goal") << bell + QStringList{"--max-cycles", "1000"} << 0 << "goal" << "cycles";
        QTest::newRow("serial matches") << bell + QStringList{"--until-serial", "tower rea", "--for", "1s"} << 0 << "goal" << "serial match";
        QTest::newRow("a pattern that would backtrack for ever") << bell + QStringList{"--until-serial", "(([a-z ]+)+)+#", "--for", "50ms"} << 1 << "limit" << "time";
        QTest::newRow("serial does not match") << bell + QStringList{"--until-serial", "tide", "--for", "50ms"} << 1 << "limit" << "time";
        QTest::newRow("does not halt") << bell + QStringList{"--until-halt", "--max-cycles", "5000"} << 1 << "limit" << "cycles";
        const QString halt = image("halt", {0x94F8, 0xCFFF});  // cli ; rjmp .-2
        QTest::newRow("halts") << QStringList{"run", "--chip", "atmega328p", "--firmware", halt, "--until-halt", "--for", "1s"} << 0 << "goal" << "halt";
        const QString fault = image("fault", {0x0000, 0x0001});
        QTest::newRow("faults") << QStringList{"run", "--chip", "atmega328p", "--firmware", fault, "--for", "1s"} << 4 << "fault"
                                << "mcu: undefined instruction 0x0001, by the instruction at 0x0002, cycle 1";
    }
    void exitCodesAndStops()
    {
        QFETCH(QStringList, arguments);
        QFETCH(int, code);
        QFETCH(QString, stop);
        QFETCH(QString, detail);
        const QString file = folder_.filePath("report.json");
        QFile::remove(file);
        const Outcome o = run(arguments + QStringList{"--report", file});
        QVERIFY2(o.code == code, qPrintable(o.err));
        const QJsonObject r = report(file);
        QCOMPARE(r["stop"].toString(), stop);
        QCOMPARE(r["detail"].toString(), detail);
        const QJsonObject chip = r["chips"].toArray()[0].toObject();
        QCOMPARE(chip["chip"].toString(), "atmega328p");
        QCOMPARE(chip["clock_hz"].toInt(), 16'000'000);
        QVERIFY(chip["cycles"].toInteger() > 0);
        QVERIFY(r.contains("findings") && r.contains("wall_seconds") && r.contains("realtime_factor"));
        if (code == 4)
            QCOMPARE(o.err.trimmed(), detail);
    }

    void unusableInputIsOneLineAndCodeTwo_data()
    {
        QTest::addColumn<QStringList>("arguments");
        QTest::addColumn<QString>("begins");
        const QString bell = example("bell-rope/bench.toml");
        QTest::newRow("nothing") << QStringList{"run"} << "run: nothing to run; expected a bench file, or --chip";
        QTest::newRow("no such bench") << QStringList{"run", "none.toml"} << "none.toml: no such file";
        QTest::newRow("no such chip") << QStringList{"run", "--chip", "z80", "--firmware", "x"} << "--chip: \"z80\" is not known; bramix-cli list chips shows what is";
        QTest::newRow("no firmware") << QStringList{"run", "--chip", "atmega328p"} << "run: a bare chip has nothing to do; expected --firmware FILE";
        QTest::newRow("wrong firmware") << QStringList{"run", bell, "--firmware", bell} << bell + ": offset 0: begins with 0x23; expected an ELF file";
        QTest::newRow("wrong time") << QStringList{"run", bell, "--for", "soon"} << "--for: cannot read \"soon\": expected a time, such as 2s, 350ms or 10us";
        QTest::newRow("wrong pattern") << QStringList{"run", bell, "--until-serial", "("} << "--until-serial: \"(\" is not a regular expression";
        QTest::newRow("wrong control") << QStringList{"run", bell, "--set", "rope.pulled@1s=1"} << "--set: rope: has no live control \"pulled\"; it has pressed";
        QTest::newRow("wrong part") << QStringList{"run", bell, "--set", "bell2.pressed@1s=1"} << "--set: bell2: is not a part with live controls on this bench";
        QTest::newRow("wrong UART") << QStringList{"run", bell, "--send", "uart7@1s=x"} << "--send: \"uart7\" is not a UART here";
        QTest::newRow("wrong escape") << QStringList{"run", bell, "--send", "uart0@1s=\\q"} << "--send: column 2: expected \\n";
        QTest::newRow("wrong signal") << QStringList{"run", bell, "--vcd", "/tmp/none.vcd", "--signals", "mcu.PZ9"} << "--signals: \"mcu.PZ9\" matches no pin or net";
        QTest::newRow("no such decoder") << QStringList{"run", bell, "--decode", "morse:mcu.PB0"} << "--decode: morse: is no decoder; expected uart, i2c";
        QTest::newRow("no such line") << QStringList{"run", bell, "--decode", "uart:mcu.PZ9"} << "--decode: uart:mcu.PZ9: \"mcu.PZ9\" is no pin or net of this bench";
        QTest::newRow("two on one stream") << QStringList{"run", bell, "--serial", "mcu.uart0=-", "--decode", "uart:mcu.PD1", "--decoded", "-"} << "--decoded: standard output carries the serial line already";
        QTest::newRow("nothing to decode") << QStringList{"run", bell, "--decoded", "x.csv"} << "--decoded: says where to; expected --decode SPEC too";
        QTest::newRow("unknown option") << QStringList{"run", bell, "--fast"} << "bramix-cli: ";
        QTest::newRow("unknown command") << QStringList{"fly"} << "bramix-cli: ";
        QTest::newRow("check of nothing") << QStringList{"check", "none.toml"} << "none.toml: no such file";
    }
    void unusableInputIsOneLineAndCodeTwo()
    {
        QFETCH(QStringList, arguments);
        QFETCH(QString, begins);
        const Outcome o = run(arguments);
        QCOMPARE(o.code, 2);
        QVERIFY2(o.err.startsWith(begins), qPrintable(o.err));
        QCOMPARE(o.err.trimmed().count('\n'), 0);
    }

    // Two boards: the first can never run again, or only the second.
    void theFirstOfTwoBoardsHalts()
    {
        const QString stops = image("stops", {0x94F8, 0xCFFF}), spins = image("spins", {0x0000, 0xCFFE});  // cli, rjmp .; nop, rjmp .-4
        for (const bool first : {true, false}) {
            const QString file = folder_.filePath("halting.toml");
            QFile out(file);
            QVERIFY(out.open(QIODevice::WriteOnly));
            out.write(QString("bramix = 1\n[[part]]\nid = \"a\"\nkind = \"briar-328\"\nfirmware = \"%1\"\n[[part]]\nid = \"b\"\nkind = \"briar-328\"\nat = [40, 0]\nfirmware = \"%2\"\n").arg(first ? stops : spins, first ? spins : stops).toUtf8());
            out.close();
            QCOMPARE(run({"run", file, "--until-halt", "--for", "20ms", "--quiet"}).code, first ? 0 : 1);
        }
    }

    void theFirmwaresOutputAloneIsOnStandardOutput()
    {
        const Outcome o = run({"run", "--chip", "atmega328p", "--firmware", example("bell-rope/firmware/bell-rope.elf"), "--for", "100ms", "--send", "uart0@50ms=0", "--log", "trace"});
        QCOMPARE(o.code, 0);
        QCOMPARE(o.out, "Bell tower ready\r\ncount from 1\r\n");
    }

    void standardInputReachesTheUartAndItsEndEndsNothing()
    {
        const Outcome o = run({"run", "--chip", "atmega328p", "--firmware", example("bell-rope/firmware/bell-rope.elf"), "--until-serial", "count from 1", "--for", "5s"}, "0");
        QCOMPARE(o.code, 0);
    }

    void controlsAndSendingHappenAtTheirTimes()
    {
        const QString vcd = folder_.filePath("bell.vcd");
        const Outcome o = run({"run", example("bell-rope/bench.toml"), "--for", "300ms", "--set", "rope.pressed@100ms=pressed", "--set", "rope.pressed@200ms=0", "--vcd", vcd, "--signals", "mcu.PB0,mcu.PD4", "--serial",
                               "mcu.uart0=" + folder_.filePath("said.txt")});
        QVERIFY2(o.code == 0, qPrintable(o.err));
        QVERIFY(o.out.isEmpty());
        QFile said(folder_.filePath("said.txt"));
        QVERIFY(said.open(QIODevice::ReadOnly));
        QCOMPARE(said.readAll(), "Bell tower ready\r\nstroke 1\r\n");
        QFile in(vcd);
        QVERIFY(in.open(QIODevice::ReadOnly));
        const QString dump = in.readAll();
        QVERIFY(dump.contains("$timescale 1 ps $end"));
        QVERIFY(dump.contains("$scope module mcu $end"));
        QVERIFY(dump.contains(" PB0 $end") && dump.contains(" PD4 $end") && !dump.contains("PB1"));
        // The key's first touch is at its very picosecond; the lamp follows within the firmware's loop.
        const qsizetype touch = dump.indexOf("#100000000000\n");
        QVERIFY(touch > 0);
        const qint64 lamp = dump.mid(dump.indexOf('#', touch + 1) + 1).section('\n', 0, 0).toLongLong();
        QVERIFY(lamp > 100'000'000'000 && lamp < 100'020'000'000);
    }

    void anUndrivenPinIsZAndOneWithItsPullUpOne()
    {
        // ldi r16,1 ; out PORTD,r16 ; sbi DDRB,5 ; rjmp .-2
        const QString firmware = image("pins", {0xE001, 0xB90B, 0x9A25, 0xCFFF});
        const QString vcd = folder_.filePath("pins.vcd");
        QCOMPARE(run({"run", "--chip", "atmega328p", "--firmware", firmware, "--max-cycles", "20", "--vcd", vcd, "--signals", "PB5,PD0,PD1", "--serial", "uart0=none"}).code, 0);
        QFile in(vcd);
        QVERIFY(in.open(QIODevice::ReadOnly));
        const QString dump = in.readAll();
        const auto code = [&](const char* name) { return dump.section(QString(" %1 $end").arg(name), 0, 0).section(' ', -1); };
        const QString start = dump.section("$dumpvars", 1).section("$end", 0, 0);
        for (const char* pin : {"PB5", "PD0", "PD1"})
            QVERIFY(start.contains("z" + code(pin) + "\n"));
        // out ends at cycle 2, sbi at cycle 4: 125 and 250 ns.
        QVERIFY(dump.contains("#125000\n1" + code("PD0") + "\n"));
        QVERIFY(dump.contains("#250000\n0" + code("PB5") + "\n"));
        QVERIFY(!dump.contains("1" + code("PD1") + "\n"));
    }

    void theResetLineOfABareChipIsALiveControl()
    {
        const QString file = folder_.filePath("reset.json");
        const QString firmware = image("count", {0xCFFF});
        QCOMPARE(run({"run", "--chip", "atmega328p", "--clock", "8MHz", "--firmware", firmware, "--for", "2ms", "--set", "mcu.RESET@0s=0", "--set", "mcu.RESET@1ms=1", "--report", file}).code, 0);
        // Held for 1 ms of 2 at 8 MHz: about half of the instructions of a run that was not.
        const auto instructions = report(file)["chips"].toArray()[0].toObject()["instructions"].toInteger();
        QVERIFY2(std::abs(instructions - 4000) < 20, qPrintable(QString::number(instructions)));
    }

    void equalRunsAreEqualBitForBit()
    {
        QByteArray dumps[2];
        for (QByteArray& dump : dumps) {
            const QString vcd = folder_.filePath("equal.vcd");
            QCOMPARE(run({"run", example("withy-lock/bench.toml"), "--for", "800ms", "--set", "keeper.pressed@100ms=1", "--seed", "7", "--vcd", vcd}).code, 0);
            QFile in(vcd);
            QVERIFY(in.open(QIODevice::ReadOnly));
            dump = in.readAll();
        }
        QVERIFY(!dumps[0].isEmpty());
        QVERIFY(dumps[0] == dumps[1]);
    }

    void aPseudoTerminalCarriesBothWaysAndOutlivesItsUsers()
    {
        QProcess process;
        process.start(QString(BRAMIX_TEST_BINARIES) + "/bin/bramix-cli", {"run", "--chip", "atmega328p", "--firmware", example("bell-rope/firmware/bell-rope.elf"), "--serial", "uart0=pty", "--pace", "real", "--for", "20s"});
        QVERIFY(process.waitForStarted());
        QByteArray announced;
        QTRY_VERIFY((announced += process.readAllStandardError()).contains('\n'));
        QVERIFY(announced.startsWith("uart0: /dev/pts/"));
        const QByteArray path = announced.mid(7).trimmed();
        for (int user = 0; user < 2; ++user) {
            const int fd = open(path.constData(), O_RDWR | O_NOCTTY | O_NONBLOCK);
            QVERIFY(fd >= 0);
            QCOMPARE(write(fd, "0", 1), 1);
            QByteArray said;
            char buffer[256];
            QTRY_VERIFY([&] {
                const ssize_t n = read(fd, buffer, sizeof buffer);
                if (n > 0)
                    said.append(buffer, n);
                return said.contains("count from 1\r\n");
            }());
            close(fd);
        }
        // Ctrl-C ends it cleanly.
        ::kill(static_cast<pid_t>(process.processId()), SIGINT);
        QVERIFY(process.waitForFinished(5000));
        QCOMPARE(process.exitCode(), 0);
    }

    void fusesOfABareChip_data()
    {
        QTest::addColumn<QStringList>("fuses");
        QTest::addColumn<int>("hz");
        QTest::newRow("none: the crystal") << QStringList{} << 16'000'000;
        QTest::newRow("internal, divided by 8") << QStringList{"CKSEL=2", "ckdiv8=0"} << 1'000'000;
        QTest::newRow("a byte: as shipped") << QStringList{"low=0x62"} << 1'000'000;
        QTest::newRow("128 kHz") << QStringList{"CKSEL=0b0011"} << 128'000;
    }
    void fusesOfABareChip()
    {
        QFETCH(QStringList, fuses);
        QFETCH(int, hz);
        QStringList arguments{"run", "--chip", "atmega328p", "--firmware", example("bell-rope/firmware/bell-rope.elf"), "--for", "1ms", "--serial", "uart0=none", "--report", "-"};
        for (const QString& fuse : fuses)
            arguments << "--fuse" << fuse;
        const Outcome o = run(arguments);
        QCOMPARE(o.code, 0);
        QCOMPARE(QJsonDocument::fromJson(o.out.toUtf8())["chips"][0]["clock_hz"].toInt(), hz);
    }

    void aWrongFuseIsOneLine_data()
    {
        QTest::addColumn<QString>("fuse");
        QTest::addColumn<QString>("error");
        QTest::newRow("no value") << "BOOTRST" << "--fuse: \"BOOTRST\"; expected NAME=VALUE, as in BOOTRST=0\n";
        QTest::newRow("out of range") << "SUT=7" << "--fuse: \"SUT=7\": expected 0 to 3 (0 is programmed), also as 0b11\n";
        QTest::newRow("no byte") << "low=300" << "--fuse: \"low=300\": expected a byte, as in 0x62\n";
    }
    void aWrongFuseIsOneLine()
    {
        QFETCH(QString, fuse);
        QFETCH(QString, error);
        const Outcome o = run({"run", "--chip", "atmega328p", "--firmware", example("bell-rope/firmware/bell-rope.elf"), "--fuse", fuse});
        QCOMPARE(o.code, 2);
        QCOMPARE(o.err.trimmed(), error.trimmed());
    }

    // The example with a chip alone: its probe is turned, its lamp follows, and it remembers the driest reading over the next start.
    void theCheeseCaveFollowsItsProbe()
    {
        const QString cave = folder_.filePath("cave");
        QVERIFY(QDir().mkpath(cave + "/firmware"));
        QVERIFY(QFile::copy(example("cheese-cave/bench.toml"), cave + "/bench.toml"));
        QVERIFY(QFile::copy(example("cheese-cave/firmware/cheese-cave.elf"), cave + "/firmware/cheese-cave.elf"));
        const QString vcd = folder_.filePath("cave.vcd");
        const Outcome o = run({"run", cave + "/bench.toml", "--for", "4s", "--set", "probe.volts@1s=1V", "--set", "probe.volts@3s=4V", "--vcd", vcd, "--signals", "mcu.PB0", "--report", "-"});
        QCOMPARE(o.code, 0);
        QCOMPARE(QJsonDocument::fromJson(o.out.toUtf8())["findings"].toArray().size(), 0);
        QFile dump(vcd);
        QVERIFY(dump.open(QIODevice::ReadOnly));
        qint64 at = 0, on = -1, off = -1;
        for (const QByteArray& line : dump.readAll().split('\n')) {
            if (line.startsWith('#'))
                at = line.mid(1).toLongLong();
            else if (line.startsWith('1') && on < 0)
                on = at;
            else if (line.startsWith('0') && on >= 0)
                off = at;
        }
        // At its next look, within a quarter of a second.
        QVERIFY2(on > 1'000'000'000'000 && on < 1'300'000'000'000, qPrintable(QString::number(on)));
        QVERIFY2(off > 3'000'000'000'000 && off < 3'300'000'000'000, qPrintable(QString::number(off)));
        QFile kept(cave + "/mcu.eeprom.hex");
        QVERIFY(kept.open(QIODevice::ReadOnly));
        QVERIFY(kept.readAll().startsWith(":1000000033"));  // 1 V of 5 V in 256 steps: 51
        QCOMPARE(run({"run", cave + "/bench.toml", "--for", "1s", "--set", "probe.volts=1"}).code, 2);
        QCOMPARE(run({"run", cave + "/bench.toml", "--for", "1s", "--set", "probe.volts@0s=20"}).code, 2);
    }

    // What a decoder reads from the wire is what the serial line was given; a bus tells which part is spoken to.
    void decodersReadWhatTheFirmwareSays()
    {
        const QString csv = folder_.filePath("decoded.csv"), serial = folder_.filePath("serial.txt");
        const Outcome o = run({"run", example("frost-alarm/bench.toml"), "--for", "5s", "--serial", "mcu.uart0=" + serial, "--decode", "uart:mcu.PD1,baud=9600", "--decoded", csv, "--quiet"});
        QVERIFY2(o.code == 0, qPrintable(o.err));
        QFile lines(csv), said(serial);
        QVERIFY(lines.open(QIODevice::ReadOnly) && said.open(QIODevice::ReadOnly));
        QCOMPARE(lines.readLine().trimmed(), QByteArray("from_s,to_s,decoder,what,value,good,text"));
        QByteArray bytes;
        double last = 0;
        while (!lines.atEnd()) {
            const QList<QByteArray> fields = lines.readLine().trimmed().split(',');
            QVERIFY(fields.size() >= 7);
            QCOMPARE(fields[3], QByteArray("byte"));
            QCOMPARE(fields[5], QByteArray("1"));
            QVERIFY(fields[0].toDouble() > last && fields[1].toDouble() > fields[0].toDouble());
            last = fields[0].toDouble();
            bytes += static_cast<char>(fields[4].toInt());
        }
        QVERIFY(bytes.size() > 20);
        QCOMPARE(bytes, said.readAll());

        // The clock chip answers at 0x68, the display's port at 0x27 (PCF8574), and nobody else is spoken to.
        // Read at twice the rate it makes no sense, and that is a finding.
        const Outcome wrong = run({"run", example("bell-rope/bench.toml"), "--for", "50ms", "--decode", "uart:mcu.PD1,baud=19200", "--report", "-"});
        const QJsonArray findings = QJsonDocument::fromJson(wrong.out.toUtf8()).object()["findings"].toArray();
        QVERIFY2(findings.size() == 1 && findings[0].toObject()["rule"] == "line-error" && findings[0].toObject()["message"].toString().contains("uart on mcu.PD1 reads"), qPrintable(wrong.out));
        const Outcome bus = run({"run", example("tide-clock/bench.toml"), "--for", "300ms", "--quiet", "--decode", "i2c:SDA=mcu.PC4,SCL=mcu.PC5"});
        QCOMPARE(bus.code, 0);
        QSet<QString> addresses;
        for (const QString& line : bus.err.split('\n'))
            if (line.contains(": address "))
                addresses << line.section(": address ", 1).section(' ', 0, 0);
        QVERIFY2((addresses == QSet<QString>{"0x27", "0x68"}), qPrintable(QStringList(addresses.values()).join(' ')));
        QVERIFY(!bus.err.contains("! "));
    }

    void listAndCheckAndVersion()
    {
        QVERIFY(run({"list", "chips"}).out.startsWith("atmega328p"));
        const QString parts = run({"list", "parts"}).out;
        for (const char* kind : {"briar-328", "led", "resistor", "push-button", "slide-switch", "supply-5v", "supply-3v3", "ground"})
            QVERIFY2(parts.contains(QString("\n%1 ").arg(kind)) || parts.startsWith(QString("%1 ").arg(kind)), kind);
        QVERIFY(run({"--version"}).out.startsWith("bramix-cli "));
        const Outcome good = run({"check", example("withy-lock/bench.toml")});
        QCOMPARE(good.code, 0);
        QVERIFY(good.out.contains("can run"));
        QFile bench(folder_.filePath("short.toml"));
        QVERIFY(bench.open(QIODevice::WriteOnly));
        bench.write("bramix = 1\n[[part]]\nid = \"v\"\nkind = \"supply-5v\"\n[[part]]\nid = \"g\"\nkind = \"ground\"\n[[wire]]\nends = [\"v.V\", \"g.V\"]\n");
        bench.close();
        const Outcome bad = run({"check", bench.fileName()});
        QCOMPARE(bad.code, 1);
        QVERIFY(bad.out.contains("[supply-short]"));
    }

    // 4.2 V over a diode, 100 ohms and a white LED; figures as numbers, a line a value.
    void sweepWritesCsv()
    {
        const Outcome good = run({"sweep", example("buoy-lamp/bench.toml"), "--vary", "supply1.volts=0V..6V", "--points", "4", "--curves", "r1.resistance=100,220", "--plot", "lamp:current", "--plot", "lamp.A:lamp.K"});
        QCOMPARE(good.code, 0);
        const QStringList lines = QString(good.out).split('\n', Qt::SkipEmptyParts);
        QCOMPARE(lines.size(), 5);
        QVERIFY2(lines[0].startsWith("\"supply1.volts [V]\",\"lamp:current, r1.resistance 100 Ω [A]\""), qPrintable(lines[0]));
        const QStringList last = lines[4].split(',');
        QCOMPARE(last.size(), 5);
        QCOMPARE(last[0].toDouble(), 6.0);
        // What is left over the resistor: about 6 V less 0.7 V and 3.2 V.
        QVERIFY(last[1].toDouble() > 0.018 && last[1].toDouble() < 0.024 && last[2].toDouble() > 0.008 && last[2].toDouble() < 0.012);
        const QString file = folder_.filePath("sweep.csv");
        QCOMPARE(run({"sweep", example("buoy-lamp/bench.toml"), "--vary", "r1.resistance=10..10k", "--ratio", "--plot", "lamp:power", "--csv", file}).code, 0);
        QVERIFY(QFile(file).size() > 1000);
        const auto wrong = [&](const QStringList& more) { return run(QStringList{"sweep", example("buoy-lamp/bench.toml")} + more); };
        QCOMPARE(wrong({"--vary", "supply1.volts=0..6", "--plot", "lamp:light"}).code, 2);
        QVERIFY(wrong({"--vary", "supply1.volts=6", "--plot", "lamp:current"}).err.contains("expected a range, such as 0V..5V"));
        QVERIFY(wrong({"--vary", "lamp.color=1..2", "--plot", "lamp:current"}).err.contains("is no figure that a sweep could move"));
        QVERIFY(wrong({"--vary", "r1.resistance=-5..5", "--plot", "lamp:current"}).err.contains("r1.resistance"));
    }

    // docs/parts is what the manifests say.
    void theirPagesAreThoseOfTheManifests()
    {
        QTemporaryDir pages;
        QCOMPARE(run({"pages", pages.path()}).code, 0);
        const QDir there(QString(BRAMIX_TEST_SOURCES) + "/../docs/parts");
        const QStringList names = QDir(pages.path()).entryList(QDir::Files);
        QVERIFY(names.size() > 70);
        QCOMPARE(there.entryList(QDir::Files), names);
        for (const QString& name : names) {
            QFile a(pages.filePath(name)), b(there.filePath(name));
            QVERIFY(a.open(QIODevice::ReadOnly) && b.open(QIODevice::ReadOnly));
            QVERIFY2(a.readAll() == b.readAll(), qPrintable(name + " is another; bramix-cli pages docs/parts writes it"));
        }
    }

    void wildcards()
    {
        QVERIFY(cli::matchesWildcard("mcu.PB*", "mcu.PB5"));
        QVERIFY(cli::matchesWildcard("*", ""));
        QVERIFY(cli::matchesWildcard("m?u.*5", "mcu.PB5"));
        QVERIFY(!cli::matchesWildcard("mcu.PB*", "mcu.PD5"));
        QVERIFY(!cli::matchesWildcard("", "x"));
        QCOMPARE(*cli::unescape("--send", "a\\n\\r\\x41\\\\"), "a\n\rA\\");
    }
};

QTEST_GUILESS_MAIN(CliTest)
#include "cli_test.moc"
