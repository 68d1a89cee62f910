#include "app/shell/settings.h"

#include <QDir>
#include <QSettings>
#include <algorithm>

#include "session/live/live_session.h"

namespace bramix::app::settings {

namespace {

int number(const char* key, int usual, int least, int most) { return std::clamp(QSettings().value(key, usual).toInt(), least, most); }

}  // namespace

LookChoice look()
{
    const QString kept = QSettings().value("look/theme").toString();
    return kept == "light" ? LookChoice::light : kept == "dark" ? LookChoice::dark : LookChoice::desktop;
}

int textPercent() { return number("look/text", 100, kLeastText, kMostText); }
bool startsAtFullSpeed() { return QSettings().value("run/fullSpeed", false).toBool(); }
int tapeMegabytes() { return number("tape/megabytes", static_cast<int>(session::LiveSession::kTapeBytes >> 20U), kLeastTape, kMostTape); }
int autosaveSeconds() { return number("autosave/seconds", kLeastAutosave, kLeastAutosave, kMostAutosave); }
QString benchFolder() { return QSettings().value("benches/folder", QDir::homePath()).toString(); }
bool mayOpen(Port port) { return QSettings().value(port == Port::gdb ? "ports/gdb" : "ports/serial", true).toBool(); }

}  // namespace bramix::app::settings
