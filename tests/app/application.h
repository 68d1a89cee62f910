// What every window test begins with: settings of its own, the look, and the catalogue.
#pragma once

#include <QtTest>

#include <QApplication>
#include <QStandardPaths>

#include "app/shell/theme.h"
#include "bench/catalogue.h"

namespace bramix::test {

inline void prepareApplication(bench::Catalogue& catalogue)
{
    QStandardPaths::setTestModeEnabled(true);
    QCoreApplication::setOrganizationName("bramix-test");
    auto loaded = bench::Catalogue::loadInstalled();
    QVERIFY2(loaded, loaded ? "" : loaded.error().text().c_str());
    catalogue = std::move(*loaded);
    qApp->setStyleSheet(app::theme::styleSheet());
}

}  // namespace bramix::test
