#include "app/shell/system_look.h"

#include <QDBusConnection>
#include <QDBusMessage>
#include <QDBusPendingCallWatcher>
#include <QDBusPendingReply>
#include <QGuiApplication>
#include <QPalette>

#include "app/shell/settings.h"

namespace bramix::app {

namespace {

constexpr const char* kService = "org.freedesktop.portal.Desktop";
constexpr const char* kPath = "/org/freedesktop/portal/desktop";
constexpr const char* kInterface = "org.freedesktop.portal.Settings";
constexpr const char* kGroup = "org.freedesktop.appearance";
constexpr const char* kKey = "color-scheme";
constexpr uint kPrefersDark = 1, kPrefersLight = 2;

theme::Look lookOf(const QPalette& palette) { return palette.color(QPalette::Window).lightnessF() < 0.45 ? theme::Look::dark : theme::Look::light; }

}  // namespace

SystemLook::SystemLook(QObject* parent) : QObject(parent), look_(lookOf(QGuiApplication::palette()))
{
    QDBusConnection bus = QDBusConnection::sessionBus();
    if (!bus.isConnected())
        return;
    bus.connect(kService, kPath, kInterface, "SettingChanged", this, SLOT(portalSaid(QString, QString, QDBusVariant)));
    QDBusMessage question = QDBusMessage::createMethodCall(kService, kPath, kInterface, "Read");
    question << QString(kGroup) << QString(kKey);
    // A desktop without a portal never answers: nobody waits for it.
    constexpr int kPatienceMs = 2000;
    auto* watcher = new QDBusPendingCallWatcher(bus.asyncCall(question, kPatienceMs), this);
    connect(watcher, &QDBusPendingCallWatcher::finished, this, [this](QDBusPendingCallWatcher* done) {
        if (const QDBusPendingReply<QDBusVariant> reply = *done; reply.isValid())
            take(reply.value().variant());
        done->deleteLater();
    });
}

void SystemLook::portalSaid(const QString& group, const QString& key, const QDBusVariant& value)
{
    if (group == kGroup && key == kKey)
        take(value.variant());
}

void SystemLook::take(const QVariant& value)
{
    // Read wraps the value twice.
    const QVariant inner = value.canConvert<QDBusVariant>() ? value.value<QDBusVariant>().variant() : value;
    const uint scheme = inner.toUInt();
    if (scheme != kPrefersDark && scheme != kPrefersLight)
        return;
    const theme::Look now = scheme == kPrefersDark ? theme::Look::dark : theme::Look::light;
    if (std::exchange(look_, now) != now)
        emit changed();
}

void applyLook(const SystemLook& system)
{
    const settings::LookChoice choice = settings::look();
    const theme::Look wanted = choice == settings::LookChoice::desktop ? system.look() : choice == settings::LookChoice::dark ? theme::Look::dark : theme::Look::light;
    theme::setLook(wanted);
}

}  // namespace bramix::app
