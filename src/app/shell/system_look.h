// Whether the desktop is set to light or dark: by the XDG desktop portal's setting org.freedesktop.appearance color-scheme
// (https://flatpak.github.io/xdg-desktop-portal, version 1: 1 prefers dark, 2 prefers light, 0 has no preference), else by the palette
// that the desktop gave to the application. A change on the desktop is heard while we run.
// Tested by tests/app/look_test.cpp.
#pragma once

#include <QDBusVariant>
#include <QObject>

#include "app/shell/theme.h"

namespace bramix::app {

class SystemLook : public QObject {
    Q_OBJECT

public:
    // Before a palette of our own is set, which would be taken for the desktop's.
    explicit SystemLook(QObject* parent = nullptr);
    [[nodiscard]] theme::Look look() const { return look_; }

signals:
    void changed();

private slots:
    void portalSaid(const QString& group, const QString& key, const QDBusVariant& value);

private:
    void take(const QVariant& value);

    theme::Look look_;
};

// As the settings want it: at once, and again whenever they or the desktop change.
void applyLook(const SystemLook& system);

}  // namespace bramix::app
